package ods

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/table"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// Book is a document whose sheet is looked at, and edited; it is a table.Editor. It keeps what it has seen; it does not change.
type Book struct {
	name, sheet string
	zip         *zip.Reader
	content     *zip.File
	styles      string               // tells the formats that cells name from others'
	looks       map[int]look         // of the last filled cell of each column
	seen        map[int]map[int]bool // rows that were looked at: their cells that hold formulas, by column
	matrices    []matrix
}

// matrix are cells that one formula fills.
type matrix struct{ top, left, bottom, right int }

func (m matrix) String() string {
	return fmt.Sprintf("%s%d:%s%d", refs.Letters(m.left), m.top, refs.Letters(m.right), m.bottom)
}

// look is how a cell is kept, beyond its value.
type look struct {
	typ string
	tag []byte // as far as it says how the cell looks
}

// Load opens a document to look how its sheet keeps rows, and to edit it; of its bytes, which have to stay as they are. Errors are
// *table.Error.
func Load(name string, data []byte, o table.Options) (*Book, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, broken(name, "the file is no whole zip archive")
	}
	b := &Book{name: name, zip: z, sheet: o.Sheet}
	for _, f := range z.File {
		if f.Name == "content.xml" && b.content == nil {
			b.content = f
		}
		if f.Name == "META-INF/documentsignatures.xml" {
			return nil, &table.Error{Code: table.NoTarget, File: name, Text: "the document is signed, and would not be any more"}
		}
	}
	if b.content == nil {
		return nil, broken(name, "it has no content; it may be encrypted")
	}
	return b, nil
}

// fault makes what goes wrong in a document a *table.Error.
func (b *Book) fault(err error) error {
	var e *table.Error
	if err == nil || errors.As(err, &e) || errors.Is(err, table.ErrChanged) {
		return err
	}
	return broken(b.name, "the spreadsheet cannot be read: "+err.Error())
}

// scanner opens the document's content.
func (b *Book) scanner() (x *xmlscan.Scanner, done func() error, err error) {
	r, err := b.content.Open()
	if err != nil {
		return nil, nil, err
	}
	return xmlscan.New(xmlscan.Unpacked(r, b.content.CompressedSize64, maxPart, new(int64))), r.Close, nil
}

// tableRow is a row of a table, or several that are alike.
type tableRow struct {
	n, times     int
	prefix       []byte
	open, inside []byte // its tag, and what is inside with its end tag
}

// rowOf takes the row that was opened, and that follows n rows. What it holds is good until the next.
func rowOf(x *xmlscan.Scanner, n int, r *tableRow) error {
	r.times = times(x.RawAttr("number-rows-repeated"))
	r.n = n + 1
	r.times = max(min(r.times, maxRows-n), 1)
	r.open, r.prefix = append(r.open[:0], x.Raw()...), append(r.prefix[:0], x.Prefix()...)
	var err error
	r.inside, err = x.Rest()
	return err
}

// rows walks the rows of the sheet, and takes in the formats.
func (b *Book) rows(each func(r *tableRow) error) error {
	x, done, err := b.scanner()
	if err != nil {
		return err
	}
	defer done()
	for {
		k, err := x.Next()
		switch {
		case err != nil:
			return err
		case k == xmlscan.End:
			return nil
		case k == xmlscan.Open && x.Is("automatic-styles"):
			inside, err := x.Rest()
			if err != nil {
				return err
			}
			sum := xxh3.Hash128(inside).Bytes()
			b.styles = fmt.Sprintf("%x", sum[:8])
		case k == xmlscan.Open && x.Is("table"):
			if name := x.RawAttr("name"); string(xmlscan.Decode(name)) != b.sheet {
				if err := x.Skip(); err != nil {
					return err
				}
				continue
			}
			return walk(x, each)
		}
	}
}

// walk walks the rows of the table that was opened.
func walk(x *xmlscan.Scanner, each func(r *tableRow) error) error {
	var r tableRow
	n := 0
	for depth := 1; depth > 0; {
		k, err := x.Next()
		switch {
		case err != nil:
			return err
		case k == xmlscan.End:
			return xmlscan.ErrCut
		case k == xmlscan.Close:
			depth--
		case k == xmlscan.Open && x.Is("table-row"):
			if err := rowOf(x, n, &r); err != nil {
				return err
			}
			if err := each(&r); err != nil {
				return err
			}
			n += r.times
		case k == xmlscan.Open && group(x):
			depth++
		case k == xmlscan.Open:
			if err := x.Skip(); err != nil {
				return err
			}
		}
	}
	return nil
}

// group reports whether the element that was opened holds rows.
func group(x *xmlscan.Scanner) bool {
	return x.Is("table-row-group") || x.Is("table-header-rows") || x.Is("table-rows")
}

// place is a cell of a row, or several that are alike, as it is written.
type place struct {
	cellAttrs
	from, to   int // within what is inside the row
	open       []byte
	inside     []byte // what is inside the cell, its end tag included; nil where it closes itself
	col, times int
	covered    bool
	text       string
	rows, cols int // that its formula fills, if it fills several
}

// places lists the cells of a row.
func places(inside []byte) ([]place, error) {
	var all []place
	x := xmlscan.Over(inside)
	col := 0
	for {
		k, err := x.Next()
		switch {
		case err != nil:
			return nil, err
		case k == xmlscan.End, k == xmlscan.Close:
			return all, nil
		case k != xmlscan.Open:
			continue
		}
		end := x.Offset()
		p := place{from: bytes.LastIndexByte(inside[:end], '<'), col: col, covered: x.Is("covered-table-cell"), rows: 1, cols: 1}
		is := p.covered || x.Is("table-cell")
		for name, value := range x.Attrs() {
			switch to := p.named([]byte(name)); {
			case to != nil && *to == nil:
				*to = append([]byte{}, value...)
			case name == "number-matrix-rows-spanned":
				p.rows = times([]byte(value))
			case name == "number-matrix-columns-spanned":
				p.cols = times([]byte(value))
			}
		}
		if p.inside, err = x.Rest(); err != nil {
			return nil, err
		}
		if !is {
			continue
		}
		p.to, p.open, p.times = x.Offset(), inside[p.from:end], min(times(p.columns), maxColumns)
		shown, err := shownIn(p.inside)
		if err != nil {
			return nil, err
		}
		var said bool
		if p.text, said = p.cellAttrs.text(); !said {
			p.text = shown
		}
		col += p.times
		all = append(all, p)
	}
}

// shownIn is the text that is shown by what is inside a cell.
func shownIn(inside []byte) (string, error) {
	if len(inside) == 0 {
		return "", nil
	}
	return (&reader{x: xmlscan.Over(inside)}).paragraphs()
}

// look looks through the sheet once: at the cells that formulas fill, and at the rows that are wanted.
func (b *Book) look(wanted func(n int) bool, row func(n int, r *tableRow) error) error {
	b.matrices, b.seen = nil, map[int]map[int]bool{}
	return b.rows(func(r *tableRow) error {
		var computed map[int]bool
		if bytes.Contains(r.inside, []byte("formula=")) {
			all, err := places(r.inside)
			if err != nil {
				return err
			}
			computed = map[int]bool{}
			for i := range all {
				p := &all[i]
				for c := p.col; p.formula != nil && c < p.col+p.times; c++ {
					computed[c] = true
				}
				if p.rows > 1 || p.cols > 1 {
					b.matrices = append(b.matrices, matrix{r.n, p.col, r.n + p.rows - 1, p.col + p.cols - 1})
				}
			}
		}
		for n := r.n; n < r.n+r.times; n++ {
			if r.times > 1_000 && len(bytes.TrimSpace(r.inside)) == 0 {
				break
			}
			if wanted(n) {
				b.seen[n] = computed
				if err := row(n, r); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// kept is a row as it was, so that it can come back.
type kept struct {
	Row    string `json:"row"`  // as it is written, once
	At     int    `json:"at"`   // where it stood
	Styles string `json:"look"` // Book.styles
}

const keptBegins = `{"row":`

// RowForms returns for the given rows how they are kept, for an Op. Rows are as the sheet counts them.
func (b *Book) RowForms(rows map[int]bool) (map[int]string, error) {
	all := make(map[int]string, len(rows))
	if len(rows) == 0 {
		return all, nil
	}
	err := b.look(func(n int) bool { return rows[n] }, func(n int, r *tableRow) error {
		text, err := json.Marshal(kept{string(xmlscan.DropAttr(r.open, "number-rows-repeated")) + string(r.inside), n, b.styles})
		all[n] = string(text)
		return err
	})
	return all, b.fault(err)
}

// RowOf is the row at which a row stood when RowForms was asked for it; 0 is not known.
func (b *Book) RowOf(form string) int {
	var k kept
	if !strings.HasPrefix(form, keptBegins) || json.Unmarshal([]byte(form), &k) != nil {
		return 0
	}
	return k.At
}

// keptRow is a row that was kept, cell by cell.
type keptRow struct {
	tableRow
	places []place
	same   bool // its formats are the document's
}

// readKept reads what RowForms gave; nil is none, or that of another kind of file.
func (b *Book) readKept(form string) *keptRow {
	var k kept
	if !strings.HasPrefix(form, keptBegins) || json.Unmarshal([]byte(form), &k) != nil || k.At < 1 {
		return nil
	}
	x := xmlscan.Over([]byte(k.Row))
	if kind, err := x.Next(); err != nil || kind != xmlscan.Open || !x.Is("table-row") {
		return nil
	}
	row := &keptRow{same: k.Styles == b.styles}
	if rowOf(x, k.At-1, &row.tableRow) != nil {
		return nil
	}
	var err error
	if row.places, err = places(row.inside); err != nil {
		return nil
	}
	return row
}

// place returns the cell of a column, or nil.
func (k *keptRow) place(col int) *place {
	if k == nil {
		return nil
	}
	for i := range k.places {
		if p := &k.places[i]; col >= p.col && col < p.col+p.times {
			return p
		}
	}
	return nil
}

// columns returns the look of the last filled cell of each column below the heading.
func (b *Book) columns(heading int) (map[int]look, error) {
	if b.looks != nil {
		return b.looks, nil
	}
	looks := map[int]look{}
	err := b.rows(func(r *tableRow) error {
		if r.n <= heading || !bytes.Contains(r.inside, []byte("<")) {
			return nil
		}
		all, err := places(r.inside)
		for i := range all {
			p := &all[i]
			for c := p.col; p.text != "" && p.formula == nil && c < p.col+p.times; c++ {
				looks[c] = look{string(p.typ), bare(p.open)}
			}
		}
		return err
	})
	b.looks = looks
	return looks, err
}

// aboutValues are the attributes of a cell that say what it holds, or how often it is there.
var aboutValues = []string{"value-type", "value", "date-value", "time-value", "boolean-value", "string-value", "number-columns-repeated", "currency"}

// bare is a cell's tag, without its end, as far as it says how the cell looks.
func bare(tag []byte) []byte {
	for _, name := range aboutValues {
		for n := len(tag) + 1; len(tag) < n; { // there may be one in each namespace
			n = len(tag)
			tag = xmlscan.DropAttr(tag, name)
		}
	}
	return bytes.TrimRight(bytes.TrimSuffix(bytes.TrimSuffix(tag, []byte(">")), []byte("/")), " \t\r\n")
}

// Refuse says which ops Edit could not carry out, by their places in ops.
func (b *Book) Refuse(ops []table.Op) (map[int]string, error) {
	refused := map[int]string{}
	if len(ops) == 0 {
		return refused, nil
	}
	rows := map[int]bool{}
	unseen := b.seen == nil
	for i := range ops {
		rows[ops[i].Row] = true
		_, seen := b.seen[ops[i].Row]
		unseen = unseen || ops[i].Kind == table.SetCells && !seen
	}
	if unseen {
		if err := b.look(func(n int) bool { return rows[n] }, func(int, *tableRow) error { return nil }); err != nil {
			return nil, b.fault(err)
		}
	}
	for i := range ops {
		if why := b.refuse(&ops[i]); why != "" {
			refused[i] = why
		}
	}
	return refused, nil
}

func (b *Book) refuse(op *table.Op) string {
	for _, c := range op.Cells {
		if why := unwritable(c.Value.String()); why != "" {
			return why
		}
		if op.Kind != table.SetCells {
			continue
		}
		at := refs.Letters(c.Col) + strconv.Itoa(op.Row)
		if b.seen[op.Row][c.Col] {
			return "cell " + at + " holds a formula, which is not overwritten"
		}
		for _, m := range b.matrices {
			if op.Row >= m.top && op.Row <= m.bottom && c.Col >= m.left && c.Col <= m.right {
				return fmt.Sprintf("cell %s is filled by the array formula in %s, which is not overwritten", at, m)
			}
		}
	}
	for _, m := range b.matrices {
		if m.top == m.bottom || op.Row < m.top || op.Row > m.bottom || op.Kind == table.SetCells || op.Kind == table.InsertRow && op.Row == m.bottom {
			continue
		}
		return fmt.Sprintf("the array formula in %s fills row %d, and cannot lose or gain one", m, op.Row)
	}
	return ""
}

// unwritable says why a cell cannot hold a text, or "".
func unwritable(text string) string {
	for _, r := range text {
		if r < ' ' && r != '\t' && r != '\n' || r == 0xfffe || r == 0xffff || r == 0xfffd {
			return fmt.Sprintf("the value has the character U+%04X, which a cell of an OpenDocument spreadsheet cannot hold", r)
		}
	}
	return ""
}
