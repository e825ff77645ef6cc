package learn

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// flagPrint writes the two words of a flag.
type flagPrint struct{ yes, no string }

func (p *flagPrint) print(v value) (string, bool) {
	if v.yes {
		return p.yes, true
	}
	return p.no, true
}

func (p *flagPrint) read(seen string) (value, bool) {
	return value{yes: seen == p.yes}, (seen == p.yes || seen == p.no) && p.yes != p.no
}

func (p *flagPrint) words() string { return strings.Trim(p.yes+"/"+p.no, "/") }

// flagPrintOf has the words that most cells of either value show.
func flagPrintOf(all []example) *flagPrint {
	words := map[bool]map[string]int{true: {}, false: {}}
	for _, x := range all {
		words[x.v.yes][x.seen]++
	}
	return &flagPrint{common(words[true]), common(words[false])}
}

// opposed reports whether the words stand for true and false, in this order, in some
// language.
func (p *flagPrint) opposed() bool {
	for _, w := range flagWords {
		if strings.EqualFold(p.yes, w[0]) && strings.EqualFold(p.no, w[1]) {
			return true
		}
	}
	return false
}

// textPrint is something that is done to texts.
type textPrint struct {
	kind  Kind
	name  string
	do    func(string) string
	back  func(string) (string, bool) // nil where what was there cannot be told
	keeps bool                        // the text is the same to its readers
}

// asIs leaves texts; what became of their letters is all that became of them.
var asIs = &textPrint{Encoding, "", func(s string) string { return s }, same, true}

func same(s string) (string, bool) { return s, true }

func (p *textPrint) print(v value) (string, bool) { return p.do(v.text), true }

func (p *textPrint) read(seen string) (v value, ok bool) {
	if p.back == nil {
		return v, false
	}
	v.text, ok = p.back(seen)
	return v, ok
}

func (p *textPrint) words() string { return p.name }

func squeeze(s string) string { return strings.Join(strings.Fields(s), " ") }

// newlines writes line ends in one form.
func newlines(end string) func(string) string {
	return func(s string) string {
		return strings.ReplaceAll(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(s), "\n", end)
	}
}

// PlainMarks writes typographic marks as the keys that make them.
var PlainMarks = strings.NewReplacer("“", `"`, "”", `"`, "„", `"`, "‘", "'", "’", "'", "‚", "'", "–", "-", "—", "-", "…", "...", "\u00a0", " ")

func titled(s string) string {
	b, start := []rune(strings.ToLower(s)), true
	for i, r := range b {
		if start {
			b[i] = unicode.ToUpper(r)
		}
		start = !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}
	return string(b)
}

// cutRunes and cutBytes cut a text; of bytes no letter is left in part.
func cutRunes(n int) func(string) string {
	return func(s string) string {
		for i := range s {
			if n == 0 {
				return s[:i]
			}
			n--
		}
		return s
	}
}

func cutBytes(n int) func(string) string {
	return func(s string) string {
		k := min(n, len(s))
		for k > 0 && k < len(s) && !utf8.RuneStart(s[k]) {
			k--
		}
		return s[:k]
	}
}

func padded(n int) func(string) string {
	return func(s string) string {
		if k := n - runes(s); k > 0 {
			return s + strings.Repeat(" ", k)
		}
		return s
	}
}

func upTo(sign string) func(string) string {
	return func(s string) string { before, _, _ := strings.Cut(s, sign); return before }
}

// textPrints are the ways in which texts may have become what is seen.
func textPrints(all []example) []*textPrint {
	longest, bytes, shortest := 0, 0, 1<<30
	trailing := false
	for _, x := range all {
		n := runes(x.seen)
		longest, bytes, shortest = max(longest, n), max(bytes, len(x.seen)), min(shortest, n)
		trailing = trailing || strings.HasSuffix(x.seen, " ")
	}
	found := []*textPrint{
		{Blanks, lineEnds, newlines("\n"), same, true},
		{Blanks, lineEnds, newlines("\r\n"), func(s string) (string, bool) { return newlines("\n")(s), true }, true},
		{Blanks, "blanks at the ends taken off", strings.TrimSpace, nil, false},
		{Blanks, "blanks made one", squeeze, nil, false},
		{Blanks, "blanks made one", func(s string) string {
			for strings.Contains(s, "  ") {
				s = strings.ReplaceAll(s, "  ", " ")
			}
			return s
		}, nil, false},
		{Case, "in capitals", strings.ToUpper, nil, false},
		{Case, "in capitals, blanks at the ends taken off", func(s string) string { return strings.TrimSpace(strings.ToUpper(s)) }, nil, false},
		{Case, "in small letters", strings.ToLower, nil, false},
		{Case, "in small letters, blanks at the ends taken off", func(s string) string { return strings.TrimSpace(strings.ToLower(s)) }, nil, false},
		{Case, "first letters as capitals", titled, nil, false},
		{Blanks, "tabs taken out", func(s string) string { return strings.ReplaceAll(s, "\t", "") }, nil, false},
		{Blanks, "tabs made blanks", func(s string) string { return strings.ReplaceAll(s, "\t", " ") }, nil, false},
		{Blanks, "lines made one", newlines(" "), nil, false},
		{Blanks, "lines made one", newlines(""), nil, false},
		{Marks, "marks as on a typewriter", PlainMarks.Replace, nil, false},
		{Marks, "quotes taken out", func(s string) string { return strings.ReplaceAll(s, `"`, "") }, nil, false},
		{Blanks, "percent signs taken off", func(s string) string { return strings.TrimRight(strings.TrimSuffix(s, "%"), " ") }, nil, false},
		{Blanks, "commas taken out", func(s string) string { return strings.ReplaceAll(s, ",", "") }, nil, false},
		{Blanks, "points taken out", func(s string) string { return strings.ReplaceAll(s, ".", "") }, nil, false},
		{Marks, "an apostrophe before", func(s string) string { return "'" + s }, func(s string) (string, bool) { return strings.CutPrefix(s, "'") }, false},
		{Cuts, "cut at a comma", upTo(","), nil, false},
		{Cuts, "cut at a semicolon", upTo(";"), nil, false},
		{Cuts, "cut at a line end", upTo("\n"), nil, false},
	}
	if trailing && longest == shortest {
		found = append(found, &textPrint{Blanks, fmt.Sprintf("blanks put behind, to %d characters", longest), padded(longest), func(s string) (string, bool) { return strings.TrimRight(s, " "), true }, false})
	}
	return append(found, cuts(longest, bytes)...)
}

const lineEnds = "line ends in another form"

// cuts are the ways of cutting to what is seen at most.
func cuts(longest, bytes int) []*textPrint {
	name := fmt.Sprintf("cut to %d characters", longest)
	squeezed := func(s string) string {
		return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == ' ' }), " ")
	}
	return []*textPrint{
		{Cuts, name, cutRunes(longest), nil, false},
		{Cuts, fmt.Sprintf("cut to %d bytes", bytes), cutBytes(bytes), nil, false},
		{Cuts, name + ", blanks at the end taken off", func(s string) string { return strings.TrimRight(cutRunes(longest)(s), " ") }, nil, false},
		{Cuts, name + ", blanks made one", func(s string) string { return cutRunes(longest)(squeezed(s)) }, nil, false},
		{Cuts, fmt.Sprintf("cut to %d bytes, blanks made one", bytes), func(s string) string { return cutBytes(bytes)(squeezed(s)) }, nil, false},
	}
}
