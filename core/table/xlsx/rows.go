package xlsx

import (
	"bufio"
	"bytes"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// sheetEdit writes the part of one sheet anew.
type sheetEdit struct {
	*edit
	own     bool   // it is the sheet whose rows are edited; else only what points at them is
	name    string // of the sheet
	masters map[string]*master
	out     *bufio.Writer
	changed bool
}

func (s *sheetEdit) run(x *xmlscan.Scanner) error {
	x.Keep()
	if s.own {
		if s.TooLong() {
			return s.full()
		}
	}
	depth := 0
	for {
		k, err := x.Next()
		if err != nil {
			return err
		}
		switch {
		case k == xmlscan.End:
			_, err = s.out.Write(x.Raw())
			return err
		case k == xmlscan.Open && depth == 1 && x.Is("sheetData"):
			err = s.data(x)
		case k == xmlscan.Open && depth == 1 && !s.shift.None():
			err = s.beside(x)
		default:
			if k == xmlscan.Open {
				depth++
			} else if k == xmlscan.Close {
				depth--
			}
			_, err = s.out.Write(x.Raw())
		}
		if err != nil {
			return err
		}
	}
}

// beside writes what a sheet has beside its rows.
func (s *sheetEdit) beside(x *xmlscan.Scanner) error {
	n, err := x.Node()
	if err != nil {
		return err
	}
	m := &mover{shift: &s.shift, on: s.name, own: s.own, puts: s.Puts}
	stays := m.move(n)
	s.changed = s.changed || m.changed || !stays
	if stays {
		_, err = s.out.Write(n.Append(nil))
	}
	return err
}

// data writes the rows.
func (s *sheetEdit) data(x *xmlscan.Scanner) error {
	prefix := string(x.Prefix())
	if x.Empty() && s.own && s.More() {
		_, _ = s.out.Write(append(bytes.TrimSuffix(x.Raw(), []byte("/>")), '>')) // the last write says what went wrong
		if err := s.put(maxRows+1, prefix); err != nil {
			return err
		}
		_, err := s.out.WriteString("</" + prefix + "sheetData>")
		if err == nil {
			_, err = x.Next()
		}
		return err
	}
	_, _ = s.out.Write(x.Raw())
	var open, rowPrefix []byte
	for n := 0; ; {
		k, err := x.Next()
		if err != nil {
			return err
		}
		if k == xmlscan.Open && x.Is("row") {
			if n, err = rowNumber(x, n); err != nil {
				return err
			}
			open, rowPrefix = append(open[:0], x.Raw()...), append(rowPrefix[:0], x.Prefix()...)
			inside, err := x.Rest()
			if err != nil {
				return err
			}
			if s.own {
				if err := s.put(n, prefix); err != nil {
					return err
				}
			}
			if err := s.row(n, rowPrefix, open, inside); err != nil {
				return err
			}
			continue
		}
		if k == xmlscan.Close && s.own {
			if err := s.put(maxRows+1, prefix); err != nil {
				return err
			}
		}
		if _, err := s.out.Write(x.Raw()); err != nil || k == xmlscan.Close || k == xmlscan.End {
			return err
		}
	}
}

// put writes the rows that are put in somewhere before row n, and those that are filled and of which nothing stands there.
func (s *sheetEdit) put(n int, prefix string) error {
	for {
		op, to := s.Next(n)
		if op == nil {
			return nil
		}
		row, err := s.newRow(op, to, prefix)
		if err != nil {
			return err
		}
		if _, err := s.out.Write(row); err != nil {
			return err
		}
	}
}

// row writes a row that was there: where it goes to, and with the cells that are set.
func (s *sheetEdit) row(n int, prefix, open, inside []byte) (err error) {
	to, stays := n, true
	if s.own {
		if to, stays = s.shift.Row(n); !stays && !s.shift.Gone(n) {
			return s.full()
		}
	}
	formulas := (!s.shift.None() || s.own && len(s.Empty) > 0) && hasFormula(prefix, inside)
	if op := s.fill(n); op != nil {
		row, err := s.newRow(op, to, string(prefix))
		if err == nil {
			_, err = s.out.Write(row)
		}
		return err
	}
	empty := s.own && s.Empty[n]
	if !stays || empty {
		if formulas && bytes.Contains(inside, []byte("shared")) {
			_, _, err = s.moved(n, to, prefix, open, inside)
			for _, m := range s.masters {
				m.live = m.live && m.row != n
			}
		}
		if err != nil || !stays {
			return err
		}
		if inside, err = emptied(n, prefix, inside); err != nil {
			return err
		}
		formulas = false
	}
	if op := s.Sets[n]; op != nil && s.own {
		if open, inside, err = s.amended(op, prefix, open, inside); err != nil {
			return err
		}
	}
	if to != n || formulas {
		if open, inside, err = s.moved(n, to, prefix, open, inside); err != nil {
			return err
		}
	}
	_, _ = s.out.Write(open)
	_, err = s.out.Write(inside)
	return err
}

// fill returns what fills a row of the sheet that is edited, or nil.
func (s *sheetEdit) fill(n int) *table.Op {
	if !s.own {
		return nil
	}
	return s.Fill(n)
}

// emptied is what is inside a row whose cells hold nothing any more, and look as they did.
func emptied(n int, prefix, inside []byte) ([]byte, error) {
	return rewrite(n, prefix, inside, func(out []byte, c *cell) ([]byte, error) {
		if c == nil {
			return out, nil
		}
		return append(append(out, bare(c.tag)...), "/>"...), nil
	})
}

// amended is a row with cells that are set.
func (s *sheetEdit) amended(op *table.Op, prefix, open, inside []byte) (tag, rest []byte, err error) {
	set := slices.Clone(op.Cells)
	slices.SortStableFunc(set, func(a, b table.Cell) int { return a.Col - b.Col })
	before := s.readKept(op.Form)
	columns, err := s.looksFor(op, prefix, inside, set)
	if err != nil {
		return nil, nil, err
	}
	p := string(prefix)
	if len(inside) == 0 { // <row r="7"/>
		open = append(bytes.TrimRight(bytes.TrimSuffix(open, []byte("/>")), " "), '>')
		inside = []byte("</" + p + "row>")
	}
	missing := func(out []byte, until int) []byte {
		for len(set) > 0 && set[0].Col < until {
			c := &set[0]
			set = set[1:]
			if k := before.cell(c.Col); k != nil && k.text == c.Value.String() && before.whether {
				out = s.appendKept(out, k, op.Row)
			} else if c.Value.String() != "" {
				how := columns[c.Col]
				out = s.appendCell(out, cellTag(p, c.Col, op.Row, how.style), p, c, how)
			} else {
				continue
			}
			open = xmlscan.DropAttr(open, "spans")
		}
		return out
	}
	rest, err = rewrite(op.Row, prefix, inside, func(out []byte, c *cell) ([]byte, error) {
		if c == nil {
			return missing(out, maxColumns), nil
		}
		out = missing(out, c.col)
		if len(set) == 0 || set[0].Col != c.col {
			return append(out, c.raw...), nil
		}
		one := &set[0]
		set = set[1:]
		return s.appendSet(out, c, one, before, columns, op.Row, p), nil
	})
	return open, rest, err
}

// appendSet writes a cell that was there with another value: as it was before, where it comes back, else in the type that it has,
// or that its column's cells have.
func (s *sheetEdit) appendSet(out []byte, c *cell, set *table.Cell, before *keptRow, columns map[int]look, row int, prefix string) []byte {
	was := before.cell(set.Col)
	switch {
	case before != nil && before.whether && was == nil && set.Value.String() == "":
		return out // there was no cell
	case was != nil && before.whether && was.text == set.Value.String():
		return s.appendKept(out, was, row)
	}
	how := look{c.typ, c.style}
	switch {
	case was != nil:
		how.typ = was.typ
	case c.value == "" && s.kind(c.style) == plain:
		how.typ = columns[c.col].typ
	}
	if how.typ == "e" || how.typ == "" {
		how.typ = "n"
	}
	tag := c.tag
	if c.style == 0 && c.value == "" && columns[c.col].style != 0 {
		how.style = columns[c.col].style
		tag = xmlscan.SetAttr(tag, "s", strconv.Itoa(how.style))
	}
	return s.appendCell(out, tag, prefix, set, how)
}

// appendKept writes a cell as it was, in a row.
func (s *sheetEdit) appendKept(out []byte, k *keptCell, row int) []byte {
	raw := xmlscan.SetAttr(k.raw[:len(k.tag)], "r", place(k.col, row))
	if !k.shared {
		return append(append(out, raw...), k.raw[len(k.tag):]...)
	}
	if n, err := strconv.Atoi(k.value); err == nil && n >= 0 && n < len(s.strings) && s.strings[n] == k.text {
		return append(append(out, raw...), k.raw[len(k.tag):]...)
	}
	// The workbook's texts were numbered anew since.
	value := strconv.Itoa(s.textNumber(k.text))
	from := bytes.Index(k.raw[len(k.tag):], []byte(">"+k.value+"<"))
	if from < 0 {
		from = 0
	}
	from += len(k.tag) + 1
	out = append(append(append(out, raw...), k.raw[len(k.tag):from]...), value...)
	return append(out, k.raw[from+len(k.value):]...)
}

// cellTag is the tag of a new cell.
func cellTag(prefix string, col, row, style int) []byte {
	tag := "<" + prefix + `c r="` + place(col, row) + `"`
	if style != 0 {
		tag += ` s="` + strconv.Itoa(style) + `"`
	}
	return []byte(tag + ">")
}

// looksFor returns how the cells of columns are kept, where the row that is set does not say it.
func (s *sheetEdit) looksFor(op *table.Op, prefix, inside []byte, set []table.Cell) (map[int]look, error) {
	filled := map[int]bool{}
	var walk cells
	walk.over(op.Row, prefix, inside)
	var c cell
	for {
		more, err := walk.next(&c)
		if err != nil {
			return nil, err
		}
		if !more {
			break
		}
		filled[c.col] = c.value != "" || s.kind(c.style) != plain
	}
	for i := range set {
		if !filled[set[i].Col] && set[i].Value.String() != "" {
			return s.columns(s.heading)
		}
	}
	return nil, nil
}

// newRow is a row that is put in at a place.
func (s *sheetEdit) newRow(op *table.Op, at int, prefix string) ([]byte, error) {
	if k := s.readKept(op.Form); k != nil && k.whether && string(k.prefix) == prefix {
		return s.back(op, k, at)
	}
	columns, err := s.columns(s.heading)
	if err != nil {
		return nil, err
	}
	row := []byte("<" + prefix + `row r="` + strconv.Itoa(at) + `">`)
	set := slices.Clone(op.Cells)
	slices.SortStableFunc(set, func(a, b table.Cell) int { return a.Col - b.Col })
	for i := range set {
		how := columns[set[i].Col]
		if how.typ == "" {
			how.typ = "s"
		}
		if set[i].Value.String() == "" && how.style == 0 {
			continue
		}
		row = s.appendCell(row, cellTag(prefix, set[i].Col, at, how.style), prefix, &set[i], how)
	}
	return append(row, "</"+prefix+"row>"...), nil
}

// back is a row that comes back as it was, in another place if need be, with the values that the op has.
func (s *sheetEdit) back(op *table.Op, k *keptRow, at int) ([]byte, error) {
	row := xmlscan.SetAttr(k.open, "r", strconv.Itoa(at))
	inside := k.inside
	if len(inside) == 0 {
		row = append(bytes.TrimRight(bytes.TrimSuffix(row, []byte("/>")), " "), '>')
		inside = []byte("</" + string(k.prefix) + "row>")
	}
	want := map[int]*table.Cell{}
	for i := range op.Cells {
		if c := &op.Cells[i]; c.Value.String() != "" || k.cell(c.Col) != nil {
			want[c.Col] = c
		}
	}
	p := string(k.prefix)
	extra := func(until int) {
		for _, col := range slices.Sorted(func(yield func(int) bool) {
			for col := range want {
				if col < until && !yield(col) {
					return
				}
			}
		}) {
			row = s.appendCell(row, cellTag(p, col, at, 0), p, want[col], look{typ: "n"})
			delete(want, col)
		}
	}
	last := 0
	for i := range k.cells {
		c := &k.cells[i]
		row = append(row, inside[last:c.from]...)
		last = c.to
		extra(c.col)
		set := want[c.col]
		delete(want, c.col)
		switch {
		case c.computed:
			raw, err := offset(c, at-k.n, at)
			if err != nil {
				return nil, err
			}
			row = append(row, raw...)
		case set == nil || set.Value.String() == c.text:
			row = s.appendKept(row, c, at)
		default:
			row = s.appendCell(row, xmlscan.SetAttr(c.tag, "r", place(c.col, at)), p, set, look{c.typ, c.style})
		}
	}
	extra(maxColumns)
	return append(row, inside[last:]...), nil
}

// offset is a cell with a formula that comes back so many rows further down, in row at.
func offset(c *keptCell, rows, at int) ([]byte, error) {
	n, err := cellNode(&c.cell)
	if err != nil {
		return nil, err
	}
	n.SetAttr("r", place(c.col, at))
	if rows != 0 {
		f := n.Kid("f")
		if ref, ok := f.Attr("ref"); ok {
			f.SetAttr("ref", refs.Offset(ref, rows, 0))
		}
		if text := f.Text(); text != "" {
			f.SetText(refs.Offset(text, rows, 0))
		}
	}
	return n.Append(nil), nil
}

// moved is a row that goes from n to another place, with formulas that follow what they point at.
func (s *sheetEdit) moved(n, to int, prefix, open, inside []byte) (tag, rest []byte, err error) {
	if to != n {
		open = xmlscan.SetAttr(open, "r", strconv.Itoa(to))
	}
	number := strconv.Itoa(to)
	rest, err = rewrite(n, prefix, inside, func(out []byte, c *cell) ([]byte, error) {
		if c == nil {
			return out, nil
		}
		raw := c.raw
		if c.computed {
			node, err := cellNode(c)
			if err != nil {
				return nil, err
			}
			s.formula(node.Kid("f"), n, to, c.col)
			raw = node.Append(nil)
		}
		from, end := -1, 0
		if to != n { // the tag's start is alike in raw and c.raw
			from, end = xmlscan.AttrIn(raw[:len(c.tag)], "r")
		}
		if from < 0 {
			return append(out, raw...), nil
		}
		for from < end && (raw[from] < '0' || raw[from] > '9') {
			from++
		}
		return append(append(append(out, raw[:from]...), number...), raw[end:]...), nil
	})
	return open, rest, err
}

// formula moves the formula of a cell that goes from row n to another.
func (s *sheetEdit) formula(f *xmlscan.Node, n, to, col int) {
	text := f.Text()
	now := s.shift.Formula(text, s.name)
	typ, _ := f.Attr("t")
	switch typ {
	case "shared":
		si, _ := f.Attr("si")
		if text != "" {
			s.masters[si] = &master{text: text, row: n, col: col, moved: now, to: to, live: true}
			break
		}
		m := s.masters[si]
		if m == nil {
			return
		}
		text = refs.Offset(m.text, n-m.row, col-m.col)
		now = s.shift.Formula(text, s.name)
		if !m.live || now != refs.Offset(m.moved, to-m.to, col-m.col) {
			m.share(f, n, col)
			f.SetText(now)
			s.changed = true
		}
		return
	case "array", "dataTable":
		for _, attr := range []string{"r1", "r2"} {
			s.area(f, attr)
		}
	}
	s.area(f, "ref")
	if now != text {
		f.SetText(now)
		s.changed = true
	}
}

// area moves an attribute of a formula that is an area of its sheet.
func (s *sheetEdit) area(f *xmlscan.Node, attr string) {
	ref, ok := f.Attr(attr)
	if !ok || !s.own {
		return
	}
	if now := s.shift.Area(ref); now != "" && now != ref {
		f.SetAttr(attr, strings.TrimSpace(now))
		s.changed = true
	}
}
