package sqldb

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"golang.org/x/sync/errgroup"

	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/table/csv"
)

// This file reads two tables side by side, in the order of the bytes of their keys, and keeps no row longer than
// until it is known whether the other table has it.

// rowShape is what rows as CSV have: how many cells, and which are those of the key.
type rowShape struct {
	name  string // whose rows these are
	width int
	key   []int
}

// shape is that of the table's rows.
func (t *Table) shape() rowShape { return rowShape{t.Name(), len(t.cols), t.key} }

// stream gives rows, one after the other.
type stream struct {
	rowShape
	in   *bufio.Reader
	n    int  // rows so far, with this one
	over bool // there are no more

	line  []byte   // the row as CSV, with its line end
	cells [][]byte // as they stand there
	parts [][]byte // of its key, without quotes
	keyed bool     // none of them is null
	last  [][]byte // the key before, of those that are not null
}

// next reads a row. Rows whose key is null have no place in the order.
func (r *stream) next() error {
	if r.keyed && !r.over { // before the line is another
		if r.last == nil {
			r.last = make([][]byte, len(r.parts))
		}
		for i, k := range r.parts {
			r.last[i] = append(r.last[i][:0], k...)
		}
	}
	r.line = r.line[:0]
	for quotes := 0; ; {
		part, err := r.in.ReadSlice('\n')
		r.line = append(r.line, part...)
		quotes += bytes.Count(part, []byte{'"'})
		switch {
		case errors.Is(err, io.EOF) && len(r.line) == 0:
			r.over = true
			return nil
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return err
		}
		if err == nil && quotes%2 == 0 {
			break
		}
	}
	r.n++
	r.cells = csv.Split(r.cells[:0], r.line[:len(r.line)-1], ',')
	if len(r.cells) != r.width {
		return fmt.Errorf("%s: a row has %d cells and not %d", r.name, len(r.cells), r.width)
	}
	r.parts, r.keyed = r.parts[:0], true
	for _, k := range r.key {
		r.parts, r.keyed = append(r.parts, csv.Unquote(r.cells[k])), r.keyed && len(r.cells[k]) > 0
	}
	if r.keyed && len(r.last) > 0 && compareKeys(r.last, r.parts) > 0 {
		return ErrOrder
	}
	return nil
}

// before reports whether the row comes before another's. One whose key is null comes last.
func (r *stream) before(o *stream) bool {
	if r.keyed != o.keyed {
		return r.keyed
	}
	return r.keyed && compareKeys(r.parts, o.parts) < 0
}

// streams has rows be written beside whoever reads them, who calls end once nobody does any more.
func streams(ctx context.Context, g *errgroup.Group, from []source) (all []*stream, end func()) {
	var ends []*io.PipeReader
	for _, s := range from {
		in, out := io.Pipe()
		all, ends = append(all, &stream{rowShape: s.rowShape, in: bufio.NewReaderSize(in, 1<<18)}), append(ends, in)
		g.Go(func() error {
			buffered := bufio.NewWriterSize(out, 1<<18)
			err := s.write(ctx, buffered)
			if err == nil {
				err = buffered.Flush()
			}
			_ = out.CloseWithError(err) // which never fails
			return err
		})
	}
	return all, func() {
		for _, in := range ends {
			_ = in.Close() // who writes has to know
		}
	}
}

// again reports whether the row's key is that of the row before.
func (r *stream) again() bool {
	return !r.over && r.keyed && len(r.last) > 0 && compareKeys(r.last, r.parts) == 0
}

func compareKeys(a, b [][]byte) int {
	for i := range a {
		if c := bytes.Compare(a[i], b[i]); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(a), len(b))
}

// writeBeside reads both tables at once.
func (p *Pair) writeBeside(ctx context.Context, r *Apart, outA, outB *cells) error {
	if p.digests() {
		err := p.writeDigests(ctx, r, outA, outB)
		if r.Digests = err == nil; !errors.Is(err, errWhole) {
			return err
		}
	}
	g, ctx := errgroup.WithContext(ctx)
	var from []source
	for _, t := range []*Table{p.a, p.b} {
		from = append(from, source{t.shape(), func(ctx context.Context, w io.Writer) error {
			_, err := t.dump(ctx, w)
			return t.said(err)
		}})
	}
	both, end := streams(ctx, g, from)
	p.known = &known{sums: make([]compare.Sum, len(p.a.cols)), there: slices.Repeat([]bool{true}, len(p.a.cols)), width: make([]int, len(p.a.cols))}
	g.Go(func() error {
		defer end()
		m := merger{a: both[0], b: both[1], outA: outA, outB: outB, forms: p.formsOf(both), alike: p.alike, seen: func(r *stream) error {
			if r == both[0] {
				for i := range p.known.sums {
					p.known.sums[i].Add(csv.Unquote(r.cells[i]))
				}
			}
			return nil
		}}
		defer m.close()
		err := m.merge(ctx)
		r.Records = [2]int{both[0].n, both[1].n}
		return err
	})
	return g.Wait()
}

// formsOf is what looks whether keys of two tables' rows are one, where they may be.
func (p *Pair) formsOf(both []*stream) map[*stream]*keyForms {
	if !p.forms {
		return nil
	}
	return map[*stream]*keyForms{both[0]: {of: p.a.o.Of}, both[1]: {of: p.b.o.Of}}
}

// alike reports whether two rows have the same texts in what both tables have.
func (p *Pair) alike(a, b *stream) bool {
	if p.same && bytes.Equal(a.line, b.line) {
		return true
	}
	for i, k := range p.mate {
		if k < 0 {
			continue
		}
		x, y := a.cells[i], b.cells[k]
		if !bytes.Equal(x, y) && ((len(x) == 0) != (len(y) == 0) || !bytes.Equal(csv.Unquote(x), csv.Unquote(y))) {
			return false
		}
	}
	return true
}

// merger goes through the rows of two tables in step, and writes those that are not alike.
type merger struct {
	a, b       *stream
	outA, outB *cells
	alike      func(a, b *stream) bool
	seen       func(*stream) error   // is told of every row
	forms      map[*stream]*keyForms // of keys that are not written alike and may be one, or nil
}

// close lets go of what was kept of keys.
func (m *merger) close() {
	for _, f := range m.forms {
		f.close()
	}
}

func (m *merger) merge(ctx context.Context) error {
	if err := errors.Join(m.move(ctx, m.a), m.move(ctx, m.b)); err != nil {
		return err
	}
	a, b := m.a, m.b
	for !a.over || !b.over {
		order := 0
		switch {
		case b.over || !a.over && !a.keyed:
			order = -1
		case a.over || !b.keyed:
			order = 1
		default:
			order = compareKeys(a.parts, b.parts)
		}
		var err error
		switch {
		case order < 0:
			err = m.give(ctx, a, m.outA)
		case order > 0:
			err = m.give(ctx, b, m.outB)
		default:
			err = m.meet(ctx)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// move goes on to the next row.
func (m *merger) move(ctx context.Context, r *stream) error {
	if r.n&0xff == 0 && ctx.Err() != nil {
		return ctx.Err()
	}
	err := r.next()
	if err == nil && !r.over {
		err = m.seen(r)
	}
	f := m.forms[r]
	switch {
	case err != nil || f == nil:
		return err
	case r.over:
		var twice bool
		if twice, err = f.twice(); err == nil && twice {
			err = ErrKeysTwice
		}
		return err
	case !r.keyed:
		return nil
	}
	texts := make([]string, len(r.parts))
	for i, k := range r.parts {
		texts[i] = string(k)
	}
	return f.add(record.NewKey(texts...))
}

// give writes a row, and moves on.
func (m *merger) give(ctx context.Context, r *stream, out *cells) error {
	if err := out.take(r.line); err != nil {
		return err
	}
	return m.move(ctx, r)
}

// meet compares two rows of one key, and writes both where they are not alike, or where a table has others of this
// key, which are written, too.
func (m *merger) meet(ctx context.Context) error {
	alike := m.alike(m.a, m.b)
	lineA, lineB := bytes.Clone(m.a.line), bytes.Clone(m.b.line)
	if err := errors.Join(m.move(ctx, m.a), m.move(ctx, m.b)); err != nil {
		return err
	}
	if alike && !m.a.again() && !m.b.again() {
		return nil
	}
	if err := errors.Join(m.outA.take(lineA), m.outB.take(lineB)); err != nil {
		return err
	}
	for m.a.again() {
		if err := m.give(ctx, m.a, m.outA); err != nil {
			return err
		}
	}
	for m.b.again() {
		if err := m.give(ctx, m.b, m.outB); err != nil {
			return err
		}
	}
	return nil
}
