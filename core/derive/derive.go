// Package derive makes the edited state of a table from expressions: what a
// spreadsheet would be opened for, in one sentence. Rows that do not change keep
// their bytes; a row that does keeps the bytes of the cells that do not.
package derive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// Op gives a field a value.
type Op struct {
	Field     string
	Program   *expr.Program // nil clears, or copies From
	From      string        // a field whose value is taken as it stands, or ""
	OnlyEmpty bool          // only where the field is empty
}

// Overlay is a file with values for some fields of some records.
type Overlay struct {
	Name   string
	Fields []string
	Values map[record.Key][]string // by Fields; an empty one changes nothing
	Rows   map[record.Key]int
}

// Derivation is a state to be derived.
type Derivation struct {
	Key    []string
	Layout *layout.Layout // or nil: then all fields are text
	Env    *expr.Env
	Where  *expr.Program // which records; nil is all
	Keys   Selection     // which records; nil is all
	List   string        // what the selection's file is called
	Ops    []Op          // all of them see the record as it was
	Delete bool          // the selected records go
	From   *Overlay      // or nil
	Adds   [][]string    // new records, by the snapshot's columns
}

// Selection is a list of records.
type Selection interface {
	Has(record.Key) bool
	Len() int
	// Row is the row of the list on which a record stands.
	Row(record.Key) int
	Keys() []record.Key
	Repeats() []int
}

// Result counts what was derived.
type Result struct {
	Records, Selected, Changed int
	Empty                      int // values that were needed and empty: the fields stay as they are
	Findings                   []changeset.Finding
}

// failure is an expression that could not be evaluated for a record.
type failure struct {
	row        int
	key, field string
	text       string
}

// deriver is the state of one Write.
type deriver struct {
	*Derivation
	m      *table.Image
	key    []int // columns
	column []int // of each of the environment's fields, -1 if the snapshot lacks it
	target []int // of each op
	source []int // of each op that copies
	over   []int // of the overlay's fields
}

// rows is how many rows one worker takes at a time.
const rows = 2048

type rowRef struct {
	raw []byte
	row int
}

type chunk struct {
	rows []rowRef
	done chan *made
}

// made is what became of a chunk.
type made struct {
	out      []byte
	res      Result
	failures []failure
	seen     []record.Key // selected by the list
	laid     []record.Key // that the overlay has
	err      error
}

// Write writes the derived state of a snapshot as CSV in its own dialect.
func (d *Derivation) Write(ctx context.Context, m *table.Image, fields []expr.Field, w io.Writer) (*Result, error) {
	x, err := d.begin(m, fields)
	if err != nil {
		return nil, err
	}
	all := &gathered{seen: map[record.Key]bool{}, laid: map[record.Key]bool{}}
	if _, err := w.Write(head(m)); err != nil {
		return nil, err
	}
	queue := make(chan *chunk, 2*runtime.GOMAXPROCS(0))
	work := make(chan *chunk, runtime.GOMAXPROCS(0))
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(queue)
		defer close(work)
		return table.Guard(func() error { return x.read(ctx, queue, work) })
	})
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for c := range work {
				o := new(made)
				if err := table.Guard(func() error { return x.derive(c.rows, o) }); err != nil {
					o.err = err
				}
				c.done <- o
			}
			return nil
		})
	}
	g.Go(func() error { return all.collect(ctx, queue, w) })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if err := d.writeAdds(w, m); err != nil {
		return nil, err
	}
	x.report(&all.res, all.failures, all.seen, all.laid)
	return &all.res, nil
}

// gathered is what became of all chunks.
type gathered struct {
	res        Result
	failures   []failure
	seen, laid map[record.Key]bool
}

// collect writes the chunks in order and adds up what became of them.
func (all *gathered) collect(ctx context.Context, queue <-chan *chunk, w io.Writer) error {
	for c := range queue {
		var o *made
		select {
		case o = <-c.done:
		case <-ctx.Done():
			return ctx.Err()
		}
		if o.err != nil {
			return o.err
		}
		all.res.Records += o.res.Records
		all.res.Selected += o.res.Selected
		all.res.Changed += o.res.Changed
		all.res.Empty += o.res.Empty
		all.failures = append(all.failures, o.failures[:min(len(o.failures), maxFailures)]...)
		for _, k := range o.seen {
			all.seen[k] = true
		}
		for _, k := range o.laid {
			all.laid[k] = true
		}
		if _, err := w.Write(o.out); err != nil {
			return err
		}
	}
	return nil
}

// writeAdds writes the new records.
func (d *Derivation) writeAdds(w io.Writer, m *table.Image) error {
	for _, row := range d.Adds {
		var line []byte
		for i, v := range row {
			if i > 0 {
				line = append(line, m.Comma)
			}
			line = csv.AppendCell(line, v, m.Comma, strings.TrimSpace(v) != v)
		}
		if _, err := w.Write(append(line, '\n')); err != nil {
			return err
		}
	}
	return nil
}

// maxFailures is how many failures of a chunk are told.
const maxFailures = 100

func (d *Derivation) begin(m *table.Image, fields []expr.Field) (*deriver, error) {
	x := &deriver{Derivation: d, m: m}
	col := func(name string) (int, error) {
		if i := m.Column(name); i >= 0 {
			return i, nil
		}
		return 0, &FieldError{name, m.Heading}
	}
	for _, k := range d.Key {
		i, err := col(k)
		if err != nil {
			return nil, err
		}
		x.key = append(x.key, i)
	}
	for _, f := range fields {
		x.column = append(x.column, m.Column(f.Name))
	}
	x.target, x.source = make([]int, len(d.Ops)), make([]int, len(d.Ops))
	for i, op := range d.Ops {
		var err error
		if x.target[i], err = col(op.Field); err != nil {
			return nil, err
		}
		if op.From != "" {
			if x.source[i], err = col(op.From); err != nil {
				return nil, err
			}
		}
	}
	if d.From != nil {
		for _, f := range d.From.Fields {
			i, err := col(f)
			if err != nil {
				return nil, err
			}
			x.over = append(x.over, i)
		}
	}
	return x, nil
}

// FieldError is a field that the snapshot does not have.
type FieldError struct {
	Field   string
	Columns []string
}

func (e *FieldError) Error() string { return fmt.Sprintf("the snapshot has no column %q", e.Field) }

// head is what stands above the first record.
func head(m *table.Image) []byte {
	h := m.Data[:m.Body]
	if len(h) > 0 && h[len(h)-1] != '\n' {
		h = append(slices.Clip(h), '\n')
	}
	return h
}

// read cuts the table into chunks.
func (x *deriver) read(ctx context.Context, queue, work chan<- *chunk) error {
	c := &chunk{done: make(chan *made, 1)}
	send := func() error {
		select {
		case queue <- c:
		case <-ctx.Done():
			return ctx.Err()
		}
		select {
		case work <- c:
		case <-ctx.Done():
			return ctx.Err()
		}
		c = &chunk{done: make(chan *made, 1), rows: make([]rowRef, 0, rows)}
		return nil
	}
	err := csv.Each(ctx, x.m, func(r *csv.Line) error {
		if c.rows = append(c.rows, rowRef{r.Raw(), r.Number()}); len(c.rows) == rows {
			return send()
		}
		return nil
	})
	if err != nil {
		return err
	}
	return send()
}

// derive derives a chunk's rows.
func (x *deriver) derive(refs []rowRef, o *made) error {
	var cells [][]byte
	var enc []byte
	for _, ref := range refs {
		o.res.Records++
		enc = csv.AppendKey(enc[:0], ref.raw, x.key, x.m.Comma)
		key := record.KeyOf(enc)
		take, err := x.takes(ref, key, o)
		if err != nil {
			return err
		}
		if !take {
			o.out = append(append(o.out, ref.raw...), '\n')
			continue
		}
		o.res.Selected++
		if x.Delete {
			o.res.Changed++
			continue
		}
		was := len(o.out)
		cells = csv.Split(cells[:0], ref.raw, x.m.Comma)
		o.out = append(x.row(o.out, cells, key, ref, o), '\n')
		if !bytes.Equal(o.out[was:len(o.out)-1], ref.raw) {
			o.res.Changed++
		}
	}
	return nil
}

// takes reports whether a record is selected. Of those that are not, the cells alone are looked for that are asked about.
func (x *deriver) takes(ref rowRef, key record.Key, o *made) (bool, error) {
	if x.Keys != nil {
		if !x.Keys.Has(key) {
			return false, nil
		}
		o.seen = append(o.seen, x.Layout.Schema().Key(key))
	}
	if x.From != nil {
		if _, there := x.From.Values[x.Layout.Schema().Key(key)]; !there {
			return false, nil
		}
		o.laid = append(o.laid, key)
	}
	if x.Where == nil {
		return true, nil
	}
	ok, err := x.Where.Holds(x.input(ref, nil, key))
	switch {
	case errors.Is(err, expr.ErrNull):
		return false, nil
	case err != nil:
		return false, &expr.Error{Source: x.Where.Source, Line: 1, Column: 1, Text: fmt.Sprintf("it cannot be evaluated for %s, %s: %v", key, x.m.RowWords(ref.row), err)}
	}
	return ok, nil
}

// input is a record as expressions see it: as it was, under both names. cells are those of its row, nil where it was not split.
func (x *deriver) input(ref rowRef, cells [][]byte, key record.Key) *expr.Input {
	cell := func(c int) (cell []byte, ok bool) {
		if cells == nil {
			return csv.Cell(ref.raw, c, x.m.Comma)
		}
		if ok = c < len(cells); ok {
			cell = cells[c]
		}
		return cell, ok
	}
	there := func(i int) string {
		if c := x.column[i]; c >= 0 {
			if cell, ok := cell(c); ok {
				v, _ := csv.Value(x.m, cell)
				return v.String()
			}
		}
		return ""
	}
	get := func(i int) expr.Value {
		if s := there(i); s != "" {
			return expr.TextValue(s)
		}
		return expr.Null
	}
	if x.Layout != nil {
		get = x.Layout.Getter(there)
	}
	return &expr.Input{Old: get, New: get, Key: key, Act: "amend", Row: ref.row}
}

// row appends a record's row with what the ops make of it. All ops see the
// record as it was.
func (x *deriver) row(dst []byte, cells [][]byte, key record.Key, ref rowRef, o *made) []byte {
	var in *expr.Input
	now := make([]*string, len(cells))
	for i, op := range x.Ops {
		at := x.target[i]
		if at >= len(cells) || op.OnlyEmpty && len(csv.Unquote(cells[at])) > 0 {
			continue
		}
		switch {
		case op.From != "":
			v, _ := csv.Value(x.m, cells[x.source[i]])
			s := v.String()
			now[at] = &s
		case op.Program == nil:
			now[at] = new(string)
		default:
			if in == nil {
				in = x.input(ref, cells, key)
			}
			v, err := op.Program.Eval(in)
			switch {
			case errors.Is(err, expr.ErrNull):
				o.res.Empty++
			case err != nil || expr.IsInvalid(v):
				text := fmt.Sprint(v)
				if err != nil {
					text = err.Error()
				}
				o.failures = append(o.failures, failure{ref.row, key.String(), op.Field, text})
			default:
				s := x.write(op.Field, v)
				now[at] = &s
			}
		}
	}
	if x.From != nil {
		for i, v := range x.From.Values[x.Layout.Schema().Key(key)] {
			if v != "" {
				s := v
				if f := x.Layout.Field(x.From.Fields[i]); f != nil {
					s = f.Write(v)
				}
				now[x.over[i]] = &s
			}
		}
	}
	for i, c := range cells {
		if i > 0 {
			dst = append(dst, x.m.Comma)
		}
		if now[i] == nil || x.same(i, c, *now[i]) {
			dst = csv.AppendRaw(dst, c)
		} else {
			dst = csv.AppendCell(dst, *now[i], x.m.Comma, strings.TrimSpace(*now[i]) != *now[i])
		}
	}
	return dst
}

// same reports whether a cell has a value already, perhaps in another form.
func (x *deriver) same(col int, cell []byte, v string) bool {
	was := string(csv.Unquote(cell))
	if f := x.Layout.Field(x.m.Heading[col]); f != nil && was != "" && v != "" {
		return f.Same(was, v)
	}
	return was == v
}

// write writes a value in the form of its field.
func (x *deriver) write(field string, v expr.Value) string {
	if v == expr.Null {
		return ""
	}
	text := fmt.Sprint(v)
	if s, ok := v.Value().(string); ok {
		text = s
	}
	if b, ok := v.Value().(bool); ok {
		text = fmt.Sprint(b)
	}
	if f := x.Layout.Field(field); f != nil {
		return f.Write(text)
	}
	return text
}

// report makes findings of what was noticed.
func (x *deriver) report(res *Result, failures []failure, seen, laid map[record.Key]bool) {
	add := func(f changeset.Finding) { res.Findings = append(res.Findings, f) }
	type kind struct{ field, text string }
	by := map[kind][]failure{}
	var order []kind
	for _, f := range failures {
		k := kind{f.field, f.text}
		if by[k] == nil {
			order = append(order, k)
		}
		by[k] = append(by[k], f)
	}
	for _, k := range order {
		all := by[k]
		f := changeset.DeriveFailed.Finding("%s; the field stays as it is, first in %s", k.text, all[0].key)
		f.Count, f.Row, f.Column, f.Key, f.File = len(all), all[0].row, k.field, all[0].key, x.m.Name
		for _, one := range all[:min(len(all), changeset.MaxRows)] {
			f.Rows = append(f.Rows, one.row)
		}
		add(f)
	}
	if res.Empty > 0 {
		f := changeset.DeriveEmpty.Finding("%s could not be computed, since a field that is needed is empty; what is there stays", words.Count(res.Empty, "value"))
		f.Count = res.Empty
		add(f)
	}
	if x.Keys != nil {
		for _, k := range x.Keys.Keys() {
			if !seen[x.Layout.Schema().Key(k)] {
				add(unknown(k, x.List, x.Keys.Row(k)))
			}
		}
		if rows := x.Keys.Repeats(); len(rows) > 0 {
			f := changeset.SelectedRepeat.Finding("%s of the list: the record stood before", words.Count(len(rows), "row"))
			f.Count, f.Row, f.Rows, f.File = len(rows), rows[0], rows[:min(len(rows), changeset.MaxRows)], x.List
			add(f)
		}
	}
	if x.From != nil {
		var missing []record.Key
		for k := range x.From.Values {
			if !laid[k] {
				missing = append(missing, k)
			}
		}
		slices.SortFunc(missing, func(a, b record.Key) int { return x.From.Rows[a] - x.From.Rows[b] })
		for _, k := range missing[:min(len(missing), changeset.MaxRows)] {
			if x.Keys == nil || x.Keys.Has(k) {
				add(unknown(k, x.From.Name, x.From.Rows[k]))
			}
		}
	}
	switch {
	case res.Selected == 0 && len(x.Adds) == 0:
		add(changeset.DeriveNone.Finding("no record is selected"))
	case res.Selected == res.Records && (x.Where != nil || x.Keys != nil):
		add(changeset.DeriveAll.Finding("the selection takes all %d records", res.Records))
	}
}

func unknown(k record.Key, name string, row int) changeset.Finding {
	f := changeset.SelectedUnknown.Finding("%s is not in the snapshot", k)
	f.Key, f.File, f.Row = k.String(), name, row
	return f
}
