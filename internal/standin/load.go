package standin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/compare"
	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/odata"
)

// ErrNothing says that a folder has no table.
var ErrNothing = errors.New("it has no NAME.csv and no NAME.json")

// Load reads the tables of a folder. Layouts are looked for in its own layouts/, then
// on the desk, which may be nil; where there is none, kinds are what all of a column's
// values are, and the first fields that are unique together are the key.
func Load(ctx context.Context, fsys disk.FS, dir string, d *desk.Desk) (*World, error) {
	entries, err := fsys.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	w := &World{byName: map[string]*Set{}}
	var files, stems []string
	for _, e := range entries {
		ext := strings.ToLower(filepath.Ext(e.Name()))
		if e.IsDir() || ext != ".csv" && ext != ".json" || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		stem := strings.TrimSuffix(e.Name(), filepath.Ext(e.Name()))
		if i := slices.Index(stems, stem); i >= 0 {
			return nil, fmt.Errorf("%s and %s would both be the entity set %s; put one of them elsewhere", files[i], e.Name(), stem)
		}
		files, stems = append(files, e.Name()), append(stems, stem)
	}
	if len(files) == 0 {
		return nil, fmt.Errorf("%s: %w", dir, ErrNothing)
	}
	own := &desk.Desk{FS: fsys, Dir: dir}
	layouts := map[*Set]*layout.Layout{}
	for i, name := range identifiers(stems) {
		l, err := findLayout(stems[i], own, d)
		if err != nil {
			return nil, err
		}
		s := &Set{Name: name, File: files[i]}
		layouts[s], err = s.load(ctx, fsys, filepath.Join(dir, files[i]), l)
		if errors.Is(err, errNoKey) {
			w.Left = append(w.Left, fmt.Sprintf("%s: %v; say its key in layouts/%s.yaml", files[i], errNoKey, stems[i]))
			continue
		}
		if err != nil {
			return nil, err
		}
		s.stem = stems[i]
		w.Sets = append(w.Sets, s)
		w.byName[name] = s
	}
	if len(w.Sets) == 0 {
		return nil, fmt.Errorf("%s", strings.Join(w.Left, "; "))
	}
	for _, s := range w.Sets {
		s.navigate(w, layouts)
	}
	return w, nil
}

// findLayout finds the layout of a set on the first desk that has one; nil if none has.
func findLayout(set string, desks ...*desk.Desk) (*desk.Layout, error) {
	for _, d := range desks {
		if d == nil {
			continue
		}
		if l, err := d.FindLayout(set); err != nil || l != nil {
			return l, err
		}
	}
	return nil, nil
}

// load reads the set's file.
func (s *Set) load(ctx context.Context, fsys disk.FS, path string, l *desk.Layout) (*layout.Layout, error) {
	t, err := desk.OpenTable(fsys, path, s.File, l.Reading(table.Options{}, true))
	var none *table.Error
	if errors.As(err, &none) && none.Code == table.Empty {
		return nil, fmt.Errorf("%s is empty: it has no headings that could be properties", s.File)
	}
	if err != nil {
		return nil, err
	}
	defer func() { _ = t.Close() }() // only read
	sum := sha256.New()
	sum.Write(t.Data)
	var known *layout.Layout
	if l != nil {
		known = l.Layout
		b, err := disk.ReadFile(fsys, l.Path)
		if err != nil {
			return nil, err
		}
		sum.Write(b)
	}
	var key []string
	if l != nil {
		key = l.Key
	} else if known, key, err = asFound(ctx, t.Image, s.Name); err != nil {
		return nil, err
	}
	s.found, s.digest = l == nil, hex.EncodeToString(sum.Sum(nil))
	if err := s.describe(known, key, t.Image); err != nil {
		return nil, err
	}
	return known, table.Guard(func() error { return s.read(ctx, t.Image) })
}

// asFound is the layout that a table has by what is seen in it, and its key. A table whose headings no
// layout can have, since they differ in case alone, has none: its fields are texts.
func asFound(ctx context.Context, m *table.Image, set string) (l *layout.Layout, key []string, err error) {
	keys, err := compare.Candidates(ctx, m, nil)
	if err != nil {
		return nil, nil, err
	}
	var together []string
	switch {
	case len(keys) > 0:
		key = keys[:1]
	case heads(m):
		key = m.Heading[:1]
	default:
		if together, err = compare.Together(ctx, m); err != nil {
			return nil, nil, err
		}
		if key = together; len(key) == 0 {
			return nil, nil, errNoKey
		}
	}
	var of func([]string) ([]string, error)
	if len(together) > 0 {
		of = func([]string) ([]string, error) { return together, nil }
	}
	text, err := layout.Draft(ctx, m, set, keys[:min(len(keys), 1)], of, table.Options{}, nil)
	if err != nil {
		return nil, nil, err
	}
	l, err = layout.Parse(m.Name, text, nil)
	var wrong layout.Errors
	if errors.As(err, &wrong) {
		return nil, key, nil
	}
	return l, key, err
}

// errNoKey says that nothing in a table tells its records apart.
var errNoKey = errors.New("no column is filled and different on every row, and no few are together")

// heads reports whether a table has headings and no rows.
func heads(m *table.Image) bool { return len(strings.TrimSpace(string(m.Data[m.Body:]))) == 0 }

// describe makes the set's fields of a layout and the table's columns.
func (s *Set) describe(l *layout.Layout, key []string, m *table.Image) error {
	if l != nil {
		s.Title = l.Title
	}
	var headings []string
	for col, h := range m.Heading {
		if h != "" && !l.Ignores(h) {
			headings = append(headings, h)
			s.columns = append(s.columns, col)
		}
	}
	for i, name := range identifiers(headings) {
		f := &Field{Name: name, Heading: headings[i], Kind: odata.String, Scale: -1}
		if lf := l.Field(headings[i]); lf != nil {
			f.describe(lf, !s.found)
		}
		s.Fields = append(s.Fields, f)
	}
	for _, k := range key {
		i := slices.IndexFunc(s.Fields, func(f *Field) bool { return f.Heading == k })
		if i < 0 {
			return fmt.Errorf("%s has no column for the key field %s", s.File, k)
		}
		s.Key = append(s.Key, i)
		s.Fields[i].Required = true
		if lf := s.Fields[i].layout; lf != nil && lf.Assigned {
			s.assigned = true
		}
	}
	s.finish()
	return nil
}

// describe takes over what a layout says of the field; checked says that it is a person's
// word, and not what was seen.
func (f *Field) describe(lf *layout.Field, checked bool) {
	switch lf.Kind {
	case schema.Integer:
		f.Kind = odata.Int64
	case schema.Decimal:
		f.Kind, f.Scale = odata.Decimal, lf.Scale
	case schema.Percent, schema.Money:
		f.Kind = odata.Decimal
	case schema.Date:
		f.Kind = odata.Date
	case schema.Datetime:
		f.Kind = odata.DateTimeOffset
	case schema.Boolean:
		f.Kind = odata.Boolean
	}
	f.layout = lf
	if !checked {
		f.Scale, f.seen = -1, true
		return
	}
	f.Required, f.Unique, f.Access = lf.Required, lf.Unique, lf.Access
	if f.Access == schema.Free {
		f.Access = ""
	}
	if n, ok := lf.Length.High.(*expr.Number); ok && f.Kind == odata.String {
		if high, err := n.Decimal().Int64(); err == nil {
			f.Length = int(high)
		}
	}
}

// navigate finds the records of other sets that fields refer to.
func (s *Set) navigate(w *World, layouts map[*Set]*layout.Layout) {
	taken := make([]string, 0, 2*len(s.Fields))
	for _, f := range s.Fields {
		taken = append(taken, f.Name)
	}
	for i, f := range s.Fields {
		if s.found || f.layout == nil || f.layout.List == nil {
			continue
		}
		at := slices.IndexFunc(w.Sets, func(x *Set) bool { return x.stem == f.layout.List.Set() })
		if at < 0 {
			continue
		}
		to := w.Sets[at]
		by := slices.IndexFunc(to.Fields, func(g *Field) bool { return g.Heading == f.layout.List.By })
		if by < 0 || to.Fields[by].Kind != f.Kind {
			continue
		}
		name := f.Name + "_record"
		for slices.Contains(taken, name) {
			name += "_"
		}
		taken = append(taken, name)
		n := &Nav{Name: name, Field: i, From: s, Target: to, By: by, slot: len(s.Navs)}
		s.Navs = append(s.Navs, n)
		to.referred = append(to.referred, n)
		if !slices.Contains(to.indexed, by) {
			to.indexed = append(to.indexed, by)
		}
	}
	for i, f := range s.Fields {
		if f.Unique && !slices.Contains(s.indexed, i) {
			s.indexed = append(s.indexed, i)
		}
	}
}

// read reads the table's rows.
func (s *Set) read(ctx context.Context, m *table.Image) error {
	seen := map[string]int{}
	var wrong []string
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		rec := &Record{make([]odata.Value, len(s.Fields))}
		for i, f := range s.Fields {
			v, _ := r.Value(s.columns[i])
			got, ok := f.fromFile(v, m.Nulls)
			if !ok {
				file, at := m.Place(r.Number())
				wrong = append(wrong, fmt.Sprintf("%s: %q is no %s", table.Place(file, at, at, f.Heading), v.String(), f.layout.Kind))
				if len(wrong) == 3 {
					return errSeveral
				}
			}
			if got.IsNull() && s.isKey(i) {
				file, at := m.Place(r.Number())
				return fmt.Errorf("%s is empty, and is the key; every record needs one", table.Place(file, at, at, f.Heading))
			}
			rec.cells[i] = got
		}
		k := s.keyOf(rec)
		if first, twice := seen[k]; twice {
			file, at := m.Place(r.Number())
			return fmt.Errorf("%s has the key of row %d; keys are to be unique", table.Place(file, at, at, ""), first)
		}
		seen[k] = r.Number()
		s.loaded = append(s.loaded, rec)
		return nil
	})
	if len(wrong) > 0 {
		return fmt.Errorf("%s; correct them, or say in layouts/%s.yaml that the field is a text", strings.Join(wrong, "; "), s.Name)
	}
	return err
}

var errSeveral = errors.New("several values are none")

// fromFile reads a cell. Blank is null, but where the format tells an empty text from it.
func (f *Field) fromFile(v record.Value, tells bool) (odata.Value, bool) {
	switch {
	case v.IsNull(), v.String() == "" && !(tells && f.Kind == odata.String):
		return odata.Value{}, true
	case f.Kind == odata.String:
		return odata.Text(v.String()), true
	}
	x, ok := f.layout.Value(v.String())
	if !ok {
		return odata.Value{}, false
	}
	return f.fromExpr(x, v.String())
}

// fromExpr is a value of an expression as one of the field.
func (f *Field) fromExpr(x expr.Value, text string) (odata.Value, bool) {
	switch x := x.(type) {
	case *expr.Number:
		if v, ok := odata.Parse(text, f.Kind); ok {
			return v, true // with the zeros that it is written with
		}
		return odata.Parse(x.Decimal().Text('f'), f.Kind)
	case *expr.Date:
		return odata.Parse(x.String(), f.Kind)
	case *expr.Moment:
		t, zoned := x.Time()
		if v, ok := odata.Parse(text, f.Kind); ok && zoned {
			return v, true
		}
		return odata.Parse(t.Format("2006-01-02T15:04:05.999999999Z07:00"), f.Kind)
	case fmt.Stringer:
		return odata.Parse(x.String(), f.Kind)
	}
	if x == expr.Null {
		return odata.Value{}, true
	}
	if b, ok := x.Value().(bool); ok {
		return odata.True(b), f.Kind == odata.Boolean
	}
	return odata.Value{}, false
}
