package open

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/ods"
	"paletwin/core/table/xlsx"
)

// AllSheets is the sheet that stands for all of a workbook that are not hidden and have cells.
const AllSheets = "*"

// together opens all sheets of a workbook as one table: the columns are those of all of them, by
// their headings, and a record does not have the fields that its sheet lacks. A copy that was
// lent has its records on one sheet.
func together(name string, data []byte, o table.Options) (*table.Image, error) {
	names, err := sheets(name, data)
	if err != nil {
		return nil, err
	}
	var all []*table.Image
	var from []string
	for _, s := range names {
		one := o
		one.Sheet = s
		m, err := archive(name, data, one)
		var e *table.Error
		if errors.As(err, &e) && e.Code == table.Empty {
			continue
		}
		if err != nil {
			return nil, err
		}
		if m.Lent != nil {
			return m, nil
		}
		all, from = append(all, m), append(from, s)
	}
	if len(all) == 0 {
		return nil, &table.Error{Code: table.Empty, File: name, Text: "no sheet of the workbook has any cells"}
	}
	return join(name, all, from, o)
}

// sheets lists the sheets of a workbook that are not hidden.
func sheets(name string, data []byte) ([]string, error) {
	isODS, err := spreadsheet(name, data)
	switch {
	case err != nil:
		return nil, err
	case isODS:
		return ods.Sheets(name, data)
	}
	return xlsx.Sheets(name, data)
}

// join makes one table of several.
func join(name string, all []*table.Image, from []string, o table.Options) (*table.Image, error) {
	var heading []string
	for _, m := range all {
		for _, h := range m.Heading {
			if !slices.Contains(heading, h) {
				heading = append(heading, h)
			}
		}
	}
	as := -1
	if o.SheetAs != "" {
		if slices.Contains(heading, o.SheetAs) {
			return nil, &table.Error{Code: table.TwiceHeading, File: name, Row: all[0].HeadingRow, Text: fmt.Sprintf("the sheets' names are to be the column %q, and there is one already", o.SheetAs)}
		}
		as, heading = len(heading), append(heading, o.SheetAs)
	}
	var out []byte
	cell := func(i int, text string, quoted bool) {
		if i > 0 {
			out = append(out, ',')
		}
		out = csv.AppendCell(out, text, ',', quoted)
	}
	for i, h := range heading {
		cell(i, h, true)
	}
	out = append(out, '\n')
	var rows []int
	var notes []table.Note
	for n, m := range all {
		at := make([]int, len(heading))
		for i, h := range heading {
			at[i] = slices.Index(m.Heading, h)
		}
		for _, x := range m.Notes {
			if x.Code != "other-sheets" {
				x.Text = fmt.Sprintf("sheet %q: %s", from[n], x.Text)
				notes = append(notes, x)
			}
		}
		err := csv.Each(context.Background(), m, func(r *csv.Line) error {
			for i, col := range at {
				v, there := r.Value(col)
				switch {
				case i == as:
					cell(i, from[n], true)
				case col < 0 || !there && m.Nulls:
					cell(i, csv.Absent, false)
				default:
					cell(i, v.String(), true)
				}
			}
			out = append(out, '\n')
			rows = append(rows, n*table.SheetRows+r.Number())
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	found := all[0].Found
	found.Sheet, found.HeadingRow = AllSheets, 0
	img, err := csv.Built(name, out, found)
	if err != nil {
		return nil, err
	}
	img.Built, img.Rows, img.Sheets, img.Notes = true, rows, from, notes
	return img, nil
}
