package term

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"paletwin/core/glyph"
)

// Gate returns what everything that is for a person's eyes is written through, whatever wrote it: our own colours, line ends and the
// erasing of a line go through it, and anything else that a terminal would obey, or that nobody would see, becomes visible.
func Gate(w io.Writer) io.Writer { return &gate{w} }

type gate struct{ w io.Writer }

// ours are the sequences that the program itself writes (ECMA-48): line ends, erase in line, and select graphic rendition.
var ours = regexp.MustCompile(`\r?\n|\r\x1b\[K|\x1b\[[0-9;:]*m`)

func (g *gate) Write(p []byte) (int, error) {
	if plain(p) {
		return g.w.Write(p)
	}
	if _, err := g.w.Write(gated(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// plain reports whether there is nothing in a text but printable ASCII and line ends.
func plain(p []byte) bool {
	return !slices.ContainsFunc(p, func(b byte) bool { return b < 0x20 && b != '\n' || b >= 0x7f })
}

// Gated is a text as it comes through the gate.
func Gated(s string) string { return string(gated([]byte(s))) }

func gated(p []byte) []byte {
	out := make([]byte, 0, len(p)+16)
	from := 0
	for _, at := range ours.FindAllIndex(p, -1) {
		seq := p[at[0]:at[1]]
		if bytes.HasSuffix(seq, []byte("m")) && !colour(seq) {
			continue // it stays among the text, and is made visible with it
		}
		out = append(append(out, seen(p[from:at[0]])...), seq...)
		from = at[1]
	}
	return append(out, seen(p[from:])...)
}

// colour reports whether a rendition is one of those that the program writes: colours of letters, strong and faint. Others
// conceal, blink or colour the ground.
func colour(seq []byte) bool {
	params := strings.Split(strings.ReplaceAll(string(seq[2:len(seq)-1]), ":", ";"), ";")
	for i := 0; i < len(params); i++ {
		switch p := params[i]; {
		case p == "38":
			return len(params) > i+1 // all that follows says which
		case slices.Contains([]string{"", "0", "1", "2", "22", "39"}, p), len(p) == 2 && (p[0] == '3' || p[0] == '9') && p[1] <= '7':
		default:
			return false
		}
	}
	return true
}

// seen is a text of which everything can be seen.
func seen(p []byte) string {
	var b strings.Builder
	for len(p) > 0 { // bytes that are no text are shown as what they are
		r, n := utf8.DecodeRune(p)
		if r == utf8.RuneError && n == 1 {
			fmt.Fprintf(&b, "<%02X>", p[0])
		} else {
			b.Write(p[:n])
		}
		p = p[n:]
	}
	return signs(glyph.Shown(b.String()))
}

// signs is a text whose control characters, which glyph leaves in it, are shown.
func signs(s string) string {
	if !strings.ContainsFunc(s, unicode.IsControl) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		b.WriteString(sign(r))
	}
	return b.String()
}

// sign is a character as it is shown.
func sign(r rune) string {
	switch {
	case r == '\n':
		return "⏎"
	case r == '\r':
		return "␍"
	case r < 0x20:
		return string(0x2400 + r)
	case r == 0x7f:
		return "␡"
	case unicode.IsControl(r):
		return fmt.Sprintf("<U+%04X>", r)
	}
	return string(r)
}

// JSON writes a value as JSON that says the same and shows everything: what has no glyph stands as \u.
func JSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	if plain(b.Bytes()) {
		return b.Bytes(), nil
	}
	var out bytes.Buffer
	for _, r := range b.String() { // beyond ASCII there are only texts, and their signs within quotes
		if r > 0x7e && glyph.Shown(string(r)) != string(r) || unicode.IsControl(r) && r > 0x7e {
			for _, unit := range utf16.Encode([]rune{r}) {
				fmt.Fprintf(&out, `\u%04x`, unit)
			}
			continue
		}
		out.WriteRune(r)
	}
	return out.Bytes(), nil
}
