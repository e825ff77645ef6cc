package xlsx

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/zeebo/xxh3"

	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// Book is a workbook whose sheet is looked at, and edited. It keeps what it has seen; it does not change.
type Book struct {
	*book
	seen    map[int]map[int]bool // rows that were looked at: their cells that hold formulas, by column
	arrays  []array
	looks   map[int]look       // of the last filled cell of each column
	masters map[string]*master // formulas that cells share, by their numbers
	around  *around
	styles  string
}

// array is a formula that fills cells, or a table of what one gives.
type array struct {
	ref  string
	area refs.Ref
}

// look is how a cell is kept, beyond its value.
type look struct {
	typ   string
	style int
}

// rows walks the rows of a part: the tag that opens each, and what is inside with its end tag. Both are good until the next.
func (b *book) rows(part string, row func(n int, prefix, open, inside []byte) error) error {
	n := 0
	var open, prefix []byte
	var isRow rowsIn
	return b.scan(part, func(x *xmlscan.Scanner) (err error) {
		if !isRow.see(x) {
			return nil
		}
		if n, err = rowNumber(x, n); err != nil {
			return err
		}
		open, prefix = append(open[:0], x.Raw()...), append(prefix[:0], x.Prefix()...)
		inside, err := x.Rest()
		if err != nil {
			return err
		}
		return row(n, prefix, open, inside)
	})
}

// look looks through the sheet once: at the formulas of cells that share one, or are filled by one, and at the rows that
// are wanted.
func (b *Book) look(wanted func(n int) bool, row func(n int, prefix, open, inside []byte) error) error {
	b.arrays, b.masters, b.seen = nil, map[string]*master{}, map[int]map[int]bool{}
	var walk cells
	return b.rows(b.sheet.part, func(n int, prefix, open, inside []byte) error {
		var computed map[int]bool
		if hasFormula(prefix, inside) {
			computed = map[int]bool{}
			walk.over(n, prefix, inside)
			if err := b.formulas(&walk, computed); err != nil {
				return err
			}
		}
		if !wanted(n) {
			return nil
		}
		b.seen[n] = computed
		return row(n, prefix, open, inside)
	})
}

// hasFormula reports whether a row has a cell with a formula, or seems to.
func hasFormula(prefix, inside []byte) bool {
	if len(prefix) == 0 {
		return bytes.Contains(inside, []byte("<f"))
	}
	return bytes.Contains(inside, slices.Concat([]byte{'<'}, prefix, []byte{'f'}))
}

// formulas takes in the formulas of a row that are of several cells.
func (b *Book) formulas(walk *cells, computed map[int]bool) error {
	var c cell
	for {
		more, err := walk.next(&c)
		if err != nil || !more {
			return err
		}
		if !c.computed {
			continue
		}
		computed[c.col] = true
		if !bytes.Contains(c.raw[len(c.tag):], []byte("t=")) {
			continue
		}
		n, err := cellNode(&c)
		if err != nil {
			return err
		}
		f := n.Kid("f")
		switch typ, _ := f.Attr("t"); typ {
		case "array", "dataTable":
			ref, _ := f.Attr("ref")
			if area, ok := refs.Parse(ref); ok {
				b.arrays = append(b.arrays, array{ref, area})
			}
		case "shared":
			if text := f.Text(); text != "" {
				si, _ := f.Attr("si")
				b.masters[si] = &master{text: text, row: walk.row, col: c.col}
			}
		}
	}
}

// cellNode is a cell as a tree. A cell with a formula has an f.
func cellNode(c *cell) (*xmlscan.Node, error) {
	x := xmlscan.Over(c.raw)
	x.Keep()
	if k, err := x.Next(); err != nil || k != xmlscan.Open {
		return nil, errCell
	}
	n, err := x.Node()
	if err == nil && c.computed && n.Kid("f") == nil {
		err = errCell
	}
	return n, err
}

// columns returns the look of the last filled cell of each column below the heading.
func (b *Book) columns(heading int) (map[int]look, error) {
	if b.looks != nil {
		return b.looks, nil
	}
	looks := map[int]look{}
	var walk cells
	var c cell
	err := b.rows(b.sheet.part, func(n int, prefix, _, inside []byte) error {
		if n <= heading {
			return nil
		}
		walk.over(n, prefix, inside)
		for {
			more, err := walk.next(&c)
			if err != nil || !more {
				return err
			}
			if c.value != "" && !c.computed {
				looks[c.col] = look{c.typ, c.style}
			}
		}
	})
	b.looks = looks
	return looks, err
}

// stylesSum tells the workbook's formats from others': a cell's style is a number among them.
func (b *Book) stylesSum() string {
	if b.styles == "" {
		data, err := b.whole(b.format)
		if err != nil {
			data = nil // cells have no style that another workbook could share
		}
		sum := xxh3.Hash128(data).Bytes()
		b.styles = fmt.Sprintf("%x", sum[:8])
	}
	return b.styles
}

// whole reads a part that describes something.
func (b *book) whole(part string) ([]byte, error) {
	f := b.parts[strings.ToLower(part)]
	if f == nil {
		return nil, nil
	}
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(xmlscan.Unpacked(r, f.CompressedSize64, maxPart, &b.came))
}

// kept is a row as it was, so that it can come back.
type kept struct {
	Row    string   `json:"row"`             // as it is written, formulas that it shares written out
	Styles string   `json:"styles"`          // Book.stylesSum
	Texts  []string `json:"texts,omitempty"` // of its cells that refer to the workbook's texts
}

// RowForms returns for the given rows how they are kept, for an Op. Rows are as the sheet counts them.
func (b *Book) RowForms(rows map[int]bool) (map[int]string, error) {
	all := make(map[int]string, len(rows))
	if len(rows) == 0 {
		return all, nil
	}
	err := b.look(func(n int) bool { return rows[n] }, func(n int, prefix, open, inside []byte) error {
		k, err := b.keep(n, prefix, open, inside)
		if err != nil {
			return err
		}
		text, err := json.Marshal(k)
		all[n] = string(text)
		return err
	})
	return all, b.fault(err)
}

func (b *Book) keep(n int, prefix, open, inside []byte) (kept, error) {
	k := kept{Styles: b.stylesSum()}
	rest, err := rewrite(n, prefix, inside, func(out []byte, c *cell) ([]byte, error) {
		switch {
		case c == nil:
			return out, nil
		case c.typ == "s":
			text, _ := b.text(c)
			k.Texts = append(k.Texts, text)
		}
		if !c.computed {
			return append(out, c.raw...), nil
		}
		raw, err := b.alone(n, c)
		return append(out, raw...), err
	})
	k.Row = string(append(xmlscan.SetAttr(open, "r", strconv.Itoa(n)), rest...))
	return k, err
}

// alone is a cell whose formula is its own.
func (b *Book) alone(row int, c *cell) ([]byte, error) {
	n, err := cellNode(c)
	if err != nil {
		return nil, err
	}
	f := n.Kid("f")
	if typ, _ := f.Attr("t"); typ != "shared" {
		return c.raw, nil
	}
	si, _ := f.Attr("si")
	if m := b.masters[si]; m != nil {
		m.share(f, row, c.col)
	}
	return n.Append(nil), nil
}

// master is a formula that several cells share: the text of the first, from which those of the others follow.
type master struct {
	text     string
	row, col int

	moved string // the text where the first went
	to    int    // the row to which it went
	live  bool
}

// share gives a cell the text of the formula that it shares.
func (m *master) share(f *xmlscan.Node, row, col int) {
	for _, attr := range []string{"t", "si", "ref"} {
		f.DropAttr(attr)
	}
	f.SetText(refs.Offset(m.text, row-m.row, col-m.col))
}

// keptRow is a row that was kept, cell by cell.
type keptRow struct {
	kept
	n       int
	prefix  []byte
	open    []byte
	inside  []byte
	cells   []keptCell
	whether bool // its styles are the workbook's
}

type keptCell struct {
	cell
	from, to int // within inside
	text     string
	shared   bool
}

// readKept reads what RowForms gave; nil is none, or that of another kind of file.
func (b *Book) readKept(form string) *keptRow {
	k := &keptRow{}
	if !strings.HasPrefix(form, `{"row":`) || json.Unmarshal([]byte(form), &k.kept) != nil {
		return nil
	}
	x := xmlscan.Over([]byte(k.Row))
	if kind, err := x.Next(); err != nil || kind != xmlscan.Open || !x.Is("row") {
		return nil
	}
	n, err := rowNumber(x, 0)
	if err != nil {
		return nil
	}
	k.n, k.open, k.prefix = n, bytes.Clone(x.Raw()), bytes.Clone(x.Prefix())
	rest, err := x.Rest()
	if err != nil {
		return nil
	}
	k.inside = rest
	k.whether = k.Styles == b.stylesSum()
	var walk cells
	walk.over(n, k.prefix, rest)
	texts := k.Texts
	for {
		var c keptCell
		more, err := walk.next(&c.cell)
		if err != nil {
			return nil
		}
		if !more {
			return k
		}
		c.from, c.to = walk.at-len(c.raw), walk.at
		if c.typ == "s" {
			if len(texts) == 0 {
				return nil
			}
			c.text, c.shared, texts = texts[0], true, texts[1:]
		} else {
			c.text, _ = b.text(&c.cell)
		}
		k.cells = append(k.cells, c)
	}
}

// RowOf is the row at which a row stood when RowForms was asked for it; 0 is not known.
func (b *Book) RowOf(form string) int {
	var k kept
	if !strings.HasPrefix(form, `{"row":`) || json.Unmarshal([]byte(form), &k) != nil {
		return 0
	}
	x := xmlscan.Over([]byte(k.Row))
	if kind, err := x.Next(); err != nil || kind != xmlscan.Open {
		return 0
	}
	n, err := rowNumber(x, 0)
	if err != nil {
		return 0
	}
	return n
}

// cell returns the cell of a column, or nil.
func (k *keptRow) cell(col int) *keptCell {
	if k == nil {
		return nil
	}
	i := slices.IndexFunc(k.cells, func(c keptCell) bool { return c.col == col })
	if i < 0 {
		return nil
	}
	return &k.cells[i]
}

// around is what of a workbook is about its sheets, by relationship.
type around struct {
	own      map[string]string // parts that belong to the sheet, by lower-case name: the last word of the relationship's type
	pivots   []string          // definitions of pivot caches
	signed   bool
	calc     string            // the calculation chain
	sheetsOf map[string]string // names of the sheets by lower-case part
}

// relations reads the relationships of a part.
func (b *book) relations(part string, each func(typ, target string)) error {
	dir, base := path.Split(part)
	return b.scan(dir+"_rels/"+base+".rels", func(x *xmlscan.Scanner) error {
		if !x.Is("Relationship") {
			return nil
		}
		if mode, _ := x.Attr("TargetMode"); mode == "External" {
			return nil
		}
		typ, _ := x.Attr("Type")
		to, _ := x.Attr("Target")
		if !strings.HasPrefix(to, "/") {
			to = path.Join(dir, to)
		}
		each(path.Base(typ), strings.TrimPrefix(to, "/"))
		return nil
	})
}

// lookAround finds what belongs to the sheet.
func (b *Book) lookAround() (*around, error) {
	if b.around != nil {
		return b.around, nil
	}
	a := &around{own: map[string]string{}, sheetsOf: map[string]string{}}
	for i := range b.sheets {
		a.sheetsOf[strings.ToLower(b.sheets[i].part)] = b.sheets[i].name
	}
	err := b.relations(b.sheet.part, func(typ, to string) { a.own[strings.ToLower(to)] = typ })
	if err != nil {
		return nil, err
	}
	err = b.relations(b.main, func(typ, to string) {
		switch typ {
		case "pivotCacheDefinition":
			a.pivots = append(a.pivots, to)
		case "calcChain":
			a.calc = to
		}
	})
	for name := range b.parts {
		a.signed = a.signed || strings.HasPrefix(name, "_xmlsignatures/")
	}
	b.around = a
	return a, err
}
