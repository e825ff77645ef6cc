package joined

import (
	"context"
	"fmt"
	"slices"

	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// NoBase says that no part of a row refers to all the others, so that it is not known what a row is.
const NoBase table.Code = "no-base"

// Join puts a sheet together of record sets: a row for each record of the part that refers to the
// others, with what these have beside it. What refers to no record has the reference alone. Errors
// are *table.Error and that of ctx.
func Join(ctx context.Context, j *layout.Joined, sets map[string]*Set) (*table.Image, error) {
	x := &joiner{j: j, refs: j.References(), headings: j.Headings()}
	base, ok := j.Base()
	if !ok {
		return nil, &table.Error{Code: NoBase, File: j.Name, Text: "no part of a row refers to all the others: give the parts in common the columns that they refer by"}
	}
	for i := range j.Parts {
		p, err := x.part(ctx, &j.Parts[i], sets[j.Parts[i].Set])
		if err != nil {
			return nil, err
		}
		x.parts = append(x.parts, p)
	}
	out := x.line(x.headings)
	m := x.parts[base].set.Snapshot
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		cells := make([]string, len(x.headings))
		x.fill(base, r.Raw(), cells, make([]bool, len(x.headings)))
		out = append(out, x.line(cells)...)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return csv.OpenWith(j.Name, out, table.Options{Delimiter: ",", Encoding: "utf-8", HeadingRow: 1})
}

// joiner is a sheet that is put together.
type joiner struct {
	j        *layout.Joined
	refs     []layout.Reference
	headings []string
	parts    []*joinPart
}

// joinPart is a part with its records.
type joinPart struct {
	set  *Set
	cols []int // of the snapshot, by the part's columns
	to   []int // of the sheet
	rows *rows
}

func (x *joiner) part(ctx context.Context, p *layout.Part, s *Set) (*joinPart, error) {
	jp := &joinPart{set: s}
	for _, c := range p.Columns {
		col := s.Snapshot.Column(c.Field)
		if col < 0 {
			return nil, &table.Error{Code: "no-field", File: s.Snapshot.Name, Row: s.Snapshot.HeadingRow, Text: fmt.Sprintf("there is no column %q, which the layout of %s takes for %q", c.Field, x.j.Name, c.Heading)}
		}
		jp.cols = append(jp.cols, col)
		jp.to = append(jp.to, slices.IndexFunc(x.headings, func(h string) bool { return layout.HeadingForm(h) == layout.HeadingForm(c.Heading) }))
	}
	var err error
	jp.rows, err = readRows(ctx, s.Snapshot, p.Key, s.Layout.Schema())
	return jp, err
}

// fill writes a record and those that it refers to into a row.
func (x *joiner) fill(part int, raw []byte, cells []string, done []bool) {
	p := x.parts[part]
	for i, col := range p.cols {
		if to := p.to[i]; !done[to] {
			cell, _ := csv.Cell(raw, col, p.set.Snapshot.Comma)
			v, _ := csv.Value(p.set.Snapshot, cell)
			cells[to], done[to] = v.String(), true
		}
	}
	for _, r := range x.refs {
		if r.From != part {
			continue
		}
		var enc []byte
		for _, f := range r.Fields {
			cell, _ := csv.Cell(raw, p.set.Snapshot.Column(f), p.set.Snapshot.Comma)
			enc = record.AppendPart(enc, csv.Unquote(cell))
		}
		if blankKey(enc) {
			continue
		}
		if n, there := x.parts[r.To].rows.find(enc); there {
			x.fill(r.To, x.parts[r.To].rows.raw(n), cells, done)
		}
	}
}

func (x *joiner) line(cells []string) (out []byte) {
	for i, c := range cells {
		if i > 0 {
			out = append(out, ',')
		}
		out = csv.AppendCell(out, c, ',', false)
	}
	return append(out, '\n')
}
