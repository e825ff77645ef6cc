package refs

import (
	"strings"
)

// Open moves the references of a formula of an OpenDocument spreadsheet (OpenFormula, ISO/IEC 26300 part 2, 5.8), which stands on the
// sheet named. There they stand in brackets, with a dot before the cell: [.B4], [$Aids.B4:.C9], ['Noor”s aids'.B4].
func (s *Shift) Open(formula, on string) string { return eachOpen(formula, s.moves(on)) }

// OffsetOpen is Offset for such a formula: moved relatively, so many rows further on.
func OffsetOpen(formula string, rows int) string {
	if rows == 0 {
		return formula
	}
	return eachOpen(formula, func(r *Ref) (moved, ok bool) { return true, r.From.offset(rows, 0) && r.To.offset(rows, 0) })
}

// moves is how a reference that stands on a sheet goes: whether it does at all, and whether anything is left of it.
func (s *Shift) moves(on string) func(*Ref) (moved, ok bool) {
	return func(r *Ref) (bool, bool) {
		if !s.concerns(r, on) {
			return false, true
		}
		return true, s.Move(r)
	}
}

func eachOpen(formula string, move func(*Ref) (moved, ok bool)) string {
	var out []byte
	from := 0
	for at := 0; at < len(formula); {
		switch formula[at] {
		case '"', '\'':
			at = closed(formula, at)
		case '[':
			inner, end := address(formula, at+1, move)
			if end < len(formula) && formula[end] == ']' {
				out = append(append(out, formula[from:at+1]...), inner...)
				from = end
			}
			at = max(end, at+1)
		default:
			at++
		}
	}
	if out == nil {
		return formula
	}
	return string(append(out, formula[from:]...))
}

// Addresses moves a list of addresses, with spaces between, as OpenDocument has them outside of formulas: Aids.B4:Aids.C9 'Noor”s aids'.B4. Those of
// which nothing is left are left out.
func (s *Shift) Addresses(list, on string) string {
	var all []string
	for at := 0; at < len(list); {
		if list[at] == ' ' {
			at++
			continue
		}
		one, end := address(list, at, s.moves(on))
		if end <= at || end < len(list) && list[end] != ' ' {
			return list // no list of addresses
		}
		if !strings.Contains(one, gone) {
			all = append(all, one)
		}
		at = end
	}
	return strings.Join(all, " ")
}

// address moves what stands at an offset, a cell or a range, and returns it with the offset behind it; where there is no
// reference it returns the text up to there.
func address(text string, at int, move func(*Ref) (moved, ok bool)) (string, int) {
	first, corner1, n := part(text, at)
	if n == 0 {
		return "", at
	}
	r := Ref{Sheet: first.Sheet, Apart: first.Apart, From: first.From, To: first.From}
	end := at + n
	begin2, end2 := 0, 0
	if rest(text, end) == ':' {
		second, corner2, m := part(text, end+1)
		if m > 0 {
			r.To, r.Range = second.From, true
			r.Apart = r.Apart || second.Apart || second.Sheet != "" && !strings.EqualFold(second.Sheet, r.Sheet)
			begin2, end2 = corner2, end+1+m
		}
	}
	last := max(end, end2)
	if r.From.Row == 0 || r.To.Row == 0 {
		return text[at:last], last // whole columns
	}
	moved, ok := move(&r)
	if !moved {
		return text[at:last], last
	}
	from, to := gone, gone
	if ok {
		from, to = string(r.From.append(nil)), string(r.To.append(nil))
	}
	out := text[at:corner1] + from
	if r.Range {
		out += text[end:begin2] + to
	}
	return out, last
}

// part reads one end of a reference at an offset: a sheet, if it is said, a dot, and a cell, a row or a column. It returns where the
// cell begins, and how long all of it is; 0 where there is none.
func part(text string, at int) (r Ref, corner1, n int) {
	i := at
	if rest(text, i) == '$' {
		i++
	}
	switch {
	case rest(text, i) == '\'':
		end := closed(text, i)
		r.Sheet = strings.ReplaceAll(text[i+1:max(end-1, i+1)], "''", "'")
		i = end
		if rest(text, i) == '#' { // of another document
			r, corner1, n = part(text, i+1)
			r.Apart = true
			if n > 0 {
				n += i + 1 - at
			}
			return r, corner1, n
		}
	case rest(text, i) != '.':
		end := i + strings.IndexAny(text[i:]+".", ".:[] \"'#")
		r.Sheet = text[i:end]
		i = end
	}
	if rest(text, i) != '.' {
		return r, 0, 0
	}
	i++
	e, m := corner(text[i:])
	if m == 0 {
		if m = column(text[i:]); m == 0 {
			return r, 0, 0
		}
		e = End{}
	}
	if wordByte(rest(text, i+m)) {
		return r, 0, 0
	}
	r.From = e
	return r, i, i + m - at
}

// column returns how long the letters of a whole column are.
func column(s string) int {
	n := 0
	if rest(s, n) == '$' {
		n++
	}
	from := n
	for n < len(s) && (s[n] >= 'A' && s[n] <= 'Z' || s[n] >= 'a' && s[n] <= 'z') {
		n++
	}
	if n == from || n-from > 3 {
		return 0
	}
	return n
}
