package xlsx

import (
	"bufio"
	"bytes"
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/refs"
	"paletwin/core/table/xmlscan"
)

// other returns a part that is neither the sheet nor the texts, as it has to be after the edit; nil where it stays as it is, and
// empty where it goes.
func (e *edit) other(key string) ([]byte, error) {
	moves := !e.shift.None()
	rows := &mover{shift: &e.shift, on: e.sheet.name, own: true, puts: e.Puts}
	formulas := &mover{shift: &e.shift}
	calc := strings.ToLower(e.around.calc)
	switch {
	case key == strings.ToLower(e.main):
		return e.tree(key, formulas, func(n *xmlscan.Node) {
			e.workbookPart(n, formulas)
		})
	case slices.ContainsFunc(e.around.pivots, func(p string) bool { return strings.ToLower(p) == key }):
		return e.tree(key, rows, func(n *xmlscan.Node) { e.pivot(n, rows) })
	case !moves:
		return nil, nil
	case key == calc:
		return []byte{}, nil
	case calc != "" && key == "[content_types].xml":
		return e.tree(key, formulas, func(n *xmlscan.Node) {
			formulas.drop(n, "PartName", func(v string) bool { return strings.EqualFold(strings.TrimPrefix(v, "/"), calc) })
		})
	case calc != "" && key == strings.ToLower(path.Dir(e.main)+"/_rels/"+path.Base(e.main)+".rels"):
		return e.tree(key, formulas, func(n *xmlscan.Node) {
			formulas.drop(n, "Type", func(v string) bool { return path.Base(v) == "calcChain" })
		})
	case e.around.sheetsOf[key] != "":
		return e.otherSheet(key, e.around.sheetsOf[key])
	case path.Ext(key) == ".xml" && (strings.Contains(key, "/charts/") || strings.Contains(key, "/chartsheets/")):
		return e.tree(key, formulas, formulas.charts)
	}
	switch e.around.own[key] {
	case "comments":
		return e.tree(key, rows, func(n *xmlscan.Node) {
			if list := n.Kid("commentList"); list != nil {
				rows.inside(list)
			}
		})
	case "threadedComment":
		return e.tree(key, rows, func(n *xmlscan.Node) { rows.inside(n) })
	case "vmlDrawing":
		return e.tree(key, rows, func(n *xmlscan.Node) { rows.vml(n) })
	case "drawing":
		return e.tree(key, rows, rows.drawing)
	case "table":
		return e.tree(key, rows, rows.table)
	case "pivotTable":
		return e.tree(key, rows, func(n *xmlscan.Node) { rows.inside(n) })
	}
	return nil, nil
}

// tree edits a part that describes something; nil says that it stays as it is.
func (e *edit) tree(name string, m *mover, change func(root *xmlscan.Node)) ([]byte, error) {
	data, err := e.whole(name)
	if err != nil {
		return nil, err
	}
	n, err := xmlscan.Tree(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	root := n.Root()
	if root == nil {
		return nil, nil
	}
	if change(root); !m.changed {
		return nil, nil
	}
	return n.Append(nil), nil
}

// drop takes the elements out whose attribute says something.
func (m *mover) drop(n *xmlscan.Node, attr string, says func(string) bool) {
	n.Kids = slices.DeleteFunc(n.Kids, func(k *xmlscan.Node) bool {
		v, ok := k.Attr(attr)
		hit := k.Name != "" && ok && says(v)
		m.changed = m.changed || hit
		return hit
	})
}

// workbookPart moves the workbook's names, and has it computed anew when it is opened.
func (e *edit) workbookPart(n *xmlscan.Node, m *mover) {
	if names := n.Kid("definedNames"); names != nil && !e.shift.None() {
		for _, k := range names.Kids {
			if k.Name == "definedName" {
				m.names(k)
			}
		}
	}
	calc := n.Kid("calcPr")
	if calc == nil {
		// Its place is fixed (ECMA-376 part 1, 18.2.27).
		at := 0
		for i, k := range n.Kids {
			switch k.Name {
			case "fileVersion", "fileSharing", "workbookPr", "workbookProtection", "bookViews", "sheets", "functionGroups", "externalReferences", "definedNames", "AlternateContent", "revisionPtr":
				at = i + 1
			}
		}
		n.Insert(at, "calcPr", []byte("<"+n.Prefix()+`calcPr fullCalcOnLoad="1"/>`))
		m.changed = true
		return
	}
	now, _ := calc.Attr("fullCalcOnLoad")
	if now != "1" && now != "true" {
		m.setAttr(calc, "fullCalcOnLoad", now, "1")
	}
}

// pivot has a pivot table computed anew whose source is the sheet, and moves that.
func (e *edit) pivot(n *xmlscan.Node, m *mover) {
	source := n.Kid("cacheSource")
	if source == nil {
		return
	}
	from := source.Kid("worksheetSource")
	if from == nil {
		return
	}
	sheet, named := from.Attr("sheet")
	if named && !strings.EqualFold(sheet, e.sheet.name) {
		return
	}
	if ref, ok := from.Attr("ref"); ok && !e.shift.None() {
		if now := e.shift.Area(ref); now != "" {
			m.setAttr(from, "ref", ref, now)
		}
	}
	if now, _ := n.Attr("refreshOnLoad"); now != "1" && now != "true" {
		m.setAttr(n, "refreshOnLoad", now, "1")
	}
}

// otherSheet writes another sheet whose formulas point at the rows that move.
func (e *edit) otherSheet(name, sheet string) ([]byte, error) {
	data, err := e.whole(name)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	s := &sheetEdit{edit: e, name: sheet, masters: map[string]*master{}, out: bufio.NewWriter(&out)}
	if err := s.run(xmlscan.Over(data)); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if err := s.out.Flush(); err != nil || !s.changed {
		return nil, err
	}
	return out.Bytes(), nil
}

// Refuse says which ops Edit could not carry out, by their places in ops.
func (b *Book) Refuse(ops []table.Op) (map[int]string, error) {
	refused, err := b.refuse(ops)
	return refused, b.fault(err)
}

func (b *Book) refuse(ops []table.Op) (map[int]string, error) {
	refused := map[int]string{}
	around, err := b.lookAround()
	if err != nil || len(ops) == 0 {
		return refused, err
	}
	if slices.ContainsFunc(ops, func(op table.Op) bool { _, seen := b.seen[op.Row]; return op.Kind == table.SetCells && !seen }) || b.seen == nil {
		rows := map[int]bool{}
		for i := range ops {
			rows[ops[i].Row] = true
		}
		err := b.look(func(n int) bool { return rows[n] }, func(int, []byte, []byte, []byte) error { return nil })
		if err != nil {
			return nil, err
		}
	}
	tables, err := b.tables()
	if err != nil {
		return nil, err
	}
	var gone []int
	for i := range ops {
		op := &ops[i]
		if why := cmp.Or(b.unwritable(op, b.seen[op.Row]), b.across(op), tables.refuse(op)); why != "" {
			refused[i] = why
		} else if op.Kind == table.RemoveRow {
			gone = append(gone, op.Row)
		}
		if around.signed {
			refused[i] = "the workbook is signed, and would not be any more"
		}
	}
	why, err := b.emptied(refs.NewMoves(gone, nil))
	for i := range ops {
		if why != "" && refused[i] == "" && ops[i].Kind == table.RemoveRow {
			refused[i] = why
		}
	}
	return refused, err
}

// unwritable says why the values of an op cannot be written, or "".
func (b *Book) unwritable(op *table.Op, computed map[int]bool) string {
	if op.Kind == table.EmptyRow {
		for _, a := range b.arrays {
			if op.Row >= a.area.From.Row && op.Row <= a.area.To.Row && a.area.From.Row < a.area.To.Row {
				return fmt.Sprintf("the array formula in %s fills row %d, and cannot be emptied in part", a.ref, op.Row)
			}
		}
	}
	for _, c := range op.Cells {
		if why := Unwritable(c.Value.String()); why != "" {
			return why
		}
		if op.Kind != table.SetCells {
			continue
		}
		if computed[c.Col] {
			return fmt.Sprintf("cell %s holds a formula, which is not overwritten", place(c.Col, op.Row))
		}
		for _, a := range b.arrays {
			if a.has(op.Row, c.Col) {
				return fmt.Sprintf("cell %s is filled by the array formula in %s, which is not overwritten", place(c.Col, op.Row), a.ref)
			}
		}
	}
	return ""
}

// has reports whether a cell is of the array.
func (a *array) has(row, col int) bool {
	left, _ := refs.Column(a.area.From.Col)
	right, _ := refs.Column(a.area.To.Col)
	return row >= a.area.From.Row && row <= a.area.To.Row && col >= left && col <= right
}

// across says which array formula an op would tear, or "".
func (b *Book) across(op *table.Op) string {
	for _, a := range b.arrays {
		top, bottom := a.area.From.Row, a.area.To.Row
		switch {
		case op.Kind == table.RemoveRow && top < bottom && op.Row >= top && op.Row <= bottom:
			return fmt.Sprintf("the array formula in %s fills row %d, and cannot lose a row", a.ref, op.Row)
		case op.Kind == table.InsertRow && op.Row >= top && op.Row < bottom:
			return fmt.Sprintf("the array formula in %s fills row %d, and no row can be put into it", a.ref, op.Row)
		}
	}
	return ""
}

// tabled are the tables of a sheet: their names, by the row of their headings.
type tabled map[int]string

func (b *Book) tables() (tabled, error) {
	all := tabled{}
	for part, typ := range b.around.own {
		if typ != "table" {
			continue
		}
		err := b.scan(part, func(x *xmlscan.Scanner) error {
			if x.Is("table") {
				ref, _ := x.Attr("ref")
				name, _ := x.Attr("displayName")
				heading, _ := x.Attr("headerRowCount")
				if r, ok := refs.Parse(ref); ok && heading != "0" {
					all[r.From.Row] = name
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (t tabled) refuse(op *table.Op) string {
	if name, ok := t[op.Row]; ok && op.Kind == table.RemoveRow {
		return fmt.Sprintf("row %d has the headings of the table %s", op.Row, name)
	}
	return ""
}

// emptied says which pivot table would have nothing left to show, or "".
func (b *Book) emptied(m *refs.Moves) (why string, err error) {
	for _, part := range b.around.pivots {
		err = b.scan(part, func(x *xmlscan.Scanner) error {
			sheet, _ := x.Attr("sheet")
			ref, _ := x.Attr("ref")
			if r, ok := refs.Parse(ref); ok && x.Is("worksheetSource") && strings.EqualFold(sheet, b.sheet.name) {
				if top, bottom, ok := m.Rows(r.From.Row, r.To.Row); !ok || bottom <= top {
					why = "a pivot table shows the cells " + ref + ", and would have none left"
				}
			}
			return nil
		})
		if err != nil {
			break
		}
	}
	return why, err
}
