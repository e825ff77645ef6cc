package joined

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Known is a record set of which a joined sheet is to be drafted.
type Known struct {
	Name   string
	Table  *table.Image
	Key    []string
	Layout *layout.Layout // or nil
}

// Draft writes a first layout of a joined sheet of record sets: which of them refers to which is told by
// their layouts, and else by columns all of whose values are keys of another set. sheet is one that came
// back, whose headings are taken, or nil. What was seen stands in comments.
func Draft(ctx context.Context, name string, sets []*Known, sheet *table.Image) ([]byte, error) {
	x := &drafting{sets: sets, sheet: sheet}
	for _, s := range sets {
		keys, err := keysOf(ctx, s)
		if err != nil {
			return nil, err
		}
		x.keys = append(x.keys, keys)
	}
	for i := range sets {
		if err := x.references(ctx, i); err != nil {
			return nil, err
		}
	}
	if sheet != nil {
		if err := x.lookAtSheet(ctx); err != nil {
			return nil, err
		}
	}
	x.parts()
	return x.write(name), nil
}

// drafting is a layout that is being drafted.
type drafting struct {
	sets  []*Known
	keys  []map[string]bool // of sets whose key is one field, its values
	sheet *table.Image
	found []found
	fits  [][]float64 // by columns of the sheet and sets: the share of its values that are keys of the set
	list  int         // the set whose rows are records
	all   []draftPart
}

// found is a column that names the records of another set.
type found struct {
	from, to int
	field    string
	why      string
}

// draftPart is a part that is proposed.
type draftPart struct {
	name    string
	set     int
	by      string // the heading by which it is referred to; "" of the list
	why     string
	columns []layout.JoinedColumn
}

func keysOf(ctx context.Context, s *Known) (map[string]bool, error) {
	if len(s.Key) != 1 {
		return nil, nil
	}
	col := s.Table.Column(s.Key[0])
	all := map[string]bool{}
	return all, csv.Each(ctx, s.Table, func(r *csv.Line) error {
		all[r.Text(col)] = true
		return nil
	})
}

// references finds which fields of a set name records of which others.
func (x *drafting) references(ctx context.Context, from int) error {
	s := x.sets[from]
	told := map[string]bool{}
	if s.Layout != nil {
		for i := range s.Layout.Fields {
			f := &s.Layout.Fields[i]
			if f.List == nil {
				continue
			}
			to := slices.IndexFunc(x.sets, func(o *Known) bool { return o.Name == f.List.Set() })
			if to >= 0 && to != from && slices.Equal(x.sets[to].Key, []string{f.List.By}) && s.Table.Column(f.Name) >= 0 {
				x.found = append(x.found, found{from, to, f.Name, "by the layout of " + s.Name})
				told[f.Name] = true
			}
		}
	}
	return x.byValues(ctx, from, told)
}

// byValues finds columns all of whose values are keys of another set.
func (x *drafting) byValues(ctx context.Context, from int, told map[string]bool) error {
	s := x.sets[from]
	fits := make([][]bool, len(s.Table.Heading)) // by column and set
	filled := make([]int, len(s.Table.Heading))
	for c := range fits {
		fits[c] = make([]bool, len(x.sets))
		for to := range x.sets {
			own := len(s.Key) == 1 && s.Table.Heading[c] == s.Key[0]
			fits[c][to] = to != from && x.keys[to] != nil && !own && !told[s.Table.Heading[c]]
		}
	}
	err := csv.Each(ctx, s.Table, func(r *csv.Line) error {
		for c := range fits {
			v := r.Text(c)
			if v == "" {
				continue
			}
			filled[c]++
			for to := range fits[c] {
				fits[c][to] = fits[c][to] && x.keys[to][v]
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	const enough = 3 // values that are keys by chance are no reference
	for c, h := range s.Table.Heading {
		for to, fit := range fits[c] {
			if fit && filled[c] >= enough {
				x.found = append(x.found, found{from, to, h, fmt.Sprintf("all %d values of %s are keys of %s", filled[c], h, x.sets[to].Name)})
				break
			}
		}
	}
	return nil
}

// parts makes the parts of what was found: the set that no other refers to is a row.
func (x *drafting) parts() {
	x.list = slices.IndexFunc(x.sets, func(s *Known) bool {
		return !slices.ContainsFunc(x.found, func(f found) bool { return x.sets[f.to] == s })
	})
	x.list = max(x.list, 0)
	done := make([]bool, len(x.sets))
	x.part(draftPart{name: x.sets[x.list].Name, set: x.list}, nil, done)
	for i := range x.sets {
		if !done[i] {
			x.part(draftPart{name: x.sets[i].Name, set: i, why: "nothing was found that refers to it"}, nil, done)
		}
	}
}

// part takes a part, and those that it refers to.
func (x *drafting) part(p draftPart, above []int, done []bool) {
	s := x.sets[p.set]
	done[p.set] = true
	for _, h := range s.Table.Heading {
		heading := x.heading(&p, h)
		if heading != "" {
			p.columns = append(p.columns, layout.JoinedColumn{Heading: heading, Field: h})
		}
	}
	x.all = append(x.all, p)
	above = append(slices.Clone(above), p.set)
	for _, f := range x.found {
		if f.from != p.set || slices.Contains(above, f.to) {
			continue
		}
		name, several := x.sets[f.to].Name, 0
		for _, o := range x.found {
			if o.to == f.to {
				several++
			}
		}
		if several > 1 {
			name = f.field
		}
		by := ""
		for _, c := range x.all[slices.IndexFunc(x.all, func(o draftPart) bool { return o.name == p.name })].columns {
			if c.Field == f.field {
				by = c.Heading
			}
		}
		if by != "" {
			x.part(draftPart{name: name, set: f.to, by: by, why: f.why}, above, done)
		}
	}
}

// heading is the sheet's heading of a field of a part: what the part is referred to by, of its key; else the
// field's name, with the part's where another part has that. Of a sheet that is there it is what stands there.
func (x *drafting) heading(p *draftPart, field string) string {
	s := x.sets[p.set]
	if p.by != "" && len(s.Key) == 1 && field == s.Key[0] {
		return p.by
	}
	names := []string{p.name + " " + field, p.name + "_" + field}
	if !x.taken(field) {
		names = slices.Insert(names, 0, field)
	}
	if p.by != "" {
		names = append(names, p.by+" "+field, p.by+"_"+field)
	}
	if s.Layout != nil {
		if f := s.Layout.Field(field); f != nil {
			names = append(names, f.Title)
			names = append(names, f.Aliases...)
		}
	}
	if x.sheet == nil {
		return names[0]
	}
	if to := x.refersTo(p.set, field); to >= 0 {
		names = append(names, x.byKeys(to))
	}
	for _, n := range names {
		i := slices.IndexFunc(x.sheet.Heading, func(h string) bool { return n != "" && layout.HeadingForm(h) == layout.HeadingForm(n) })
		if i >= 0 && !x.taken(x.sheet.Heading[i]) {
			return x.sheet.Heading[i]
		}
	}
	return ""
}

// refersTo is the set that a field names records of, its own where it is the key; -1 is none.
func (x *drafting) refersTo(set int, field string) int {
	for _, f := range x.found {
		if f.from == set && f.field == field {
			return f.to
		}
	}
	if slices.Equal(x.sets[set].Key, []string{field}) {
		return set
	}
	return -1
}

// byKeys is the heading of the sheet most of whose values are keys of a set, and which is no field's yet; ""
// where none has as many of these as others.
func (x *drafting) byKeys(set int) (heading string) {
	best := 0.5
	for c, h := range x.sheet.Heading {
		if x.fits[c][set] >= best && !x.taken(h) {
			heading, best = h, x.fits[c][set]
		}
	}
	return heading
}

// lookAtSheet finds the columns of the sheet whose values are keys. Some may be new.
func (x *drafting) lookAtSheet(ctx context.Context) error {
	filled := make([]int, len(x.sheet.Heading))
	known := make([][]int, len(x.sheet.Heading))
	for c := range known {
		known[c] = make([]int, len(x.sets))
	}
	err := csv.Each(ctx, x.sheet, func(r *csv.Line) error {
		for c := range filled {
			v := r.Text(c)
			if v == "" {
				continue
			}
			filled[c]++
			for s := range x.sets {
				if x.keys[s][v] {
					known[c][s]++
				}
			}
		}
		return nil
	})
	for c := range filled {
		fits := make([]float64, len(x.sets))
		for s := range fits {
			fits[s] = float64(known[c][s]) / float64(max(1, filled[c]))
		}
		x.fits = append(x.fits, fits)
	}
	return err
}

// taken reports whether a heading is another field's.
func (x *drafting) taken(heading string) bool {
	return slices.ContainsFunc(x.all, func(p draftPart) bool {
		return slices.ContainsFunc(p.columns, func(c layout.JoinedColumn) bool { return layout.HeadingForm(c.Heading) == layout.HeadingForm(heading) })
	})
}

func (x *drafting) write(name string) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# A first layout of a joined sheet, drafted from %s. Correct what is only so by chance.\n", x.from())
	fmt.Fprintf(&b, "record_set: %s\nlist: %s  # a row is a record of it, and the rows that are missing are to be deleted\njoins:\n", layout.Scalar(name), layout.Scalar(x.all[0].name))
	for _, p := range x.all {
		s := x.sets[p.set]
		if p.why != "" {
			fmt.Fprintf(&b, "  # %s\n", layout.OneLine(p.why))
		}
		fmt.Fprintf(&b, "  %s:\n", layout.Scalar(p.name))
		if p.name != s.Name {
			fmt.Fprintf(&b, "    of: %s\n", layout.Scalar(s.Name))
		}
		var key []string
		for _, k := range s.Key {
			key = append(key, layout.Scalar(k))
		}
		fmt.Fprintf(&b, "    key: [%s]\n    columns:\n", strings.Join(key, ", "))
		for _, c := range p.columns {
			fmt.Fprintf(&b, "      %s: %s\n", layout.Scalar(c.Heading), layout.Scalar(c.Field))
		}
		if lacking := x.lacking(&p); len(lacking) > 0 {
			fmt.Fprintf(&b, "      # the sheet has no heading like %s\n", layout.OneLine(strings.Join(lacking, ", ")))
		}
	}
	if x.sheet != nil {
		var other []string
		for _, h := range x.sheet.Heading {
			if h != "" && !x.taken(h) {
				other = append(other, h)
			}
		}
		if len(other) > 0 {
			fmt.Fprintf(&b, "# Columns of the sheet that are no field's: %s.\n# Give them to a field above, or say here that they are passed over:\n# columns: {ignore: [%s]}\n", layout.OneLine(strings.Join(other, ", ")), layout.OneLine(strings.Join(other, ", ")))
		}
	}
	return b.Bytes()
}

// lacking are the fields of a part that the sheet does not have.
func (x *drafting) lacking(p *draftPart) (all []string) {
	for _, h := range x.sets[p.set].Table.Heading {
		if !slices.ContainsFunc(p.columns, func(c layout.JoinedColumn) bool { return c.Field == h }) {
			all = append(all, h)
		}
	}
	return all
}

func (x *drafting) from() string {
	var names []string
	for _, s := range x.sets {
		names = append(names, layout.OneLine(s.Table.Name))
	}
	if x.sheet != nil {
		names = append(names, layout.OneLine(x.sheet.Name))
	}
	return strings.Join(names, ", ")
}
