package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/ods"
	"paletwin/core/table/xlsx"
	"paletwin/internal/target"
)

// book is the form of XLSX workbooks and ODS documents: the records are the rows of one sheet.
type book struct {
	f    *File
	in   table.Editor
	open func(name string, data []byte, o table.Options) (*table.Image, error)
	lock func(made []byte) ([]byte, error) // gives what was made the password of the file that was read
}

// openBook opens the workbook that was read, in the place of the one before.
func (f *File) openBook() (form, error) {
	plain, err := xlsx.Plain(f.img.Name, f.m.Data, f.read)
	if err != nil {
		return nil, err
	}
	in, err := xlsx.Load(f.img.Name, plain, f.sheetRead())
	return &book{f, in, xlsx.Open, func(made []byte) ([]byte, error) { return xlsx.Locked(made, f.m.Data, f.read) }}, err
}

// openDocument is openBook of an ODS document.
func (f *File) openDocument() (form, error) {
	in, err := ods.Load(f.img.Name, f.m.Data, f.sheetRead())
	return &book{f, in, ods.Open, func(made []byte) ([]byte, error) { return made, nil }}, err
}

// sheetRead says how the sheet is read that was found.
func (f *File) sheetRead() table.Options {
	o := f.read
	o.Rename, o.Sheet, o.HeadingRow = nil, f.img.Found.Sheet, f.img.HeadingRow
	return o
}

func (b *book) current(ctx context.Context, at map[string]int, states []target.State) error {
	img := b.f.img
	rows := map[int]bool{}
	place := map[int]int{} // of the rows in states
	var before []byte
	err := b.f.table(ctx, img, func(key []byte, sc *csv.Line) error {
		if i, wanted := at[string(key)]; wanted {
			s := &states[i]
			if s.Count++; s.Count == 1 {
				s.Record = sc.Record()
				s.Form = target.Form{After: record.KeyOf(before), Kept: true}
				rows[sc.Number()], place[sc.Number()] = true, i
			}
		}
		before = append(before[:0], key...)
		return nil
	})
	if err != nil {
		return err
	}
	return table.Guard(func() error {
		forms, err := b.in.RowForms(rows)
		for row, form := range forms {
			states[place[row]].Form.Row = form
		}
		return err
	})
}

// check says which steps the workbook cannot take.
func (b *book) check(ctx context.Context, steps target.Steps) ([]string, error) {
	return b.refuse(ctx, target.All(steps))
}

func (b *book) atOnce() int { return allAtOnce }

func (b *book) refuse(ctx context.Context, steps []target.Step) ([]string, error) {
	reasons := make([]string, len(steps))
	p, err := b.plan(ctx, steps, nil)
	if err != nil {
		return nil, err
	}
	refused, err := b.in.Refuse(p.ops)
	for i, why := range refused {
		reasons[p.step[i]] = why
	}
	return reasons, err
}

// write writes the workbook and reads it again before it goes out: what was made of the sheet has to be what was asked.
func (b *book) write(ctx context.Context, out io.Writer, some target.Steps) ([]target.Result, error) {
	steps := target.All(some)
	reasons, err := b.refuse(ctx, steps)
	if err != nil {
		return nil, err
	}
	results := refused(some, reasons)
	p, err := b.plan(ctx, steps, results)
	if err != nil {
		return nil, err
	}
	var made bytes.Buffer
	if err := b.in.Edit(b.f.img.HeadingRow, p.ops, &made); err != nil {
		return nil, err
	}
	img, err := b.checkMade(ctx, made.Bytes(), steps, results)
	if err != nil {
		return nil, err
	}
	data, err := b.lock(made.Bytes())
	if err != nil {
		return nil, err
	}
	b.f.made, b.f.madeSum = img, xxh3.Hash128(data)
	_, err = out.Write(data)
	return results, err
}

// plan is the steps as changes of the sheet.
type plan struct {
	ops  []table.Op
	step []int // of each op
}

func (p *plan) add(step int, op table.Op) {
	p.ops, p.step = append(p.ops, op), append(p.step, step)
}

func (b *book) plan(ctx context.Context, steps []target.Step, results []target.Result) (*plan, error) {
	img := b.f.img
	p := &plan{}
	var pl places
	var adds []int
	byKey := map[string]int{}
	for i := range steps {
		switch s := &steps[i]; {
		case left(results, i):
		case s.Act == changeset.Add:
			adds = append(adds, i)
		default:
			byKey[s.Key.Encoding()] = i
		}
	}
	if err := b.fill(ctx, p, steps, &adds); err != nil {
		return nil, err
	}
	for _, i := range adds {
		pl.place(&steps[i].Form, i, true)
	}
	pl.settle()
	last := img.HeadingRow
	// Those whose place is behind one that comes back follow it at once.
	var comeBack func(key string, row int)
	comeBack = func(key string, row int) {
		for _, i := range pl.take(key) {
			p.add(i, b.insert(&steps[i], row))
			comeBack(steps[i].Key.Encoding(), row)
		}
	}
	comeBack("", last)
	err := b.f.table(ctx, img, func(key []byte, sc *csv.Line) error {
		if i, hit := byKey[string(key)]; hit {
			if s := &steps[i]; s.Act == changeset.Delete {
				p.add(i, table.Op{Kind: b.remove(), Row: sc.Number()})
			} else {
				p.add(i, table.Op{Kind: table.SetCells, Row: sc.Number(), Cells: b.amended(s), Form: s.Form.Row})
			}
		}
		last = sc.Number()
		comeBack(string(key), sc.Number())
		return nil
	})
	for key := range pl.stranded() {
		comeBack(key, last)
	}
	for _, i := range pl.appends {
		p.add(i, b.insert(&steps[i], last))
	}
	return p, err
}

// remove is how a record is deleted.
func (b *book) remove() table.OpKind {
	if b.f.emptied {
		return table.EmptyRow
	}
	return table.RemoveRow
}

// fill has records that come back fill the rows in which they were, where rows are emptied and these are empty; those
// are taken out of adds.
func (b *book) fill(ctx context.Context, p *plan, steps []target.Step, adds *[]int) error {
	back := slices.ContainsFunc(*adds, func(i int) bool { return steps[i].Form.Kept })
	if !b.f.emptied || !back {
		return nil
	}
	taken := map[int]bool{}
	err := b.f.table(ctx, b.f.img, func(_ []byte, sc *csv.Line) error { taken[sc.Number()] = true; return nil })
	*adds = slices.DeleteFunc(*adds, func(i int) bool {
		s := &steps[i]
		row := 0
		if s.Form.Kept {
			row = b.in.RowOf(s.Form.Row)
		}
		if row <= b.f.img.HeadingRow || taken[row] {
			return false
		}
		taken[row] = true
		op := b.insert(s, row)
		op.Kind = table.FillRow
		p.add(i, op)
		return true
	})
	return err
}

func (b *book) amended(s *target.Step) []table.Cell {
	cells := make([]table.Cell, len(s.Fields))
	for i, fc := range s.Fields {
		cells[i] = b.cell(b.f.img.Column(fc.Field), fc.Field, fc.To)
	}
	return cells
}

func (b *book) insert(s *target.Step, row int) table.Op {
	op := table.Op{Kind: table.InsertRow, Row: row, Form: s.Form.Row}
	for col, h := range b.f.img.Heading {
		if v, ok := s.Record.Get(h); ok && h != "" {
			op.Cells = append(op.Cells, b.cell(col, h, v))
		}
	}
	return op
}

// cell is a value for a cell, with its other form.
func (b *book) cell(col int, field string, v record.Value) table.Cell {
	c := table.Cell{Col: col, Value: v}
	if other := strings.TrimPrefix(b.f.of.Field(field).Canonical(v.String()), "#"); other != v.String() && b.f.of.Equal(field, v, record.Text(other)) {
		c.Other = other
	}
	return c
}

// errNotExact says that a workbook did not come out as it should. Nothing of
// it is written.
var errNotExact = errors.New("the workbook would not come out exactly as meant; nothing was written")

// checkMade reads the workbook that was made and compares it with the one that
// was read and the steps. It returns the table that it holds.
func (b *book) checkMade(ctx context.Context, made []byte, steps []target.Step, results []target.Result) (*table.Image, error) {
	img, err := b.open(b.f.img.Name, made, b.f.sheetRead())
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", errNotExact, err)
	}
	img.SetHeading(b.f.img.Heading, b.f.img.Renamed)
	touched := make(map[string]*target.Step, len(steps))
	for i := range steps {
		if !left(results, i) {
			touched[steps[i].Key.Encoding()] = &steps[i]
		}
	}
	want := map[string]record.Record{} // of the steps
	rest := map[string]uint64{}        // of the others: their rows
	err = b.f.table(ctx, b.f.img, func(key []byte, sc *csv.Line) error {
		s := touched[string(key)]
		switch {
		case s == nil:
			rest[string(key)] = rowSum(sc)
		case s.Act == changeset.Amend:
			r := sc.Record()
			for _, fc := range s.Fields {
				r.Set(fc.Field, fc.To)
			}
			want[string(key)] = r
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for key, s := range touched {
		if s.Act == changeset.Add {
			want[key] = s.Record
		}
	}
	err = b.f.table(ctx, img, func(key []byte, sc *csv.Line) error {
		if sum, ok := rest[string(key)]; ok && sum == rowSum(sc) {
			delete(rest, string(key))
			return nil
		}
		r, ok := want[string(key)]
		delete(want, string(key))
		if !ok || !b.sameRecord(r, sc.Record()) {
			return fmt.Errorf("%w (row %d)", errNotExact, sc.Number())
		}
		return nil
	})
	if lost := len(want) + len(rest); err == nil && lost > 0 {
		err = fmt.Errorf("%w (%d records are missing)", errNotExact, lost)
	}
	return img, err
}

// rowSum tells a row's cells from others', those that are empty at its end aside.
func rowSum(sc *csv.Line) uint64 { return xxh3.Hash(bytes.TrimRight(sc.Raw(), ",")) }

// sameRecord reports whether a record came out as it was meant.
func (b *book) sameRecord(want, got record.Record) bool {
	w, g := want.Finder(), got.Finder()
	for _, f := range b.f.img.Heading {
		vw, _ := w(f)
		vg, _ := g(f)
		if vw.String() != vg.String() && !b.f.of.Equal(f, vw, vg) {
			return false
		}
	}
	return true
}
