package refs

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Ref is one reference of a formula: a cell, a range of cells, or one of whole rows.
type Ref struct {
	// Sheet is the sheet that it names; "" is the one on which the formula stands.
	Sheet string
	// Apart is a reference that no move of one sheet's rows concerns: to another workbook, or to several sheets at once.
	Apart bool
	From  End
	To    End // the same as From where it is one cell
	Range bool
}

// End is a corner of a reference.
type End struct {
	Col         string // letters, as written; "" of whole rows
	Row         int    // from 1
	ColAbs, Abs bool   // whether a $ stands before the column, before the row
}

func (e End) append(b []byte) []byte {
	if e.Col != "" {
		if e.ColAbs {
			b = append(b, '$')
		}
		b = append(b, e.Col...)
	}
	if e.Abs {
		b = append(b, '$')
	}
	return strconv.AppendInt(b, int64(e.Row), 10)
}

// String is the reference as a formula writes it, without its sheet.
func (r *Ref) String() string {
	b := r.From.append(nil)
	if r.Range {
		b = r.To.append(append(b, ':'))
	}
	return string(b)
}

// gone is what stands for a reference to cells that are no more.
const gone = "#REF!"

// Shift moves references to the rows of one sheet.
type Shift struct {
	Sheet string
	*Moves
}

// concerns reports whether a reference, which stands on the sheet named, is to the sheet whose rows move.
func (s *Shift) concerns(r *Ref, on string) bool {
	sheet := r.Sheet
	if sheet == "" {
		sheet = on
	}
	return !r.Apart && strings.EqualFold(sheet, s.Sheet)
}

// Move moves a reference; false says that its cells are gone.
func (s *Shift) Move(r *Ref) bool {
	top, bottom := r.From.Row, r.To.Row
	if top > bottom {
		top, bottom = bottom, top
	}
	first, last, ok := s.Rows(top, bottom)
	if r.From.Row <= r.To.Row {
		r.From.Row, r.To.Row = first, last
	} else {
		r.From.Row, r.To.Row = last, first
	}
	return ok
}

// Formula moves the references of a formula that stands on the sheet named.
func (s *Shift) Formula(formula, on string) string {
	return Each(formula, func(r *Ref) (string, bool) { return s.Moved(r, on) })
}

// Moved moves a reference that stands on the sheet named, for Each: it returns the reference, and whether it is another than before.
func (s *Shift) Moved(r *Ref, on string) (string, bool) {
	if !s.concerns(r, on) {
		return "", false
	}
	was := *r
	if !s.Move(r) {
		return gone, true
	}
	return r.String(), *r != was
}

// Offset is a formula as it reads so many rows and columns further on: relative references move, those with a $ stay.
// Those that leave the sheet are #REF!.
func Offset(formula string, rows, cols int) string {
	if rows == 0 && cols == 0 {
		return formula
	}
	return each(formula, cols, func(r *Ref) (string, bool) {
		if !r.From.offset(rows, cols) || !r.To.offset(rows, cols) {
			return gone, true
		}
		return r.String(), true
	})
}

func (e *End) offset(rows, cols int) bool {
	if !e.Abs {
		e.Row += rows
	}
	if e.Col != "" && !e.ColAbs && cols != 0 {
		n, ok := Column(e.Col)
		if !ok || n+cols < 0 || n+cols >= MaxColumns {
			return false
		}
		e.Col = Letters(n + cols)
	}
	return e.Row >= 1 && e.Row <= MaxRows
}

// List moves a list of ranges with spaces between, as rules and selections have them; those of which nothing is left are left out.
func (s *Shift) List(list string) string {
	var all []string
	for _, one := range strings.Fields(list) {
		if moved := s.Area(one); moved != "" {
			all = append(all, moved)
		}
	}
	return strings.Join(all, " ")
}

// Area moves a cell or a range without a sheet; "" says that nothing is left of it. What is none stays as it is.
func (s *Shift) Area(area string) string {
	r, n := parse(area)
	if n != len(area) {
		return area
	}
	if !s.Move(&r) {
		return ""
	}
	return r.String()
}

// Parse reads a cell or a range without a sheet.
func Parse(area string) (Ref, bool) {
	r, n := parse(area)
	return r, n > 0 && n == len(area)
}

// Each walks the references of a formula, in the form in which workbooks keep it (A1, English, commas), and puts what change
// returns in the place of those for which it says true. The sheet that stands before a reference stays. Columns as a whole (A:C) are
// no references here: rows do not move them.
func Each(formula string, change func(*Ref) (string, bool)) string { return each(formula, 0, change) }

// each is Each, and moves whole columns by so many.
func each(formula string, cols int, change func(*Ref) (string, bool)) string {
	var out []byte
	from := 0 // what of the formula is still to be copied starts here
	var before Ref
	for at := 0; at < len(formula); {
		switch c := formula[at]; {
		case c == '"':
			at = closed(formula, at)
		case c == '\'':
			end := closed(formula, at)
			if end < len(formula) && formula[end] == '!' {
				before = sheet(strings.ReplaceAll(formula[at+1:end-1], "''", "'"))
				at = end + 1
				continue
			}
			at = end
		case c == '[':
			at = brackets(formula, at)
			if end := at + word(formula[at:]); end > at && end < len(formula) && formula[end] == '!' {
				before = Ref{Apart: true} // [1]Sheet!A1
				at = end + 1
				continue
			}
		case c == '#':
			for at++; at < len(formula) && (formula[at] == '/' || formula[at] == '!' || formula[at] == '?' || wordByte(formula[at])); at++ {
			}
		case wordByte(c):
			end := at + word(formula[at:])
			switch next := rest(formula, end); {
			case next == '!':
				before = sheet(formula[at:end])
				at = end + 1
				continue
			case next == '(':
				at = end
			case next == '[':
				at = brackets(formula, end)
			default:
				if n := several(formula, end); n > 0 { // Sheet1:Sheet3!
					before = Ref{Apart: true}
					at = n
					continue
				}
				if n := whole(formula[at:]); n > 0 && cols != 0 && !before.Apart {
					a, z, _ := strings.Cut(formula[at:at+n], ":")
					out = append(append(append(append(out, formula[from:at]...), offsetColumn(a, cols)...), ':'), offsetColumn(z, cols)...)
					at += n
					from = at
					break
				}
				r, n := parse(formula[at:])
				if n == 0 || at+n < end {
					at = end
					break
				}
				r.Sheet, r.Apart = before.Sheet, before.Apart
				if text, changed := change(&r); changed {
					out = append(append(out, formula[from:at]...), text...)
					from = at + n
				}
				at += n
			}
		default:
			at++
		}
		before = Ref{}
	}
	if out == nil {
		return formula
	}
	return string(append(out, formula[from:]...))
}

// whole returns how long a range of whole columns (A:C) at the start of a text is; 0 where there is none.
func whole(s string) int {
	n := column(s)
	if n == 0 || rest(s, n) != ':' {
		return 0
	}
	m := column(s[n+1:])
	if end := n + 1 + m; m > 0 && !wordByte(rest(s, end)) && rest(s, end) != '(' && rest(s, end) != '!' {
		return end
	}
	return 0
}

// offsetColumn is a column so many further on, unless a $ stands before it.
func offsetColumn(letters string, cols int) string {
	n, ok := Column(letters)
	switch {
	case !ok: // $A
		return letters
	case n+cols < 0 || n+cols >= MaxColumns:
		return gone
	}
	return Letters(n + cols)
}

// rest is the byte at an offset, 0 behind the end.
func rest(s string, at int) byte {
	if at < len(s) {
		return s[at]
	}
	return 0
}

// sheet is what stands before the "!" of a reference.
func sheet(name string) Ref {
	return Ref{Sheet: name, Apart: strings.ContainsAny(name, "[:")}
}

// several returns the offset behind "Sheet3!" where a formula goes on with ":Sheet3!", or 0.
func several(s string, at int) int {
	if rest(s, at) != ':' {
		return 0
	}
	end := at + 1 + word(s[at+1:])
	if rest(s, end) != '!' || end == at+1 {
		return 0
	}
	if _, n := parse(s[at+1 : end]); n == end-at-1 {
		return 0
	}
	return end + 1
}

// closed returns the offset behind a text or name in quotes, in which a quote stands twice.
func closed(s string, at int) int {
	q := s[at]
	for at++; at < len(s); at++ {
		if s[at] != q {
			continue
		}
		if rest(s, at+1) != q {
			return at + 1
		}
		at++
	}
	return at
}

// brackets returns the offset behind what begins with a bracket: columns of a table, in which ' takes the meaning from
// what follows it.
func brackets(s string, at int) int {
	for depth := 0; at < len(s); at++ {
		switch s[at] {
		case '\'':
			at++
		case '[':
			depth++
		case ']':
			if depth--; depth == 0 {
				return at + 1
			}
		}
	}
	return len(s)
}

func wordByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c == '_' || c == '.' || c == '$' || c == '\\' || c == '?' || c >= utf8.RuneSelf
}

// word returns how long a name, a number or a corner of a reference is.
func word(s string) int {
	n := 0
	for n < len(s) && wordByte(s[n]) {
		n++
	}
	return n
}

// parse reads a reference at the start of a text, and how long it is; 0 where there is none.
func parse(s string) (Ref, int) {
	from, n := corner(s)
	if n == 0 || n < len(s) && wordByte(s[n]) {
		return Ref{}, 0
	}
	if rest(s, n) == ':' {
		to, m := corner(s[n+1:])
		if end := n + 1 + m; m > 0 && (to.Col == "") == (from.Col == "") && !wordByte(rest(s, end)) && rest(s, end) != '(' && rest(s, end) != '!' {
			return Ref{From: from, To: to, Range: true}, end
		}
	}
	if from.Col == "" {
		return Ref{}, 0 // a number
	}
	return Ref{From: from, To: from}, n
}

// corner reads a corner at the start of a text: a cell, or a row.
func corner(s string) (e End, n int) {
	if rest(s, n) == '$' {
		e.ColAbs = true
		n++
	}
	from := n
	for n < len(s) && (s[n] >= 'A' && s[n] <= 'Z' || s[n] >= 'a' && s[n] <= 'z') {
		n++
	}
	e.Col = s[from:n]
	if e.Col == "" {
		e.Abs, e.ColAbs = e.ColAbs, false
	} else {
		if _, ok := Column(e.Col); !ok {
			return e, 0
		}
		if rest(s, n) == '$' {
			e.Abs = true
			n++
		}
	}
	from = n
	for n < len(s) && s[n] >= '0' && s[n] <= '9' && n-from < 8 {
		e.Row = e.Row*10 + int(s[n]-'0')
		n++
	}
	if n == from || s[from] == '0' || e.Row > MaxRows {
		return e, 0
	}
	return e, n
}

// Column returns the number, from 0, of a column in letters.
func Column(letters string) (int, bool) {
	n := 0
	for i := range len(letters) {
		c := letters[i] &^ 0x20
		if c < 'A' || c > 'Z' || i > 2 {
			return 0, false
		}
		n = n*26 + int(c-'A') + 1
	}
	return n - 1, n > 0 && n <= MaxColumns
}

// Letters writes a column, counted from 0, as letters: 27 is "AB".
func Letters(col int) string {
	var b [4]byte
	at := len(b)
	for n := col + 1; n > 0; n = (n - 1) / 26 {
		at--
		b[at] = byte('A' + (n-1)%26)
	}
	return string(b[at:])
}
