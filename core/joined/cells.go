package joined

import (
	"bytes"
	"context"

	"github.com/zeebo/xxh3"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// A sheet may have a million rows. What is kept of them are numbers: where rows and cells are, so that
// nothing is split twice, and there is nothing for the garbage collector to look at.

// cells is a table whose rows are split.
type cells struct {
	img    *table.Image
	width  int
	start  []int64  // of each row in the table's bytes
	end    []uint32 // of each cell, from its row's start
	number []uint32 // of each row; nil where they count from first
	first  int
}

// readCells splits a table. A row that has not as many cells as there are headings is refused, since it
// is not certain which cell is whose.
func readCells(ctx context.Context, m *table.Image) (*cells, error) {
	c := &cells{img: m, width: len(m.Heading)}
	var row csv.Row
	room := 0 // rows, by the first of them
	err := csv.Each(ctx, m, func(r *csv.Line) error {
		raw := r.Raw()
		row.Split(raw, m.Comma, 0)
		switch n := row.Len(); {
		case n < c.width:
			return c.ragged(table.ShortRow, r, "fewer cells than there are headings")
		case n > c.width && beyond(r, c.width):
			return c.ragged(table.LongRow, r, "filled cells beyond the last heading")
		}
		at, stop, _ := r.At()
		if room == 0 {
			room = len(m.Data)/(stop-at+1) + 1
			c.start, c.end = make([]int64, 0, room), make([]uint32, 0, room*c.width)
		}
		end := 0
		for i := range c.width {
			end += len(row.Cell(i))
			c.end = append(c.end, uint32(end))
			end++
		}
		c.start = append(c.start, int64(at))
		if n, i := r.Number(), len(c.start)-1; c.number != nil {
			c.number = append(c.number, uint32(n))
		} else if i == 0 {
			c.first = n
		} else if n != c.first+i { // a row was passed over, or they are the rows of several sheets
			c.number = make([]uint32, i, cap(c.start))
			for k := range c.number {
				c.number[k] = uint32(c.first + k)
			}
			c.number = append(c.number, uint32(n))
		}
		return nil
	})
	return c, err
}

// beyond reports whether a row has something in cells from col on.
func beyond(r *csv.Line, col int) bool {
	for ; col < r.Len(); col++ {
		if len(r.Cell(col)) > 0 {
			return true
		}
	}
	return false
}

// ragged refuses a sheet with a row of which it cannot be told what is whose.
func (c *cells) ragged(code table.Code, r *csv.Line, what string) error {
	return &table.Error{Code: code, File: c.img.Name, Row: r.Number(), Text: "the row has " + what + ", so that it is not certain which cell is whose"}
}

func (c *cells) len() int { return len(c.start) }

// row is the number of a row as a spreadsheet counts.
func (c *cells) row(i int32) int {
	if c.number == nil {
		return c.first + int(i)
	}
	return int(c.number[i])
}

// cell is a cell as it stands in its row; nil where there is no such column.
func (c *cells) cell(row int32, col int) []byte {
	if col < 0 {
		return nil
	}
	at, from := int(row)*c.width+col, uint32(0)
	if col > 0 {
		from = c.end[at-1] + 1
	}
	s := c.start[row]
	return c.img.Data[s+int64(from) : s+int64(c.end[at])]
}

// appendKey appends the key that stands in some columns.
func (c *cells) appendKey(dst []byte, row int32, cols []int) []byte {
	for _, col := range cols {
		dst = record.AppendPart(dst, csv.Unquote(c.cell(row, col)))
	}
	return dst
}

func (c *cells) key(row int32, cols []int) record.Key {
	return record.KeyOf(c.appendKey(nil, row, cols))
}

// value is what a cell holds.
func (c *cells) value(cell []byte) record.Value {
	v, there := csv.Value(c.img, cell)
	if !there {
		return record.Null()
	}
	return v
}

// keys finds things by keys, whatever form of a key is asked for.
type keys struct {
	of    *schema.Schema
	at    map[uint64]int32 // the last that was put under a hash
	next  []int32          // the one before it under that hash; -1 is none
	value []int32
	end   []uint32 // of the key's bytes in all
	all   []byte
}

func newKeys(of *schema.Schema, room int) *keys {
	return &keys{of: of, at: make(map[uint64]int32, room), next: make([]int32, 0, room), value: make([]int32, 0, room), end: make([]uint32, 0, room)}
}

// form is a key in the form that all forms of it have in common.
func (k *keys) form(enc []byte) []byte {
	if k.of.OneForm() {
		return enc
	}
	return []byte(k.of.Key(record.KeyOf(enc)).Encoding())
}

func (k *keys) key(n int32) []byte {
	from := uint32(0)
	if n > 0 {
		from = k.end[n-1]
	}
	return k.all[from:k.end[n]]
}

func (k *keys) find(form []byte, hash uint64) (n int32, there bool) {
	n, there = k.at[hash]
	for ; there && n >= 0; n = k.next[n] {
		if bytes.Equal(k.key(n), form) {
			return n, true
		}
	}
	return -1, false
}

// put keeps what is at a key, unless something is there already, and returns what is there.
func (k *keys) put(enc []byte, value int32) int32 {
	form := k.form(enc)
	hash := xxh3.Hash(form)
	if n, there := k.find(form, hash); there {
		return k.value[n]
	}
	before := int32(-1)
	if n, there := k.at[hash]; there {
		before = n
	}
	k.at[hash] = int32(len(k.next))
	k.next, k.value = append(k.next, before), append(k.value, value)
	k.all = append(k.all, form...)
	k.end = append(k.end, uint32(len(k.all)))
	return value
}

func (k *keys) get(enc []byte) (value int32, there bool) {
	form := k.form(enc)
	n, there := k.find(form, xxh3.Hash(form))
	if !there {
		return -1, false
	}
	return k.value[n], true
}

// blankKey reports whether a part of a key is blank.
func blankKey(enc []byte) bool { return record.BlankKey(enc) }

// rows are a snapshot's records, found by their keys.
type rows struct {
	img   *table.Image
	of    *schema.Schema
	cols  []int   // of the key
	start []int64 // of each row
	end   []int64
	keys  *keys // made when it is first needed
	step  int32 // the record behind the one that was found last
	buf   []byte
}

// readRows reads where a snapshot's records are.
func readRows(ctx context.Context, m *table.Image, key []string, of *schema.Schema) (*rows, error) {
	cols, err := csv.KeyColumns(m, key)
	if err != nil {
		return nil, err
	}
	r := &rows{img: m, of: of, cols: cols}
	return r, csv.Each(ctx, m, func(l *csv.Line) error {
		start, end, _ := l.At()
		r.start, r.end = append(r.start, int64(start)), append(r.end, int64(end))
		return nil
	})
}

func (r *rows) raw(n int32) []byte { return r.img.Data[r.start[n]:r.end[n]] }

// key is the key of a record; it is good until the next.
func (r *rows) key(n int32) []byte {
	r.buf = csv.AppendKey(r.buf[:0], r.raw(n), r.cols, r.img.Comma)
	return r.buf
}

// find finds a record. Most are asked for in their order, or once more.
func (r *rows) find(enc []byte) (n int32, there bool) {
	const near = 3
	for n := max(0, r.step-1); n < min(int32(len(r.start)), r.step+near); n++ {
		if bytes.Equal(r.key(n), enc) {
			r.step = n + 1
			return n, true
		}
	}
	r.index()
	if n, there = r.keys.get(enc); there {
		r.step = n + 1
	}
	return n, there
}

func (r *rows) index() {
	if r.keys != nil {
		return
	}
	r.keys = newKeys(r.of, len(r.start))
	for n := range r.start {
		r.keys.put(r.key(int32(n)), int32(n))
	}
}

// cell is a cell of a record, as it stands there; ok is false where the record has none.
func (r *rows) cell(n int32, col int) (cell []byte, ok bool) {
	return csv.Cell(r.raw(n), col, r.img.Comma)
}
