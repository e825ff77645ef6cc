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
	"sync"

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
	key    []int  // columns
	column []int  // of each of the environment's fields, -1 if the snapshot lacks it
	target []int  // of each op
	source []int  // of each op that copies
	over   []int  // of the overlay's fields
	keyed  bool   // a record's key is asked for, whichever record it is
	end    string // of a line
}

// rows is how many rows one worker takes at a time.
const rows = 2048

type rowRef struct {
	raw []byte
	row int
}

// chunk is so many rows, and, when it is done, what became of them.
type chunk struct {
	rows []rowRef
	done chan struct{}

	out      []byte
	res      Result
	failures []failure
	seen     []record.Key // selected by the list
	laid     []record.Key // that the overlay has
	err      error
}

// again returns a chunk without rows, in the room of one that is done with.
func (c *chunk) again() *chunk {
	if c.done == nil {
		c.done = make(chan struct{}, 1)
	}
	*c = chunk{rows: c.rows[:0], done: c.done, out: c.out[:0]}
	return c
}

// worker derives chunks, one after the other, record by record, in the room of the record before.
type worker struct {
	*deriver
	ref   rowRef // the record
	cells [][]byte
	split bool // cells are those of ref
	now   []*string
	enc   []byte
	in    expr.Input // ref as it was, under both names
}

// Write writes the derived state of a snapshot as CSV in its own dialect.
func (d *Derivation) Write(ctx context.Context, m *table.Image, fields []expr.Field, w io.Writer) (*Result, error) {
	x, err := d.begin(m, fields)
	if err != nil {
		return nil, err
	}
	all := &gathered{seen: map[record.Key]bool{}, laid: map[record.Key]bool{}, chunks: sync.Pool{New: func() any { return new(chunk) }}}
	if _, err := w.Write(head(m)); err != nil {
		return nil, err
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	queue := make(chan *chunk, 2*runtime.GOMAXPROCS(0))
	work := make(chan *chunk, runtime.GOMAXPROCS(0))
	g, ctx := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(queue)
		defer close(work)
		return table.Guard(func() error { return x.read(ctx, &all.chunks, queue, work) })
	})
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			worker := x.worker()
			for c := range work {
				c.err = table.Guard(func() error { return worker.derive(c) })
				c.done <- struct{}{}
			}
			return nil
		})
	}
	g.Go(func() error { return all.collect(ctx, queue, w) })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if err := x.writeAdds(w); err != nil {
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
	chunks     sync.Pool // that are done with
}

// collect writes the chunks in order and adds up what became of them.
func (all *gathered) collect(ctx context.Context, queue <-chan *chunk, w io.Writer) error {
	for c := range queue {
		select {
		case <-c.done:
		case <-ctx.Done():
			return ctx.Err()
		}
		if c.err != nil {
			return c.err
		}
		all.res.Records += c.res.Records
		all.res.Selected += c.res.Selected
		all.res.Changed += c.res.Changed
		all.res.Empty += c.res.Empty
		all.failures = append(all.failures, c.failures[:min(len(c.failures), maxFailures)]...)
		for _, k := range c.seen {
			all.seen[k] = true
		}
		for _, k := range c.laid {
			all.laid[k] = true
		}
		if _, err := w.Write(c.out); err != nil {
			return err
		}
		all.chunks.Put(c)
	}
	return nil
}

// writeAdds writes the new records.
func (x *deriver) writeAdds(w io.Writer) error {
	for _, row := range x.Adds {
		var line []byte
		for i, v := range row {
			if i > 0 {
				line = append(line, x.m.Comma)
			}
			line = csv.AppendCell(line, v, x.m.Comma, strings.TrimSpace(v) != v)
		}
		if _, err := w.Write(append(line, x.end...)); err != nil {
			return err
		}
	}
	return nil
}

// maxFailures is how many failures of a chunk are told.
const maxFailures = 100

func (d *Derivation) begin(m *table.Image, fields []expr.Field) (*deriver, error) {
	x := &deriver{Derivation: d, m: m, end: m.LineEnd(), keyed: d.Keys != nil || d.From != nil || d.Where != nil && d.Where.Keyed()}
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
		x.keyed = x.keyed || op.Program != nil && op.Program.Keyed()
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
func (x *deriver) read(ctx context.Context, chunks *sync.Pool, queue, work chan<- *chunk) error {
	next := func() *chunk { return chunks.Get().(*chunk).again() }
	c := next()
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
		c = next()
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

// worker makes one.
func (x *deriver) worker() *worker {
	w := &worker{deriver: x}
	get := func(i int) expr.Value {
		if s := w.there(i); s != "" {
			return expr.TextValue(s)
		}
		return expr.Null
	}
	if x.Layout != nil {
		get = x.Layout.Getter(w.there)
	}
	w.in = expr.Input{Old: get, New: get, Act: changeset.Amend.String()}
	return w
}

// there is a field of the record as expressions see it, by the environment's numbers. Of a record that is not selected, the
// cells alone are looked for that are asked about.
func (w *worker) there(i int) string {
	c := w.column[i]
	if c < 0 {
		return ""
	}
	var cell []byte
	ok := c < len(w.cells)
	switch {
	case !w.split:
		cell, ok = csv.Cell(w.ref.raw, c, w.m.Comma)
	case ok:
		cell = w.cells[c]
	}
	if !ok {
		return ""
	}
	v, _ := csv.Value(w.m, cell)
	return v.String()
}

// recordKey is the record's key.
func (w *worker) recordKey() record.Key {
	w.enc = csv.AppendKey(w.enc[:0], w.ref.raw, w.key, w.m.Comma)
	return record.KeyOf(w.enc)
}

// derive derives a chunk's rows.
func (w *worker) derive(c *chunk) error {
	for _, ref := range c.rows {
		c.res.Records++
		w.ref, w.split, w.in.Row = ref, false, ref.row
		if w.keyed {
			w.in.Key = w.recordKey()
		}
		take, err := w.takes(c)
		if err != nil {
			return err
		}
		if !take {
			c.out = append(append(c.out, ref.raw...), w.end...)
			continue
		}
		c.res.Selected++
		if w.Delete {
			c.res.Changed++
			continue
		}
		was := len(c.out)
		w.cells, w.split = csv.Split(w.cells[:0], ref.raw, w.m.Comma), true
		c.out = w.row(c.out, c)
		if !bytes.Equal(c.out[was:], ref.raw) {
			c.res.Changed++
		}
		c.out = append(c.out, w.end...)
	}
	return nil
}

// takes reports whether the record is selected.
func (w *worker) takes(c *chunk) (bool, error) {
	key := w.in.Key
	if w.Keys != nil {
		if !w.Keys.Has(key) {
			return false, nil
		}
		c.seen = append(c.seen, w.Layout.Schema().Key(key))
	}
	if w.From != nil {
		if _, there := w.From.Values[w.Layout.Schema().Key(key)]; !there {
			return false, nil
		}
		c.laid = append(c.laid, key)
	}
	if w.Where == nil {
		return true, nil
	}
	ok, err := w.Where.Holds(&w.in)
	switch {
	case errors.Is(err, expr.ErrNull):
		return false, nil
	case err != nil:
		return false, &expr.Error{Source: w.Where.Source, Line: 1, Column: 1, Text: fmt.Sprintf("it cannot be evaluated for %s, %s: %v", w.recordKey(), w.m.RowWords(w.ref.row), err)}
	}
	return ok, nil
}

// row appends the record's row with what the ops make of it. All ops see the
// record as it was.
func (w *worker) row(dst []byte, into *chunk) []byte {
	cells := w.cells
	w.now = slices.Grow(w.now[:0], len(cells))[:len(cells)]
	now := w.now
	clear(now)
	for i, op := range w.Ops {
		at := w.target[i]
		if at >= len(cells) || op.OnlyEmpty && len(csv.Unquote(cells[at])) > 0 {
			continue
		}
		switch {
		case op.From != "":
			v, _ := csv.Value(w.m, cells[w.source[i]])
			s := v.String()
			now[at] = &s
		case op.Program == nil:
			now[at] = new(string)
		default:
			v, err := op.Program.Eval(&w.in)
			switch {
			case errors.Is(err, expr.ErrNull):
				into.res.Empty++
			case err != nil || expr.IsInvalid(v):
				text := fmt.Sprint(v)
				if err != nil {
					text = err.Error()
				}
				into.failures = append(into.failures, failure{w.ref.row, w.recordKey().String(), op.Field, text})
			default:
				s := w.write(op.Field, v)
				now[at] = &s
			}
		}
	}
	if w.From != nil {
		for i, v := range w.From.Values[w.Layout.Schema().Key(w.in.Key)] {
			if v != "" {
				s := v
				if f := w.Layout.Field(w.From.Fields[i]); f != nil {
					s = f.Write(v)
				}
				now[w.over[i]] = &s
			}
		}
	}
	for i, c := range cells {
		if i > 0 {
			dst = append(dst, w.m.Comma)
		}
		if now[i] == nil || w.same(i, c, *now[i]) {
			dst = csv.AppendRaw(dst, c)
		} else {
			dst = csv.AppendCell(dst, *now[i], w.m.Comma, strings.TrimSpace(*now[i]) != *now[i])
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
