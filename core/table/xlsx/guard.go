package xlsx

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"paletwin/core/table"
	"paletwin/core/table/xmlscan"
)

// guard knows what in a workbook the writing library would damage, so that
// the ops which would do so are refused.
type guard struct {
	*book
	arrays   []area         // cells that an array formula fills
	shared   bool           // the sheet has formulas that several cells share
	comments bool           // the sheet has comments
	begins   map[int]string // rows at which something begins that points at the sheet, and what
	fixed    int            // the last row that something points at which does not move with its cells
	locks    []lock         // what protects the workbook and its sheets
}

// lock is something that protects a sheet, or the workbook where that is "".
type lock struct{ where, what string }

// area is a range of cells; rows from 1, columns from 0.
type area struct{ top, left, bottom, right int }

func (a area) has(row, col int) bool {
	return row >= a.top && row <= a.bottom && col >= a.left && col <= a.right
}

// newGuard looks through the parts of a workbook.
func newGuard(b *book) (*guard, error) {
	g := &guard{book: b, begins: map[int]string{}}
	for i := range b.sheets {
		s := &b.sheets[i]
		row := 0
		err := b.scan(s.part, func(x *xmlscan.Scanner) error { return g.element(x, s, &row) })
		if err != nil {
			return nil, err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b.parts)) {
		if err := g.other(name); err != nil {
			return nil, err
		}
	}
	return g, g.related()
}

// element takes in an element of a sheet; row is the row it stands in, if any.
func (g *guard) element(x *xmlscan.Scanner, s *sheet, row *int) error {
	g.protects(x, s.name)
	own := s.part == g.sheet.part
	switch {
	case x.Is("row"):
		n, _ := x.Attr("r")
		if v, err := strconv.Atoi(n); err == nil {
			*row = v
		} else {
			*row++
		}
	case x.Is("f"):
		return g.formula(x, s, *row)
	case x.Is("formula"), x.Is("formula1"), x.Is("formula2"):
		text, err := element(x)
		g.points(text, s.name, 0, "a rule of the sheet "+s.name)
		return err
	case own && (x.Is("dimension") || x.Is("selection") || x.Is("pane") || x.Is("c")):
	case own:
		for _, name := range []string{"ref", "sqref"} {
			ref, _ := x.Attr(name)
			for _, r := range strings.Fields(ref) {
				g.points(r, s.name, 0, "a "+x.Name())
			}
		}
	}
	return nil
}

// formula takes in a formula of a cell.
func (g *guard) formula(x *xmlscan.Scanner, s *sheet, row int) error {
	typ, _ := x.Attr("t")
	ref, _ := x.Attr("ref")
	if s.part == g.sheet.part {
		switch typ {
		case "shared":
			g.shared = true
		case "array", "dataTable":
			if m, ok := merged(ref); ok {
				g.arrays = append(g.arrays, area{m.Top, m.Left, m.Bottom, m.Right})
			} else if m, ok := merged(ref + ":" + ref); ok {
				g.arrays = append(g.arrays, area{m.Top, m.Left, m.Bottom, m.Right})
			}
		}
	}
	text, err := element(x)
	within := 0
	if s.part == g.sheet.part {
		within = row
	}
	g.points(text, s.name, within, fmt.Sprintf("the formula in row %d of the sheet %s", row, s.name))
	return err
}

// reference is a cell, a range or a range of rows within a formula, with the
// sheet before it.
var reference = regexp.MustCompile(`(?:('(?:[^']|'')+'|[\p{L}\p{N}_.]+)!)?(?:\$?[A-Za-z]{1,3}\$?([0-9]{1,7})(?::\$?[A-Za-z]{1,3}\$?([0-9]{1,7}))?|\$?([0-9]{1,7}):\$?([0-9]{1,7}))`)

var quoted = regexp.MustCompile(`"[^"]*"`)

// points takes in what a formula on a sheet points at; what stands in the row
// within goes with it, and points at nothing that stays.
func (g *guard) points(formula, from string, within int, what string) {
	for _, r := range g.references(formula, from) {
		if r.top != within && g.begins[r.top] == "" {
			g.begins[r.top] = what
		}
	}
}

// references lists the rows that a formula on a sheet names of the guarded one.
func (g *guard) references(formula, from string) []area {
	var all []area
	for _, m := range reference.FindAllStringSubmatch(quoted.ReplaceAllString(formula, `""`), -1) {
		sheet := from
		if m[1] != "" {
			sheet = strings.ReplaceAll(strings.Trim(m[1], "'"), "''", "'")
		}
		if !strings.EqualFold(sheet, g.sheet.name) {
			continue
		}
		first, _ := strconv.Atoi(m[2] + m[4])
		last, _ := strconv.Atoi(m[3] + m[5])
		if last == 0 {
			last = first
		}
		all = append(all, area{top: min(first, last), bottom: max(first, last)})
	}
	return all
}

// other takes in a part that is no sheet.
func (g *guard) other(name string) error {
	kind := func(prefix string) bool { return strings.HasPrefix(name, "xl/"+prefix) }
	switch {
	case name == "xl/workbook.xml":
		return g.scan(name, func(x *xmlscan.Scanner) error {
			g.protects(x, "")
			if !x.Is("definedName") {
				return nil
			}
			called, _ := x.Attr("name")
			text, err := element(x)
			g.points(text, "", 0, "the name "+called)
			return err
		})
	case kind("charts/"), kind("chartsheets/"):
		return g.scan(name, func(x *xmlscan.Scanner) error {
			g.protects(x, name)
			if !x.Is("f") {
				return nil
			}
			text, err := element(x)
			for _, r := range g.references(text, "") {
				g.fixed = max(g.fixed, r.bottom)
			}
			return err
		})
	case kind("pivotcache/"):
		return g.scan(name, func(x *xmlscan.Scanner) error {
			sheet, _ := x.Attr("sheet")
			ref, _ := x.Attr("ref")
			if x.Is("worksheetSource") && strings.EqualFold(sheet, g.sheet.name) {
				for _, r := range g.references(ref, sheet) {
					g.fixed = max(g.fixed, r.bottom)
				}
			}
			return nil
		})
	}
	return nil
}

// related looks at the parts that belong to the sheet: comments and tables.
func (g *guard) related() error {
	dir, base := path.Split(g.sheet.part)
	var tables []string
	err := g.scan(dir+"_rels/"+base+".rels", func(x *xmlscan.Scanner) error {
		if !x.Is("Relationship") {
			return nil
		}
		typ, _ := x.Attr("Type")
		to, _ := x.Attr("Target")
		switch {
		case strings.HasSuffix(typ, "/comments"), strings.HasSuffix(typ, "/threadedComment"):
			g.comments = true
		case strings.HasSuffix(typ, "/table"):
			if !strings.HasPrefix(to, "/") {
				to = path.Join(dir, to)
			}
			tables = append(tables, strings.TrimPrefix(to, "/"))
		}
		return nil
	})
	for _, part := range tables {
		if err != nil {
			break
		}
		err = g.scan(part, func(x *xmlscan.Scanner) error {
			if ref, ok := x.Attr("ref"); ok && x.Is("table") {
				g.points(ref, g.sheet.name, 0, "a table")
			}
			return nil
		})
	}
	return err
}

// usuallyLocked are the attributes of sheetProtection that are true where they
// are left out (ECMA-376 part 1, 18.3.1.85); the others are false then.
var usuallyLocked = []string{"formatCells", "formatColumns", "formatRows", "insertColumns", "insertRows", "insertHyperlinks", "deleteColumns",
	"deleteRows", "sort", "autoFilter", "pivotTables"}

// protects takes in an element that protects something: its name and what it
// says, in an order of its own.
func (g *guard) protects(x *xmlscan.Scanner, where string) {
	if !slices.ContainsFunc([]string{"sheetProtection", "workbookProtection", "fileSharing", "protectedRange"}, x.Is) {
		return
	}
	var says []string
	for name, value := range x.Attrs() {
		value = cmp.Or(map[string]string{"true": "1", "false": "0"}[value], value)
		usual := "0"
		if slices.Contains(usuallyLocked, name) {
			usual = "1"
		}
		if value != usual {
			says = append(says, name+"="+value)
		}
	}
	slices.Sort(says)
	g.locks = append(g.locks, lock{where, x.Name() + " " + strings.Join(says, " ")})
}

// refuse says why the library must not carry out an op, or "".
func (g *guard) refuse(op *Op) string {
	if op.Kind != Remove {
		for _, c := range op.Cells {
			for _, a := range g.arrays {
				if op.Kind == Set && a.has(op.Row, c.Col) {
					return fmt.Sprintf("cell %s%d is filled by an array formula, which would wipe it out again", letters(c.Col), op.Row)
				}
			}
		}
		return ""
	}
	switch {
	case g.shared || len(g.arrays) > 0:
		return "the sheet has formulas that several cells share, and taking a row out would break them"
	case g.comments:
		return "the sheet has comments, which would stay behind when a row is taken out"
	case op.Row <= g.fixed:
		return "a chart or a pivot table shows the sheet, and would show other records when a row is taken out"
	case g.begins[op.Row] != "":
		return fmt.Sprintf("%s points at row %d, and would point at another record when it is taken out", g.begins[op.Row], op.Row)
	}
	return ""
}

// unlocks says which protection of the workbook is another in one that was
// written of it, or "".
func (g *guard) unlocks(name string, made []byte, o table.Options) (string, error) {
	var now *guard
	err := inBook(name, made, o, func(b *book) (err error) {
		now, err = newGuard(b)
		return err
	})
	if err != nil {
		return "", err
	}
	for _, l := range g.locks {
		if !slices.Contains(now.locks, l) {
			return "writing would change the protection of " + cmp.Or(l.where, "the workbook"), nil
		}
	}
	return "", nil
}

// Refuse says which ops Edit could not carry out, by their places in ops,
// or would only with damage to something else in the workbook: formulas, what
// points at a row that goes, comments, protection.
func Refuse(name string, data []byte, o table.Options, heading int, ops []Op) (refused map[int]string, err error) {
	refused = map[int]string{}
	err = inBook(name, data, o, func(b *book) error {
		f, err := b.formsOf(heading, ops)
		if err != nil {
			return err
		}
		g, err := newGuard(b)
		if err != nil {
			return err
		}
		var able []Op
		for i := range ops {
			if why := cmp.Or(f.refuse(&ops[i]), g.refuse(&ops[i])); why != "" {
				refused[i] = why
			} else {
				able = append(able, ops[i])
			}
		}
		if len(g.locks) == 0 || len(able) == 0 {
			return nil
		}
		loose, err := f.tryOut(g, data, o, able)
		for i := range ops {
			if loose != "" && refused[i] == "" {
				refused[i] = loose
			}
		}
		return err
	})
	return refused, err
}

// tryOut carries ops out on a workbook that is protected, for the sake of
// seeing what becomes of its protection.
func (f *forms) tryOut(g *guard, data []byte, o table.Options, ops []Op) (loose string, err error) {
	var out bytes.Buffer
	if err := f.edit(data, o, ops, &out); err != nil {
		return "", err
	}
	made, err := Plain(f.name, out.Bytes(), o)
	if err != nil {
		return "", err
	}
	return g.unlocks(f.name, made, o)
}
