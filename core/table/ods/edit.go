package ods

import (
	"archive/zip"
	"bufio"
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/archive"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// edit is an edit that is being carried out.
type edit struct {
	*Book
	*table.Plan
	heading int
	shift   refs.Shift
	out     *bufio.Writer

	office, text, table string // prefixes, with their colons
	written             int    // rows of the sheet
}

// Edit writes the document with the ops carried out on the sheet, whose heading is in the given row. The content is written anew as
// it is read; every other part goes over as it stands, but for charts of rows that move. A cell keeps its format, and its type
// where a value of that type reads back as the very text that is asked for, or as its other form; else it becomes text.
//
// What Refuse refuses must not be among the ops.
func (b *Book) Edit(heading int, ops []table.Op, w io.Writer) error {
	e := &edit{Book: b, Plan: table.NewPlan(ops), heading: heading, office: "office:", text: "text:", table: "table:"}
	e.shift = refs.Shift{Sheet: b.sheet, Moves: &e.Moves}
	if e.TooLong() {
		return e.full()
	}
	return b.fault(e.write(w))
}

func (e *edit) full() error {
	return &table.Error{Code: table.TooLarge, File: e.name, Text: fmt.Sprintf("a sheet has %d rows, and there would be more", maxRows)}
}

func (e *edit) write(w io.Writer) error {
	to := zip.NewWriter(w)
	if err := to.SetComment(e.zip.Comment); err != nil {
		return err
	}
	for _, f := range e.zip.File {
		var err error
		switch {
		case f == e.content:
			err = archive.Anew(to, f, e.anew)
		case !e.None() && strings.HasSuffix(f.Name, "/content.xml"):
			err = e.object(to, f)
		default:
			err = to.Copy(f)
		}
		if err != nil {
			return err
		}
	}
	return to.Close()
}

// object writes the content of an object in the document, a chart say, which may show rows that move.
func (e *edit) object(to *zip.Writer, f *zip.File) error {
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	data, err := io.ReadAll(xmlscan.Unpacked(r, f.CompressedSize64, maxPart, new(int64)))
	if err != nil {
		return err
	}
	now, err := e.tags(data, "")
	switch {
	case err != nil:
		return err
	case bytes.Equal(now, data):
		return to.Copy(f)
	}
	return archive.Anew(to, f, func(w io.Writer) error { _, err := w.Write(now); return err })
}

// anew writes the document's content.
func (e *edit) anew(w io.Writer) error {
	x, done, err := e.scanner()
	if err != nil {
		return err
	}
	defer done()
	x.Keep()
	e.out = bufio.NewWriterSize(w, 1<<16)
	found := false
	for {
		k, err := x.Next()
		if err != nil {
			return err
		}
		switch {
		case k == xmlscan.End:
			if _, err := e.out.Write(x.Raw()); err != nil {
				return err
			}
			if !found {
				return fmt.Errorf("it has no sheet %q", e.sheet)
			}
			return e.out.Flush()
		case k == xmlscan.Open && x.Is("document-content"):
			e.prefixes(x.Raw())
			_, err = e.out.Write(x.Raw())
		case k == xmlscan.Open && x.Is("table"):
			name := string(xmlscan.Decode(x.RawAttr("name")))
			own := name == e.sheet && !found
			found = found || own
			_, _ = e.out.Write(e.tag(x.Raw(), name))
			err = e.sheetOf(x, own, name)
		case k == xmlscan.Open && !e.None() && (x.Is("automatic-styles") || x.Is("named-expressions") || x.Is("database-ranges") || x.Is("content-validations") || x.Is("data-pilot-tables")):
			err = e.beside(x, "")
		default:
			_, err = e.out.Write(x.Raw())
		}
		if err != nil {
			return err
		}
	}
}

// prefixes takes in which prefixes the document gives to the names that a cell is made of.
func (e *edit) prefixes(tag []byte) {
	for uri, to := range map[string]*string{"office": &e.office, "text": &e.text, "table": &e.table} {
		m := regexp.MustCompile(`xmlns:([^=\s]+)\s*=\s*["']urn:oasis:names:tc:opendocument:xmlns:` + uri + `:1\.0["']`).FindSubmatch(tag)
		if m != nil {
			*to = string(m[1]) + ":"
		}
	}
}

// sheetOf writes the table that was opened, up to its end.
func (e *edit) sheetOf(x *xmlscan.Scanner, own bool, name string) error {
	if x.Empty() {
		_, err := x.Next()
		return err
	}
	var r tableRow
	n, depth := 0, 1
	for {
		k, err := x.Next()
		switch {
		case err != nil:
			return err
		case k == xmlscan.End:
			return xmlscan.ErrCut
		case k == xmlscan.Open && x.Is("table-row"):
			if err := rowOf(x, n, &r); err != nil {
				return err
			}
			if err := e.row(&r, own, name); err != nil {
				return err
			}
			n += r.times
			continue
		case k == xmlscan.Open && group(x):
			depth++
		case k == xmlscan.Open:
			if own && (x.Is("named-expressions") || x.Is("conditional-formats")) {
				if err := e.put(maxRows + 1); err != nil {
					return err
				}
			}
			if err := e.beside(x, name); err != nil {
				return err
			}
			continue
		case k == xmlscan.Close:
			if depth--; depth == 0 && own {
				if err := e.put(maxRows + 1); err != nil {
					return err
				}
			}
		}
		if _, err := e.out.Write(x.Raw()); err != nil || depth == 0 {
			return err
		}
	}
}

// beside writes an element that is none of rows.
func (e *edit) beside(x *xmlscan.Scanner, on string) error {
	if e.None() {
		_, _ = e.out.Write(x.Raw()) // the next write says what went wrong
		rest, err := x.Rest()
		if err == nil {
			_, err = e.out.Write(rest)
		}
		return err
	}
	n, err := x.Node()
	if err != nil {
		return err
	}
	if e.move(n, on) {
		_, err = e.out.Write(n.Append(nil))
	}
	return err
}

// put writes the rows that are put in somewhere before row n, and those that are filled and of which nothing stands there.
func (e *edit) put(n int) error {
	for {
		op, to := e.Next(n)
		if op == nil {
			return nil
		}
		row, err := e.newRow(op, to)
		if err != nil {
			return err
		}
		e.written++
		if _, err := e.out.Write(row); err != nil {
			return err
		}
	}
}

// quiet counts the rows from n on, up to another, with which nothing happens and between which no row is put in.
func (e *edit) quiet(n, end int) int {
	if n > e.Last {
		return end - n + 1
	}
	k := 0
	for ; n <= end; n++ {
		if e.Sets[n] != nil || e.Fills[n] != nil || e.Empty[n] || e.Gone(n) {
			break
		}
		k++
		if e.Puts[n] != nil {
			break
		}
	}
	return k
}

// row writes rows that were there.
func (e *edit) row(r *tableRow, own bool, on string) error {
	if !own {
		return e.same(r, r.times, on)
	}
	for n, end := r.n, r.n+r.times-1; n <= end; {
		if err := e.put(n); err != nil {
			return err
		}
		if k := e.quiet(n, end); k > 0 {
			if err := e.same(r, k, on); err != nil {
				return err
			}
			e.written += k
			n += k
			continue
		}
		if err := e.one(r, n, on); err != nil {
			return err
		}
		n++
	}
	return nil
}

// same writes so many of the rows as they are.
func (e *edit) same(r *tableRow, k int, on string) error {
	open, inside := r.open, r.inside
	if k != r.times {
		open = repeated(open, "number-rows-repeated", e.table, k)
	}
	if over := e.written + k - maxRows; over > 0 && e.written > 0 {
		if all, err := places(inside); err != nil || slices.ContainsFunc(all, func(p place) bool { return p.text != "" }) {
			return e.full()
		}
		if k -= over; k <= 0 {
			return nil // rows that hold nothing, below the last
		}
		open = repeated(open, "number-rows-repeated", e.table, k)
	}
	if !e.None() && (bytes.Contains(inside, []byte("formula=")) || bytes.Contains(inside, []byte("address="))) {
		var err error
		if inside, err = e.tags(inside, on); err != nil {
			return err
		}
	}
	_, _ = e.out.Write(open)
	_, err := e.out.Write(inside)
	return err
}

// one writes one row that something happens with.
func (e *edit) one(r *tableRow, n int, on string) error {
	if e.Gone(n) {
		return nil
	}
	e.written++
	if op := e.Fill(n); op != nil {
		to, _ := e.Row(n)
		row, err := e.newRow(op, to)
		if err == nil {
			_, err = e.out.Write(row)
		}
		return err
	}
	one := tableRow{n: n, times: 1, prefix: r.prefix, open: repeated(r.open, "number-rows-repeated", e.table, 1), inside: r.inside}
	var err error
	if e.Empty[n] {
		one.inside, err = e.emptied(&one)
	} else if op := e.Sets[n]; op != nil {
		err = e.amended(op, &one)
	}
	if err != nil {
		return err
	}
	e.written--
	defer func() { e.written++ }()
	return e.same(&one, 1, on)
}

// repeated is a tag that says how often what it opens is there.
func repeated(tag []byte, attr, prefix string, times int) []byte {
	tag = xmlscan.DropAttr(tag, attr)
	if times == 1 {
		return tag
	}
	return xmlscan.SetAttr(tag, prefix+attr, strconv.Itoa(times))
}

// emptied is what is inside a row whose cells hold nothing any more, and look as they did.
func (e *edit) emptied(r *tableRow) ([]byte, error) {
	all, err := places(r.inside)
	if err != nil {
		return nil, err
	}
	var out []byte
	last := 0
	for i := range all {
		p := &all[i]
		out = append(append(out, r.inside[last:p.from]...), xmlscan.DropAttr(bare(p.open), "formula")...)
		last = p.to
		if p.times > 1 {
			out = append(out, ` `+e.table+`number-columns-repeated="`+strconv.Itoa(p.times)+`"`...)
		}
		if beside := others(p.inside); len(beside) > 0 {
			out = e.close(append(append(out, '>'), beside...), p)
		} else {
			out = append(out, "/>"...)
		}
	}
	return append(out, r.inside[last:]...), nil
}

// close ends a cell.
func (e *edit) close(out []byte, p *place) []byte {
	name := "table-cell"
	if p != nil && p.covered {
		name = "covered-table-cell"
	}
	return append(out, "</"+e.table+name+">"...)
}

// others is what is inside a cell besides its text: a comment, a drawing.
func others(inside []byte) []byte {
	x := xmlscan.Over(inside)
	var out []byte
	for {
		k, err := x.Next()
		if err != nil || k == xmlscan.End || k == xmlscan.Close {
			return out
		}
		if k != xmlscan.Open {
			continue
		}
		end := x.Offset()
		from := bytes.LastIndexByte(inside[:end], '<')
		text := x.Is("p")
		if _, err := x.Rest(); err != nil {
			return out
		}
		if !text {
			out = append(out, inside[from:x.Offset()]...)
		}
	}
}

// amended sets cells of a row.
func (e *edit) amended(op *table.Op, r *tableRow) error {
	all, err := places(r.inside)
	if err != nil {
		return err
	}
	set := slices.Clone(op.Cells)
	slices.SortStableFunc(set, func(a, b table.Cell) int { return a.Col - b.Col })
	before := e.readKept(op.Form)
	columns, err := e.columns(e.heading)
	if err != nil {
		return err
	}
	if len(r.inside) == 0 {
		r.open = append(bytes.TrimRight(bytes.TrimSuffix(r.open, []byte("/>")), " "), '>')
		r.inside = []byte("</" + e.table + "table-row>")
	}
	var out []byte
	last, end := 0, 0
	for i := range all {
		p := &all[i]
		out = append(out, r.inside[last:p.from]...)
		last, end = p.to, p.col+p.times
		col := p.col
		for len(set) > 0 && set[0].Col < end {
			c := set[0]
			set = set[1:]
			out = e.again(out, p, c.Col-col)
			out = e.set(out, p, &c, before, columns[c.Col])
			col = c.Col + 1
		}
		if col == p.col {
			out = append(out, r.inside[p.from:p.to]...)
		} else {
			out = e.again(out, p, end-col)
		}
	}
	for _, c := range set {
		if c.Value.String() == "" {
			continue
		}
		out = e.gapOf(out, c.Col-end)
		out = e.set(out, nil, &c, before, columns[c.Col])
		end = c.Col + 1
	}
	r.inside = append(out, r.inside[last:]...)
	return nil
}

// again writes a cell so many times.
func (e *edit) again(out []byte, p *place, times int) []byte {
	if times <= 0 {
		return out
	}
	out = append(out, repeated(p.open, "number-columns-repeated", e.table, times)...)
	return append(out, p.inside...)
}

// gapOf writes so many cells that hold nothing.
func (e *edit) gapOf(out []byte, times int) []byte {
	if times <= 0 {
		return out
	}
	return append(out, repeated([]byte("<"+e.table+"table-cell/>"), "number-columns-repeated", e.table, times)...)
}

// newRow is a row that is put in at a place.
func (e *edit) newRow(op *table.Op, at int) ([]byte, error) {
	if k := e.readKept(op.Form); k != nil && k.same && string(k.prefix) == e.table {
		return e.back(op, k, at)
	}
	r := tableRow{n: at, times: 1, open: []byte("<" + e.table + "table-row/>")}
	if err := e.amended(&table.Op{Row: at, Cells: op.Cells}, &r); err != nil {
		return nil, err
	}
	return append(slices.Clone(r.open), r.inside...), nil
}

// back is a row that comes back as it was, in another place if need be, with the values that the op has.
func (e *edit) back(op *table.Op, k *keptRow, at int) ([]byte, error) {
	var other []table.Cell
	for _, c := range op.Cells {
		p := k.place(c.Col)
		if p == nil && c.Value.String() != "" || p != nil && p.formula == nil && p.text != c.Value.String() {
			other = append(other, c)
		}
	}
	r := k.tableRow
	if len(other) > 0 {
		if err := e.amended(&table.Op{Row: at, Cells: other}, &r); err != nil {
			return nil, err
		}
	}
	inside, err := eachTag(r.inside, func(raw []byte) []byte {
		from, to := xmlscan.AttrIn(raw, "formula")
		if from < 0 || at == k.n {
			return raw
		}
		return xmlscan.SetAttr(raw, "formula", refs.OffsetOpen(string(xmlscan.Decode(raw[from:to])), at-k.n))
	})
	return append(slices.Clone(r.open), inside...), err
}
