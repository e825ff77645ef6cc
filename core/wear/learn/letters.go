package learn

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// Letters is what became of the letters beyond ASCII in a file: a code page, or a map
// that was learnt letter by letter. The zero value and nil leave them.
type Letters struct {
	name  string
	keep  bool // they can be told back, or only a program can have done it
	page  func(rune) string
	to    map[rune]string
	cased func(string) string // what became of the other letters, nil for nothing
}

// pages are readings of UTF-8 in another code page, and ways of writing letters that a
// code page lacks.
var pages = []*Letters{
	misread("UTF-8 read as Latin-1", charmap.ISO8859_1),
	misread("UTF-8 read as CP850", charmap.CodePage850),
	misread("UTF-8 read as CP437", charmap.CodePage437),
	misread("UTF-8 read as Windows-1252", charmap.Windows1252),
	misread("UTF-8 read as Mac Roman", charmap.Macintosh),
	{name: "letters written as <U+00A3>", keep: true, page: func(r rune) string { return fmt.Sprintf("<U+%04X>", r) }},
	{name: `letters written as \u00a3`, keep: true, page: func(r rune) string { return fmt.Sprintf(`\u%04x`, r) }},
	{name: "letters written as &#163;", keep: true, page: func(r rune) string { return fmt.Sprintf("&#%d;", r) }},
	{name: "letters lost", keep: true, page: func(rune) string { return "?" }},
	{name: "letters lost", keep: true, page: func(rune) string { return string(utf8.RuneError) }},
}

func misread(name string, c *charmap.Charmap) *Letters {
	return &Letters{name: name, keep: true, page: func(r rune) string {
		var b strings.Builder
		for _, x := range []byte(string(r)) {
			b.WriteRune(c.DecodeByte(x))
		}
		return b.String()
	}}
}

// Words say what became of the letters.
func (l *Letters) Words() string {
	if l == nil {
		return ""
	}
	return l.name
}

// apply writes a text with the letters as the file has them.
func (l *Letters) apply(s string) string {
	if l == nil || ASCII(s) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		to, ok := l.to[r]
		switch {
		case r < utf8.RuneSelf:
			b.WriteRune(r)
		case ok:
			b.WriteString(to)
		case l.page != nil:
			b.WriteString(l.page(r))
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// undo is the text whose letters became those of s, where that can be told. known are
// letters that the snapshot has.
func (l *Letters) undo(s string, known map[rune]bool) (string, bool) {
	if l == nil {
		return s, true
	}
	back := map[string]rune{}
	var froms []string
	for r := range known {
		to := l.apply(string(r))
		if to == string(r) {
			continue
		}
		if old, twice := back[to]; twice && old != r || to == "" || ASCII(to) && len(to) == 1 {
			if strings.Contains(s, to) {
				return "", false // one of several letters
			}
			continue
		}
		back[to] = r
		froms = append(froms, to)
	}
	slices.SortFunc(froms, func(a, b string) int { return len(b) - len(a) })
	text := s
	for _, f := range froms {
		text = strings.ReplaceAll(text, f, string(back[f]))
	}
	return text, l.apply(text) == s
}

// ASCII reports whether a text has no letters beyond ASCII.
func ASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// few is how many cells the one text of some has.
func few(texts map[string]int) int {
	for _, n := range texts {
		return n
	}
	return 0
}

// knows reports whether it is known what became of each letter of a text.
func (l *Letters) knows(s string) bool {
	if l == nil || l.page != nil || ASCII(s) {
		return true
	}
	for _, r := range s {
		if _, ok := l.to[r]; !ok && r >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// asciiOnly does something to the letters of ASCII alone.
func asciiOnly(do func(string) string, s string) string {
	return strings.Map(func(r rune) rune {
		if r < utf8.RuneSelf {
			return []rune(do(string(r)))[0]
		}
		return r
	}, s)
}

// fewLetters is in how many different texts a letter has to show what became of it.
const fewLetters = 2

// LearnLetters finds what became of the letters beyond ASCII: the code page that explains
// most of the cells and is not spoken against, or else a map of letters, each seen in two
// texts at least. It is nil where nothing did.
func LearnLetters(cells []Cell) *Letters {
	var some []Cell
	for _, c := range cells {
		if !ASCII(c.Snapshot) && len(some) < 2000 {
			some = append(some, c)
		}
	}
	var best *Letters
	most := 0
	small, capital := slices.Clone(some), slices.Clone(some)
	for i := range some {
		small[i].Snapshot, capital[i].Snapshot = asciiOnly(strings.ToLower, some[i].Snapshot), asciiOnly(strings.ToUpper, some[i].Snapshot)
	}
	for _, l := range append(slices.Clone(pages), mapped(some, nil), mapped(small, strings.ToLower), mapped(capital, strings.ToUpper)) {
		if l == nil {
			continue
		}
		went, not := 0, 0
		texts := map[string]bool{}
		for _, c := range some {
			if !l.knows(c.Snapshot) {
				continue
			}
			to := l.apply(c.Snapshot)
			if l.cased != nil {
				to = l.cased(to)
			}
			switch to {
			case c.Snapshot:
			case c.Seen:
				went++
				texts[c.Snapshot] = true
			default:
				not++
			}
		}
		if len(texts) >= fewLetters && not*otherShare <= went+not && went-not > most {
			best, most = l, went-not
		}
	}
	return best
}

// mapped learns what became of each letter, from texts whose other letters are as
// they were.
func mapped(cells []Cell, cased func(string) string) *Letters {
	votes := map[rune]map[string]map[string]int{} // letter, what it became, texts and their cells
	to := map[rune]string{}
	keeps := cased == nil
	for range 3 {
		clear(votes)
		vote := func(r rune, became string, c Cell) {
			if votes[r] == nil {
				votes[r] = map[string]map[string]int{}
			}
			if votes[r][became] == nil {
				votes[r][became] = map[string]int{}
			}
			votes[r][became][c.Snapshot]++
		}
		for _, c := range cells {
			if r, became, ok := lone(c, to); ok {
				vote(r, became, c)
			}
			inPlace(c, func(r rune, became string) { vote(r, became, c) })
		}
		for r, all := range votes {
			sum, best, most := 0, "", 0
			for became, texts := range all {
				if sum += len(texts); len(texts) > most || len(texts) == most && became < best {
					best, most = became, len(texts)
				}
			}
			switch {
			case 4*most < 3*sum:
			case most >= fewLetters:
				to[r] = best
			case most == 1 && few(all[best]) >= weakCells: // told, and never silent
				to[r], keeps = best, false
			}
		}
	}
	changes := false
	l := &Letters{name: "letters made others", to: to, keep: keeps, cased: cased}
	for r, s := range to {
		changes = changes || s != string(r)
		if ASCII(s) && s != "?" { // somebody may write ł as l
			l.keep = l.keep && s == string(r)
		}
	}
	if !changes {
		return nil
	}
	return l
}

// inPlace tells what stands in the place of each letter, where a letter became a letter.
func inPlace(c Cell, vote func(rune, string)) {
	a, b := []rune(c.Snapshot), []rune(c.Seen)
	n := min(len(a), len(b))
	for i := range n {
		if a[i] < utf8.RuneSelf && a[i] != b[i] {
			return
		}
	}
	if len(a) != len(b) && n < len(a)/2 {
		return
	}
	for i := range n {
		if a[i] >= utf8.RuneSelf {
			vote(a[i], string(b[i]))
		}
	}
}

// lone is the one letter of a text of which nothing is known, and what became of it.
func lone(c Cell, to map[rune]string) (r rune, became string, ok bool) {
	at := -1
	var before, after strings.Builder
	for i, x := range c.Snapshot {
		b := &before
		if at >= 0 {
			b = &after
		}
		known, there := to[x]
		switch {
		case x < utf8.RuneSelf:
			b.WriteRune(x)
		case there:
			b.WriteString(known)
		case at >= 0:
			return 0, "", false
		default:
			at, r = i, x
		}
	}
	if at < 0 {
		return 0, "", false
	}
	rest, ok := strings.CutPrefix(c.Seen, before.String())
	if !ok {
		return 0, "", false
	}
	became, ok = strings.CutSuffix(rest, after.String())
	return r, became, ok && runes(became) <= 8
}
