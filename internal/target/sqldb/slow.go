package sqldb

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"paletwin/core/record"
	"paletwin/core/table/csv"
)

// This file compares two tables of which one lies behind a slow line: keys with digests of rows are read side by side, and
// then the rows alone whose digests differ.

// digestBytes are those of the SHA-256 of a row that travel: that two rows of different texts have these alike is as
// likely as that a number of 38 digits is guessed.
const digestBytes = 16

// errWhole says that rows have to be read whole after all.
var errWhole = errors.New("keys do not tell all rows")

// Digests are of the texts of the columns that both tables have, in the order of the first: of each its length in bytes, a
// colon and the text, or a minus for null.

// digestOf is the digest of a row's cells.
func digestOf(b []byte, cells [][]byte, cols []int) []byte {
	h := sha256.New()
	for _, c := range cols {
		if cell := cells[c]; len(cell) == 0 {
			h.Write([]byte{'-'})
		} else {
			text := csv.Unquote(cell)
			h.Write(strconv.AppendInt(nil, int64(len(text)), 10))
			h.Write([]byte{':'})
			h.Write(text)
		}
	}
	return hex.AppendEncode(b, h.Sum(nil)[:digestBytes])
}

// digests reports whether digests are to travel first, and can.
func (p *Pair) digests() bool { return (p.a.o.Slow || p.b.o.Slow) && p.a.keysHold() && p.b.keysHold() }

// keysHold is keyHolds, of tables on several servers, too: there each has a part of the keys.
func (t *Table) keysHold() bool {
	holds := true
	_ = t.eachTable(func(t *Table) error { holds = holds && t.keyHolds(); return nil }) // which never fails
	return holds
}

// digestShape is that of keys with a digest each.
func (t *Table) digestShape() rowShape {
	s := rowShape{name: t.Name(), width: len(t.key) + 1}
	for k := range t.key {
		s.key = append(s.key, k)
	}
	return s
}

// dumpDigests writes keys and digests of some columns, in the order of the keys.
func (t *Table) dumpDigests(ctx context.Context, cols []int, w io.Writer) error {
	var names, order []string
	var texts []*column
	for _, k := range t.key {
		names, order = append(names, t.exactly(t.cols[k])), append(order, t.e.keyOrder(t.cols[k]))
	}
	for _, c := range cols {
		texts = append(texts, t.cols[c])
	}
	digest := t.e.digest(t, texts)
	if digest == "" {
		return t.digestRows(ctx, cols, w)
	}
	sql := "SELECT " + strings.Join(append(names, digest), ", ") + " FROM " + t.table() + " ORDER BY " + strings.Join(order, ", ")
	_, err := t.s.dump(ctx, sql, append(t.keyColumns(), &column{name: "digest", affinity: asText}), w)
	return t.said(err)
}

// digestRows is dumpDigests of what is read whole, since it lies near.
func (t *Table) digestRows(ctx context.Context, cols []int, w io.Writer) error {
	g, ctx := errgroup.WithContext(ctx)
	all, end := streams(ctx, g, []source{{t.shape(), func(ctx context.Context, w io.Writer) error {
		_, err := t.dump(ctx, w)
		return t.said(err)
	}}})
	g.Go(func() error {
		defer end()
		var line []byte
		for r := all[0]; ; {
			if err := r.next(); err != nil || r.over {
				return err
			}
			line = line[:0]
			for _, k := range t.key {
				line = append(append(line, r.cells[k]...), ',')
			}
			if _, err := w.Write(append(digestOf(line, r.cells, cols), '\n')); err != nil {
				return err
			}
		}
	})
	return g.Wait()
}

// writeDigests reads keys and digests side by side, and then what differs.
func (p *Pair) writeDigests(ctx context.Context, r *Apart, outA, outB *cells) error {
	shared := [2][]int{}
	shared[0], shared[1] = p.sharedColumns()
	both := []*Table{p.a, p.b}
	var files [2]*os.File
	var keys [2]*cells
	for i := range files {
		var err error
		if files[i], err = os.CreateTemp("", "paletwin-"); err != nil {
			return err
		}
		defer os.Remove(files[i].Name())
		defer files[i].Close()
		keys[i] = newCells(files[i])
	}
	g, reading := errgroup.WithContext(ctx)
	var from []source
	for i, t := range both {
		at := t.digestShape()
		from = append(from, source{at, func(ctx context.Context, w io.Writer) error {
			if t.over == nil {
				return t.dumpDigests(ctx, shared[i], w)
			}
			var parts []source
			for _, x := range t.over.shards {
				parts = append(parts, source{at, func(ctx context.Context, w io.Writer) error { return x.dumpDigests(ctx, shared[i], w) }})
			}
			_, err := mergeRows(ctx, parts, w)
			return err
		}})
	}
	digests, end := streams(reading, g, from)
	g.Go(func() error {
		defer end()
		m := merger{a: digests[0], b: digests[1], outA: keys[0], outB: keys[1], forms: p.formsOf(digests),
			alike: func(a, b *stream) bool {
				x, y := a.cells[len(a.key)], b.cells[len(b.key)]
				return len(x) > 0 && bytes.Equal(x, y) // of a row that is too long for it MariaDB has no digest
			},
			seen: func(r *stream) error {
				if !r.keyed || r.again() {
					return errWhole
				}
				return nil
			}}
		defer m.close()
		err := m.merge(reading)
		r.Records = [2]int{digests[0].n, digests[1].n}
		return err
	})
	if err := g.Wait(); err != nil {
		return err
	}
	for i, t := range both {
		if _, err := keys[i].close(nil); err != nil {
			return err
		}
		if _, err := files[i].Seek(0, io.SeekStart); err != nil {
			return err
		}
		if err := t.fetch(ctx, files[i], []*cells{outA, outB}[i]); err != nil {
			return err
		}
	}
	return nil
}

// fetch reads the records whose keys stand in a file, with a cell more each, and writes them in that order.
func (t *Table) fetch(ctx context.Context, keys io.Reader, out *cells) error {
	r := &stream{rowShape: t.digestShape(), in: bufio.NewReader(keys)}
	var ask [][]record.Value
	for {
		if err := r.next(); err != nil {
			return err
		}
		if r.over || len(ask) == onlyPart {
			if err := t.fetchSome(ctx, ask, out); err != nil || r.over {
				return err
			}
			ask = ask[:0]
		}
		var values []record.Value
		for _, k := range r.parts {
			values = append(values, record.Text(string(k)))
		}
		ask = append(ask, values)
	}
}

// fetchSome reads some records by their keys, and writes them in order.
func (t *Table) fetchSome(ctx context.Context, ask [][]record.Value, out *cells) error {
	if len(ask) == 0 {
		return nil
	}
	rows := make([][]record.Value, len(ask))
	err := t.eachTable(func(t *Table) error {
		return t.said(t.readAt(ctx, ask, t.all, true, "", func(i int, row []record.Value) error {
			if compareValues(t.valuesAt(row), ask[i]) == 0 { // the database may take others for it
				rows[i] = row
			}
			return nil
		}))
	})
	if err != nil {
		return err
	}
	for i, row := range rows {
		if row == nil {
			return fmt.Errorf("%s: the record %s was there, and cannot be found by its key", t.Name(), ask[i])
		}
		if err := out.row(row, t.cols); err != nil {
			return err
		}
	}
	return nil
}

// digest writes the digest of texts in PostgreSQL's words. concat gives the text that the database gives, and no cast does of every type.
func (q postgres) digest(t *Table, cols []*column) string {
	var parts []string
	for _, c := range cols {
		text := "concat(" + t.exactly(c) + ")"
		parts = append(parts, fmt.Sprintf("CASE WHEN %s IS NULL THEN '-' ELSE octet_length(%s) || ':' || %s END", q.ident(c.name), text, text))
	}
	return fmt.Sprintf("encode(substring(sha256(convert_to(%s, 'UTF8')) FOR %d), 'hex')", strings.Join(parts, " || "), digestBytes)
}

// digest writes it in MariaDB's. A number of single precision, which is read as one of double precision, is like no other text.
func (m mariadb) digest(t *Table, cols []*column) string {
	var parts []string
	for _, c := range cols {
		text, mark := "CONVERT("+t.exactly(c)+" USING utf8mb4)", ":"
		if c.single {
			mark = "~"
		}
		parts = append(parts, fmt.Sprintf("IF(%s IS NULL, '-', CONCAT(LENGTH(%s), '%s', %s))", m.ident(c.name), text, mark, text))
	}
	return fmt.Sprintf("LEFT(SHA2(CONCAT(%s), 256), %d)", strings.Join(parts, ", "), 2*digestBytes)
}

func (sqlite) digest(*Table, []*column) string { return "" } // it lies on this machine
