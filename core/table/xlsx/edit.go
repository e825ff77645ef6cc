package xlsx

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"paletwin/core/record"
	"paletwin/core/table"
)

// cellForm is how a workbook keeps a cell, beyond its value.
type cellForm struct {
	Col     int    `json:"c"`
	Type    string `json:"t,omitempty"` // as in the file: "s", "b" …; "n" for numbers
	Style   int    `json:"s,omitempty"`
	Formula string `json:"f,omitempty"`

	computed bool
	filled   bool
}

// forms is how a sheet keeps some of its rows, and what its columns hold.
type forms struct {
	*book
	rows    map[int][]cellForm
	columns map[int]cellForm // the last filled cell of each column, heading aside
}

// forms reads how the sheet keeps the rows that want asks for.
func (b *book) forms(heading int, want func(row int) bool) (*forms, error) {
	f := &forms{book: b, rows: map[int][]cellForm{}, columns: map[int]cellForm{}}
	g := &grid{book: b, formulas: table.Formulas{}, seen: func(row int, c cellForm) {
		if want(row) {
			f.rows[row] = append(f.rows[row], c)
		}
		if row > heading && c.filled && !c.computed {
			f.columns[c.Col] = c
		}
	}}
	return f, b.scan(b.sheet.part, g.element)
}

// RowForms returns for the given rows how their cells are kept: types, styles
// and formulas, in a form for Insert. Rows are as the sheet counts them.
func RowForms(name string, data []byte, o table.Options, rows map[int]bool) (map[int]string, error) {
	all := make(map[int]string, len(rows))
	err := inBook(name, data, o, func(b *book) error {
		f, err := b.forms(0, func(row int) bool { return rows[row] })
		if err != nil {
			return err
		}
		for row, cells := range f.rows {
			text, err := json.Marshal(cells)
			if err != nil {
				return err
			}
			all[row] = string(text)
		}
		return nil
	})
	return all, err
}

// An Op is one change of a sheet.
type Op struct {
	Kind  OpKind
	Row   int // the row, as the sheet counts it before any Op
	Cells []Cell
	Form  string // of a row that comes back, or cells that do, as RowForms gave it; or ""
}

// OpKind says what an Op does.
type OpKind int

const (
	Set    OpKind = iota // writes cells of Row
	Remove               // takes Row out; rows below move up
	Insert               // puts a new row behind Row; of several behind one, in their order
)

// Cell is a value for a column, counted from 0.
type Cell struct {
	Col   int
	Value record.Value
}

// Edit writes the workbook with the ops carried out on the sheet that o names.
// A cell keeps its style, and its type where a value of that type reads back
// as the very text that is asked for; else it becomes text. Everything else
// in the workbook stays; formulas are computed anew when it is opened.
//
// What Refuse refuses is not among the ops.
func Edit(name string, data []byte, o table.Options, heading int, ops []Op, w io.Writer) error {
	return inBook(name, data, o, func(b *book) error {
		f, err := b.formsOf(heading, ops)
		if err != nil {
			return err
		}
		return f.edit(data, o, ops, w)
	})
}

// formsOf reads how the rows of the ops are kept.
func (b *book) formsOf(heading int, ops []Op) (*forms, error) {
	rows := make(map[int]bool, len(ops))
	for i := range ops {
		rows[ops[i].Row] = true
	}
	return b.forms(heading, func(row int) bool { return rows[row] })
}

// maxText is how many UTF-16 units a cell holds.
const maxText = 32_767

// refuse says why an op cannot be carried out, or "".
func (f *forms) refuse(op *Op) string {
	for _, c := range op.Cells {
		if why := Unwritable(c.Value.String()); why != "" {
			return why
		}
		if op.Kind != Set {
			continue
		}
		for _, old := range f.rows[op.Row] {
			switch {
			case old.Col != c.Col:
			case old.computed:
				return fmt.Sprintf("cell %s%d holds a formula, which is not overwritten", letters(c.Col), op.Row)
			case old.Type == "e":
				return fmt.Sprintf("cell %s%d holds an error value, which could not be put back as one", letters(c.Col), op.Row)
			}
		}
	}
	return ""
}

func (f *forms) edit(data []byte, o table.Options, ops []Op, w io.Writer) (err error) {
	defer func() {
		if r := recover(); r != nil { // the library's, on a workbook that it does not expect
			err = fmt.Errorf("the workbook cannot be written: %v", r)
		}
	}()
	x, err := excelize.OpenReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	defer func() { err = cmp.Or(err, x.Close()) }()
	e := &editor{f, x}
	order := make([]int, len(ops))
	for i := range ops {
		order[i] = i
	}
	// Values first, then rows from the bottom up, so that row numbers stay
	// true; of one row the rows behind it before the row itself.
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(min(ops[a].Kind, 1), min(ops[b].Kind, 1)), cmp.Compare(ops[b].Row, ops[a].Row), cmp.Compare(ops[b].Kind, ops[a].Kind))
	})
	for n := 0; n < len(order); {
		op := &ops[order[n]]
		same := 1
		for op.Kind == Insert && n+same < len(order) && ops[order[n+same]].Kind == Insert && ops[order[n+same]].Row == op.Row {
			same++
		}
		switch op.Kind {
		case Set:
			err = e.set(op)
		case Remove:
			err = x.RemoveRow(f.sheet.name, op.Row)
		case Insert:
			group := make([]*Op, same)
			for i := range group {
				group[i] = &ops[order[n+i]]
			}
			err = e.insert(op.Row, group)
		}
		if err != nil {
			return err
		}
		n += same
	}
	anew := true
	if err := x.SetCalcProps(&excelize.CalcPropsOptions{FullCalcOnLoad: &anew}); err != nil {
		return err
	}
	return x.Write(w, excelize.Options{Password: o.Password})
}

// editor changes a workbook whose cells' forms are known.
type editor struct {
	*forms
	x *excelize.File
}

// set writes cells of a row. A cell that comes back gets the type that it had;
// else it keeps the one that it has, or that the column's cells have.
func (e *editor) set(op *Op) error {
	before := keptForms(op.Form)
	for _, c := range op.Cells {
		form := e.columns[c.Col]
		for _, old := range e.rows[op.Row] {
			if old.Col == c.Col && (old.filled || e.kind(old.Style) != plain) {
				form = old
			}
		}
		if old, ok := before[c.Col]; ok {
			form.Type = old.Type
		}
		if err := e.put(op.Row, c, form); err != nil {
			return err
		}
	}
	return nil
}

// keptForms reads what RowForms gave, by column.
func keptForms(text string) map[int]cellForm {
	var kept []cellForm
	if text == "" || json.Unmarshal([]byte(text), &kept) != nil {
		return nil
	}
	known := make(map[int]cellForm, len(kept))
	for _, c := range kept {
		known[c.Col] = c
	}
	return known
}

// insert puts new rows behind row. Their cells look as the form says that
// came with them, else as the column's last filled cell.
func (e *editor) insert(row int, group []*Op) error {
	if err := e.x.InsertRows(e.sheet.name, row+1, len(group)); err != nil {
		return err
	}
	for i, op := range group {
		known := keptForms(op.Form)
		at := row + 1 + i
		for _, c := range op.Cells {
			form, ok := known[c.Col]
			if !ok {
				form = e.columns[c.Col]
			}
			if err := e.x.SetCellStyle(e.sheet.name, place(c.Col, at), place(c.Col, at), form.Style); err != nil {
				return err
			}
			if err := e.put(at, c, form); err != nil {
				return err
			}
			if form.Formula != "" {
				if err := e.x.SetCellFormula(e.sheet.name, place(c.Col, at), form.Formula); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// put writes a value into a cell of the given form.
func (e *editor) put(row int, c Cell, form cellForm) error {
	sheet, at, text := e.sheet.name, place(c.Col, row), c.Value.String()
	switch typ, kind := form.Type, e.kind(form.Style); {
	case text == "":
		return e.x.SetCellDefault(sheet, at, "")
	case typ == "b" && (text == "true" || text == "false"):
		return e.x.SetCellBool(sheet, at, text == "true")
	case (typ == "n" || typ == "d") && kind > textual:
		if n, ok := e.from.serial(text, kind); ok {
			return e.x.SetCellDefault(sheet, at, n)
		}
	case typ == "n" && kind == plain && isNumber(text):
		return e.x.SetCellDefault(sheet, at, text)
	}
	return e.x.SetCellStr(sheet, at, escape(text))
}

// escape writes a text that looks like an escape (_xHHHH_) so that it reads back
// as it is (ECMA-376 part 1, 22.9.2.19); unescape undoes it. The library does so
// in cells that it streams, and not in shared strings.
func escape(text string) string {
	if !strings.Contains(text, "_x") {
		return text
	}
	var b strings.Builder
	for i := range len(text) {
		if rest := text[i:]; len(rest) >= 7 && rest[:2] == "_x" && rest[6] == '_' && strings.Trim(rest[2:6], "0123456789abcdefABCDEF") == "" {
			b.WriteString("_x005F")
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

var number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]*[1-9])?$`)

// isNumber reports whether text can be a number cell and read back as it is:
// no zeros that a number would not have, and digits that no program rounds.
func isNumber(text string) bool {
	return number.MatchString(text) && text != "-0" && len(strings.Trim(strings.NewReplacer("-", "", ".", "").Replace(text), "0")) <= 15
}

// letters writes a column, counted from 0, as letters: 27 is "AB".
func letters(col int) string {
	s := ""
	for n := col + 1; n > 0; n = (n - 1) / 26 {
		s = string(rune('A'+(n-1)%26)) + s
	}
	return s
}

func place(col, row int) string { return fmt.Sprintf("%s%d", letters(col), row) }
