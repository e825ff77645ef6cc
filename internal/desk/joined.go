package desk

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/joined"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/words"
	"paletwin/internal/disk"
)

// JoinedLayout is the layout of a joined sheet with its file.
type JoinedLayout struct {
	*layout.Joined
	Path string
}

// OpenJoined opens the layout of a joined sheet. Errors are layout.Errors where it is wrong, or none
// of a joined sheet.
func (d *Desk) OpenJoined(path string) (*JoinedLayout, error) {
	b, err := disk.ReadFile(d.FS, path)
	if err != nil {
		return nil, err
	}
	if !layout.IsJoined(b) {
		return nil, layout.Errors{{File: d.rel(path), Text: "this is the layout of one record set, and not of a joined sheet", Hint: "say joins: in it, or leave --joined out"}}
	}
	j, err := layout.ParseJoined(d.rel(path), b)
	if err != nil {
		return nil, err
	}
	if j.Name == "" {
		j.Name = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	}
	return &JoinedLayout{j, path}, nil
}

// joinedLayoutName is what the layout of a joined sheet is called in a dossier.
const joinedLayoutName = "layout.joined.yaml"

// split opens the sheet and gives each record set its own of it.
func (x *several) split(ctx context.Context) (err error) {
	j, from := x.s.Joined, *x.s.Sheet
	from.Options.HeadingRow, from.Options.Sheet = cmp.Or(from.Options.HeadingRow, j.HeadingRow), cmp.Or(from.Options.Sheet, j.Sheet)
	in := &inputs{fsys: x.d.FS, dir: x.dir}
	if x.sheet, err = in.open(&from, "edited"); err != nil {
		return err
	}
	if err := hash([]*kept{x.sheet}); err != nil {
		return err
	}
	sets := map[string]*joined.Set{}
	for i, c := range x.s.All {
		sets[c.Options.RecordSet] = &joined.Set{Name: c.Options.RecordSet, Snapshot: x.in[i].snapshot.Image, Layout: c.Options.Layout, Program: c.Options.Program, Stay: c.stays()}
	}
	all, err := joined.Of(ctx, j.Joined, x.sheet.Image, sets)
	if err != nil {
		return err
	}
	for i, c := range x.s.All {
		s := all[c.Options.RecordSet]
		input := *x.sheet.input
		input.File = filepath.ToSlash(filepath.Join("..", "..", input.File))
		x.in[i].edited = []*kept{{&Table{Image: s.Image}, &input}}
		c.Options.Findings = append(c.Options.Findings, splitFindings(s, x.sheet.Image)...)
		c.Options.Known = map[string]map[string]bool{}
		for f, values := range s.Names {
			c.Options.Known[f] = map[string]bool{}
			for _, v := range values {
				c.Options.Known[f][v] = true
			}
		}
		c.Options.Judge = heldBy(s)
	}
	for _, c := range x.s.All {
		if c.Layout == nil {
			continue
		}
		for i := range c.Layout.Fields {
			f := &c.Layout.Fields[i]
			if f.List == nil || all[f.List.Set()] == nil || f.List.Set() == c.Options.RecordSet {
				continue
			}
			f.Also(codes(all[f.List.Set()].Added))
		}
	}
	return nil
}

// splitAgain takes the sheet of a dossier apart once more, and gives one set's table of it.
func (t *Dossier) splitAgain(set string) (*Table, error) {
	b, err := t.readKept(joinedLayoutName)
	if err != nil {
		return nil, err
	}
	j, err := layout.ParseJoined(t.Rel(t.Path(joinedLayoutName)), b)
	if err != nil {
		return nil, err
	}
	parts, err := t.Parts()
	if err != nil {
		return nil, err
	}
	sets := map[string]*joined.Set{}
	for _, p := range parts {
		l, err := p.Layout()
		if err != nil {
			return nil, err
		}
		snapshot, err := p.OpenInput(p.Meta.Snapshot)
		if err != nil {
			return nil, err
		}
		defer snapshot.Close()
		sets[p.Set().Name] = &joined.Set{Name: p.Set().Name, Snapshot: snapshot.Image, Layout: l, Program: p.program()}
	}
	in := t.Meta.Edited[0]
	o := in.Options
	o.Known, o.Password = in.Found, t.desk.Password
	sheet, err := OpenTable(t.desk.FS, t.Path(in.File), in.Name, o)
	if err != nil {
		return nil, err
	}
	all, err := joined.Of(context.Background(), j, sheet.Image, sets)
	if err != nil {
		_ = sheet.Close() // the first error counts
		return nil, err
	}
	return &Table{all[set].Image, sheet.m}, nil
}

// heldBy marks the changes of a set with what its sheet does not say for certain.
func heldBy(s *joined.Split) func(*changeset.Change) {
	return func(ch *changeset.Change) {
		whole, fields := s.Held(ch)
		ch.Held = held(ch.Held, whole)
		for i := range ch.Fields {
			f := &ch.Fields[i]
			f.Held = held(f.Held, fields[f.Field])
		}
		if link := s.Link(ch); link != "" && ch.Linked == "" {
			ch.Linked = link
		}
		s.Complete(ch)
	}
}

// held adds codes to a list that others may have, too.
func held(to, codes []string) []string {
	for _, c := range codes {
		if !slices.Contains(to, c) {
			to = append(to[:len(to):len(to)], c)
		}
	}
	return to
}

// splitFindings says what a sheet does not say for certain.
func splitFindings(s *joined.Split, sheet *table.Image) []changeset.Finding {
	all := slices.Clone(s.Notes)
	along := 0
	for _, m := range s.Moved {
		if m.Along {
			along++
			continue
		}
		f := changeset.KeyEdited.Finding("%s stands under %s, which no record has, and is not there any more: its key was changed, or mistyped; it is held", m.From, m.To)
		f.File, f.Key = sheet.Name, m.To.String()
		all = append(all, f)
	}
	if along > 0 {
		f := changeset.KeyEdited.Finding("%s under another key, since what the key names got another; that is held, too", words.Count(along, "record"))
		f.File, f.Count = sheet.Name, along
		all = append(all, f)
	}
	all = append(all, shifted(s, sheet)...)
	for i := range s.Disagreed {
		all = append(all, disagreement(&s.Disagreed[i], sheet))
	}
	return all
}

// shifted says of which fields most records' rows do not agree: then it is hardly edits.
func shifted(s *joined.Split, sheet *table.Image) (all []changeset.Finding) {
	const few = 20
	n, column := map[string]int{}, map[string]string{}
	var order []string
	for i := range s.Disagreed {
		d := &s.Disagreed[i]
		if n[d.Field]++; n[d.Field] == 1 {
			order, column[d.Field] = append(order, d.Field), d.Column
		}
	}
	for _, f := range order {
		if n[f] < few || 2*n[f] < s.Records {
			continue
		}
		x := changeset.PartsDisagree.Finding("of %d records, the rows of %d do not agree in %s: the column may have moved against the others, or have been sorted alone", s.Records, n[f], column[f])
		x.File, x.Column, x.Count = sheet.Name, f, n[f]
		all = append(all, x)
	}
	return all
}

// stays reports whether what the copy lacks is no deletion.
func (c *Comparison) stays() bool {
	missing := c.Options.Missing
	if missing == "" && c.Layout != nil {
		missing = c.Layout.Missing
	}
	return missing == compare.Ignore
}

// disagreement says which rows say what of a record.
func disagreement(d *joined.Disagreement, sheet *table.Image) changeset.Finding {
	const most = 4
	var said []string
	var rows []int
	count := 0
	for i, v := range d.Values {
		value := v.Value.Quoted()
		if v.Was {
			value += ", as it was,"
		}
		if i < most {
			said = append(said, value+" on "+words.Count(v.Count, "row")+rowWords(sheet, v.Rows))
		}
		if !v.Was {
			rows, count = append(rows, v.Rows...), count+v.Count
		}
	}
	if n := len(d.Values) - most; n > 0 {
		said = append(said, words.Count(n, "other value"))
	}
	what := "its rows do not agree"
	switch {
	case d.Left:
		what = "its rows were given another record, and may still have what the one before had"
	case len(d.Values) == 1:
		what = "its rows were given this record, and say neither what it has nor what the one before had"
	}
	f := changeset.PartsDisagree.Finding("%s, %s: %s: %s; %s is held", d.Key, d.Column, what, strings.Join(said, "; "), record.Text(d.Taken).Quoted())
	f.File, f.Column, f.Key, f.Count = sheet.Name, d.Field, d.Key.String(), count
	if len(rows) > 0 {
		slices.Sort(rows)
		f.File, rows = sheet.Places(rows)
		if f.Row = rows[0]; len(rows) > 1 {
			f.Rows = rows[:min(len(rows), changeset.MaxRows)]
		}
	}
	return f
}

// rowWords names the first of some rows.
func rowWords(sheet *table.Image, rows []int) string {
	const most = 5
	var all []string
	for i, r := range rows {
		if i == most {
			all = append(all, "…")
			break
		}
		_, at := sheet.Place(r)
		all = append(all, fmt.Sprint(at))
	}
	return " (" + strings.Join(all, ", ") + ")"
}
