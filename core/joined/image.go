package joined

import (
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// image makes the set's table, with where its rows stand.
func (s *setOf) image() error {
	img, err := s.table(s.cell)
	if err != nil {
		return err
	}
	img.Part, img.At = !s.listed, s.where()
	base, known := s.x.j.Base()
	img.Loose = !s.listed && (s.x.j.List != "" || known && s.x.parts[base].set != s)
	s.notes(img)
	s.shown(img)
	if len(s.out.Moved) > 0 && !s.listed {
		from := map[record.Key]bool{}
		for _, x := range s.out.Moved {
			from[s.Schema.Key(x.From)] = true
		}
		img.Covers = func(k record.Key) bool { return from[s.Schema.Key(k)] }
	}
	s.out.Image = img
	return nil
}

// table writes a row for each of the sheet's records, with a cell for each field.
func (s *setOf) table(cell func(g int32, f int) []byte) (*table.Image, error) {
	m := s.x.sheet
	out := make([]byte, 0, int64(len(m.Data))*int64(len(s.fields))/int64(len(m.Heading))*int64(len(s.groups))/int64(max(1, s.x.cells.len()))+1<<12)
	for i, f := range s.fields {
		if i > 0 {
			out = append(out, ',')
		}
		out = csv.AppendCell(out, f, ',', false)
	}
	out = append(out, '\n')
	rows := make([]int, len(s.groups))
	for i := range s.groups {
		for f := range s.fields {
			if f > 0 {
				out = append(out, ',')
			}
			out = s.appendCell(out, cell(int32(i), f))
		}
		if len(s.fields) == 1 && len(csv.Unquote(cell(int32(i), 0))) == 0 {
			out = append(out, `""`...)
		}
		out = append(out, '\n')
		rows[i] = s.x.cells.row(s.groups[i].row)
	}
	img, err := csv.Built(m.Name, out, m.Found)
	if err == nil {
		img.Built, img.Rows, img.Narrow, img.Sheets = true, rows, true, m.Sheets
	}
	return img, err
}

// appendCell writes a cell of the sheet, nil as what is not said.
func (s *setOf) appendCell(out, cell []byte) []byte {
	if cell == nil {
		return append(out, csv.Absent...)
	}
	if s.x.sheet.Comma == ',' && len(cell) > 0 {
		return append(out, cell...) // an absent one, too
	}
	v, there := csv.Value(s.x.sheet, cell)
	switch {
	case !there:
		return append(out, csv.Absent...)
	case v.IsNull():
		return out
	}
	return csv.AppendCell(out, v.String(), ',', v.Blank())
}

// where says where the value of a field stands.
func (s *setOf) where() func(row int, field string) int {
	if s.listed {
		return nil
	}
	type where struct {
		row   int
		field string
	}
	all := map[where]int{}
	for i := range s.groups {
		for f := range s.fields {
			if at := s.said[i*len(s.fields)+f]; at.row >= 0 && at.row != s.groups[i].row {
				all[where{s.x.cells.row(s.groups[i].row), s.fields[f]}] = s.x.cells.row(at.row)
			}
		}
	}
	if len(all) == 0 {
		return nil
	}
	return func(row int, field string) int {
		if at, there := all[where{row, field}]; there {
			return at
		}
		return row
	}
}

// notes takes what was noted of the sheet's columns; what is of no one column is the listed set's, or
// the first's.
func (s *setOf) notes(img *table.Image) {
	first := s == s.x.sets[0]
	if i := slices.IndexFunc(s.x.sets, func(o *setOf) bool { return o.listed }); i >= 0 {
		first = s.listed
	}
	for _, n := range s.x.sheet.Notes {
		if s.x.sheet.Lent != nil && n.Code == changeset.OtherSheets.Name {
			continue // its instructions
		}
		field := ""
		for _, p := range s.parts {
			for f, c := range p.cols {
				if c >= 0 && layout.HeadingForm(s.x.sheet.Heading[c]) == layout.HeadingForm(n.Column) {
					field = s.fields[f]
				}
			}
		}
		switch {
		case field != "":
			n.Column = field
			img.Notes = append(img.Notes, n)
		case first && n.Column == "":
			img.Notes = append(img.Notes, n)
		}
	}
}

// shown takes over what number formats show.
func (s *setOf) shown(img *table.Image) {
	if s.x.sheet.Shown == nil {
		return
	}
	img.Shown = make([]int, len(s.fields))
	for f := range s.fields {
		img.Shown[f] = -1
		for _, p := range s.parts {
			if c := p.cols[f]; c >= 0 && c < len(s.x.sheet.Shown) {
				img.Shown[f] = s.x.sheet.Shown[c]
			}
		}
	}
}
