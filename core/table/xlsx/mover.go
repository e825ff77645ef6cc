package xlsx

import (
	"slices"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// mover moves what points at rows, in elements beside the cells: rules, names, comments, drawings.
type mover struct {
	shift   *refs.Shift
	on      string // the sheet on which it stands; "" is none
	own     bool   // that is the one whose rows move
	puts    map[int][]*table.Op
	changed bool
}

// areas are the attributes of elements of a sheet that are areas of it; elements of which nothing is left go.
var areas = map[string]string{"mergeCell": "ref", "hyperlink": "ref", "autoFilter": "ref", "sortState": "ref", "sortCondition": "ref",
	"protectedRange": "sqref", "ignoredError": "sqref", "cellWatch": "r", "inputCells": "r", "dimension": "ref", "comment": "ref",
	"threadedComment": "ref", "location": "ref"}

// lists are elements that go when the last of the elements inside does.
var lists = map[string]string{"mergeCells": "mergeCell", "hyperlinks": "hyperlink", "dataValidations": "dataValidation", "protectedRanges": "protectedRange",
	"ignoredErrors": "ignoredError", "cellWatches": "cellWatch", "scenario": "inputCells", "scenarios": "scenario", "rowBreaks": "brk",
	"conditionalFormattings": "conditionalFormatting", "sparklines": "sparkline", "sparklineGroup": "sparklines", "sparklineGroups": "sparklineGroup"}

// formulas are elements whose text is a formula.
var formulas = []string{"f", "formula", "formula1", "formula2"}

// setText and setAttr note whether anything became another.
func (m *mover) setText(n *xmlscan.Node, old, now string) {
	if old != now {
		n.SetText(now)
		m.changed = true
	}
}

func (m *mover) setAttr(n *xmlscan.Node, name, old, now string) {
	if old != now {
		n.SetAttr(name, now)
		m.changed = true
	}
}

// move moves what is in an element; false says that it goes.
func (m *mover) move(n *xmlscan.Node) bool {
	switch {
	case m.own && (n.Name == "conditionalFormatting" || n.Name == "dataValidation"):
		return m.rule(n)
	case m.own && n.Name == "sparkline":
		if at := n.Kid("sqref"); at != nil && m.shift.List(at.Text()) == "" {
			return false
		}
	case slices.Contains(formulas, n.Name):
		text := n.Text()
		m.setText(n, text, m.shift.Formula(text, m.on))
		return true
	case m.own && n.Name == "sqref":
		text := n.Text()
		m.setText(n, text, m.shift.List(text))
		return true
	case n.Name == "cfvo":
		if typ, _ := n.Attr("type"); typ == "formula" {
			val, _ := n.Attr("val")
			m.setAttr(n, "val", val, m.shift.Formula(val, m.on))
		}
	case m.own && n.Name == "brk":
		return m.pageBreak(n)
	case m.own && (n.Name == "from" || n.Name == "to"):
		m.corner(n)
		return true
	}
	if attr := areas[n.Name]; attr != "" && m.own && !m.area(n, attr) {
		return false
	}
	return m.inside(n)
}

// area moves an attribute that is an area; false says that nothing is left of it.
func (m *mover) area(n *xmlscan.Node, attr string) bool {
	old, ok := n.Attr(attr)
	if !ok {
		return true
	}
	now := m.shift.List(old)
	r, ok := refs.Parse(now)
	switch {
	case now == "" && n.Name == "dimension":
		now = old
	case now == "":
		return false
	case n.Name == "mergeCell" && ok && r.From == r.To:
		return false // one cell alone is not merged
	case n.Name == "autoFilter" && ok:
		was, _ := refs.Parse(old)
		r.To.Row += len(m.puts[was.To.Row])
		now = r.String()
	}
	m.setAttr(n, attr, old, now)
	return true
}

// inside moves what is in the elements inside; those that go are taken out, and where it was a list and the last went, it goes.
func (m *mover) inside(n *xmlscan.Node) bool {
	item, was := lists[n.Name], n.Elements()
	left := 0
	n.Kids = slices.DeleteFunc(n.Kids, func(k *xmlscan.Node) bool {
		if k.Name == "" {
			return false
		}
		stays := m.move(k)
		m.changed = m.changed || !stays
		if stays && (item == "" || k.Name == item) {
			left++
		}
		return !stays
	})
	if count, ok := n.Attr("count"); ok && n.Elements() != was {
		m.setAttr(n, "count", count, strconv.Itoa(n.Elements()))
	}
	return item == "" || left > 0
}

// rule moves a rule of cells. Its formulas are those of its uppermost row, from which those of the others follow: where that row goes, they
// are those of the row that takes its place.
func (m *mover) rule(n *xmlscan.Node) bool {
	list, ok := n.Attr("sqref")
	within := n.Kid("sqref")
	if within != nil {
		list, ok = within.Text(), true
	}
	if !ok {
		return m.inside(n)
	}
	top, first := refs.MaxRows+1, refs.MaxRows+1
	for _, one := range strings.Fields(list) {
		r, ok := refs.Parse(one)
		if !ok {
			continue
		}
		a, z := min(r.From.Row, r.To.Row), max(r.From.Row, r.To.Row)
		top = min(top, a)
		for a <= z && m.shift.Gone(a) {
			a++
		}
		if a <= z {
			first = min(first, a)
		}
	}
	if first > refs.MaxRows {
		return false
	}
	if within == nil {
		m.setAttr(n, "sqref", list, m.shift.List(list))
	}
	based := func(n *xmlscan.Node) {
		text := n.Text()
		m.setText(n, text, m.shift.Formula(refs.Offset(text, first-top, 0), m.on))
	}
	var walk func(n *xmlscan.Node)
	walk = func(n *xmlscan.Node) {
		switch {
		case slices.Contains(formulas, n.Name):
			if f := n.Kid("f"); f != nil {
				n = f
			}
			based(n)
			return
		case n.Name == "sqref":
			text := n.Text()
			m.setText(n, text, m.shift.List(text))
			return
		case n.Name == "cfvo":
			if typ, _ := n.Attr("type"); typ == "formula" {
				val, _ := n.Attr("val")
				m.setAttr(n, "val", val, m.shift.Formula(refs.Offset(val, first-top, 0), m.on))
			}
		}
		for _, k := range n.Kids {
			walk(k)
		}
	}
	walk(n)
	return true
}

// pageBreak moves a break of pages, which stands behind a row.
func (m *mover) pageBreak(n *xmlscan.Node) bool {
	id, _ := n.Attr("id")
	row, err := strconv.Atoi(id)
	if err != nil || row == 0 {
		return true
	}
	to, stays := m.shift.Row(row)
	if stays {
		m.setAttr(n, "id", id, strconv.Itoa(to))
	}
	return stays
}

// corner moves the row of an anchor, which is counted from 0.
func (m *mover) corner(n *xmlscan.Node) {
	row := n.Kid("row")
	if row == nil {
		return
	}
	text := row.Text()
	if at, err := strconv.Atoi(strings.TrimSpace(text)); err == nil {
		to, _ := m.shift.Row(at + 1)
		m.setText(row, text, strconv.Itoa(to-1))
	}
}

// names moves what the names of a workbook stand for. References without a $ before the row are relative to wherever a name is used, and
// stay.
func (m *mover) names(n *xmlscan.Node) {
	name, _ := n.Attr("name")
	text := n.Text()
	m.setText(n, text, refs.Each(text, func(r *refs.Ref) (string, bool) {
		if !r.From.Abs && !r.To.Abs {
			return "", false
		}
		more := len(m.puts[r.To.Row])
		now, changed := m.shift.Moved(r, "")
		if changed && r.Range && strings.EqualFold(name, "_xlnm._FilterDatabase") && more > 0 {
			r.To.Row += more // as the filter itself
			now = r.String()
		}
		return now, changed
	}))
}

// drawing moves the anchors of a sheet's drawings.
func (m *mover) drawing(n *xmlscan.Node) {
	if as, _ := n.Attr("editAs"); as == "absolute" {
		return
	}
	if n.Name == "twoCellAnchor" || n.Name == "oneCellAnchor" {
		for _, k := range n.Kids {
			if k.Name == "from" || k.Name == "to" {
				m.corner(k)
			}
		}
		return
	}
	for _, k := range n.Kids {
		m.drawing(k)
	}
}

// vml moves the shapes of a sheet's drawings of old: comments, and buttons.
func (m *mover) vml(n *xmlscan.Node) bool {
	if n.Name != "shape" {
		n.Kids = slices.DeleteFunc(n.Kids, func(k *xmlscan.Node) bool {
			stays := k.Name == "" || m.vml(k)
			m.changed = m.changed || !stays
			return !stays
		})
		return true
	}
	data := n.Kid("ClientData")
	if data == nil {
		return true
	}
	if row := data.Kid("Row"); row != nil {
		text := strings.TrimSpace(row.Text())
		at, err := strconv.Atoi(text)
		if err != nil {
			return true
		}
		to, stays := m.shift.Row(at + 1)
		if !stays {
			return false
		}
		m.setText(row, text, strconv.Itoa(to-1))
	}
	if anchor := data.Kid("Anchor"); anchor != nil {
		old := anchor.Text()
		parts := strings.Split(old, ",")
		for _, i := range []int{2, 6} {
			if i >= len(parts) {
				break
			}
			if at, err := strconv.Atoi(strings.TrimSpace(parts[i])); err == nil {
				to, _ := m.shift.Row(at + 1)
				parts[i] = " " + strconv.Itoa(to-1)
			}
		}
		if now := strings.Join(parts, ","); strings.ReplaceAll(now, " ", "") != strings.ReplaceAll(old, " ", "") {
			m.setText(anchor, old, now)
		}
	}
	return true
}

// table moves a table of the sheet. A row that is put in behind its last one belongs to it, as one that a person writes there does.
func (m *mover) table(n *xmlscan.Node) {
	old, _ := n.Attr("ref")
	r, ok := refs.Parse(old)
	if !ok {
		return
	}
	was := r
	count := func(attr string, usual int) int {
		if v, ok := n.Attr(attr); ok {
			if c, err := strconv.Atoi(v); err == nil {
				return c
			}
		}
		return usual
	}
	heading, totals := count("headerRowCount", 1), count("totalsRowCount", 0)
	m.shift.Move(&r)
	if totals == 0 {
		r.To.Row += len(m.puts[was.To.Row])
	}
	r.To.Row = max(r.To.Row, r.From.Row+heading+totals) // it has a row, if an empty one
	grown := r.To.Row
	for _, k := range n.Kids {
		switch k.Name {
		case "autoFilter":
			ref, _ := k.Attr("ref")
			if f, ok := refs.Parse(ref); ok {
				f.From.Row, f.To.Row = r.From.Row, grown-totals
				m.setAttr(k, "ref", ref, f.String())
			}
			for _, inner := range k.Kids {
				m.inside(inner)
			}
		case "sortState":
			m.move(k)
		default:
			for _, c := range k.Kids {
				m.columns(c)
			}
		}
	}
	m.setAttr(n, "ref", old, r.String())
}

// columns moves the formulas of a table's columns.
func (m *mover) columns(n *xmlscan.Node) {
	for _, k := range n.Kids {
		if k.Name == "calculatedColumnFormula" || k.Name == "totalsRowFormula" {
			text := k.Text()
			m.setText(k, text, m.shift.Formula(text, m.on))
		}
	}
}

// charts moves what a chart shows.
func (m *mover) charts(n *xmlscan.Node) {
	if n.Name == "f" {
		text := n.Text()
		m.setText(n, text, refs.Each(text, func(r *refs.Ref) (string, bool) {
			now, changed := m.shift.Moved(r, "")
			if changed && r.Range && r.From == r.To {
				now = (&refs.Ref{From: r.From, To: r.From}).String() // one cell is written as one
			}
			return now, changed
		}))
		return
	}
	for _, k := range n.Kids {
		m.charts(k)
	}
}
