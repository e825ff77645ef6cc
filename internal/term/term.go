// Package term writes to terminals: the looks of Pale Twin, tables whose
// columns line up, bars, cut and escaped text. It decides how things look
// and nothing else.
package term

import (
	"fmt"
	"image/color"
	"io"
	"strings"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"paletwin/core/glyph"
	"paletwin/core/words"
)

// Screen is an output for people.
type Screen struct {
	w     *colorprofile.Writer
	Width int // columns
}

// New returns a Screen that writes to w. Colours are made to fit what w and
// the environment allow; plain leaves all styling out.
func New(w io.Writer, environ []string, width int, plain bool) *Screen {
	cw := colorprofile.NewWriter(w, environ) // which finds out what kind of file it is
	cw.Forward = Gate(w)
	if plain {
		cw.Profile = colorprofile.NoTTY
	}
	return &Screen{cw, width}
}

// Print writes formatted text. Values from data must have gone through Safe.
func (s *Screen) Print(format string, args ...any) { fmt.Fprintf(s.w, format, args...) }

// Line writes formatted text and ends the line.
func (s *Screen) Line(format string, args ...any) { s.Print(format+"\n", args...) }

// The Okabe–Ito colours tell acts apart for colour-blind eyes, too. The
// greys stand on light and dark grounds alike.
var (
	orange = color.RGBA{0xD9, 0x8E, 0x00, 0xFF}
	blue   = color.RGBA{0x2E, 0x9B, 0xD6, 0xFF}
	purple = color.RGBA{0xCC, 0x79, 0xA7, 0xFF}
	grey   = color.RGBA{0x8C, 0x8C, 0x8C, 0xFF}

	pale   = ansi.Style{}.Faint().ForegroundColor(grey)
	dim    = ansi.Style{}.ForegroundColor(grey)
	strong = ansi.Style{}.Bold()
	acts   = map[string]ansi.Style{
		"amend":  ansi.Style{}.ForegroundColor(orange),
		"add":    ansi.Style{}.ForegroundColor(blue),
		"delete": ansi.Style{}.ForegroundColor(purple),
	}
	levels = map[string]ansi.Style{"note": dim, "warn": ansi.Style{}.ForegroundColor(orange), "stop": ansi.Style{}.Bold().ForegroundColor(purple)}
)

// Pale is the snapshot's side of a change.
func Pale(s string) string { return render(pale, s) }

// Strong is its twin.
func Strong(s string) string { return render(strong, s) }

// Dim is what stands back.
func Dim(s string) string { return render(dim, s) }

// Act writes an act's word in its colour.
func Act(word string) string { return render(acts[word], word) }

// Hue gives text the colour of an act.
func Hue(act, s string) string { return render(acts[act], s) }

// Level writes a finding's level.
func Level(word string) string { return render(levels[word], word) }

// render styles text without touching its spaces or widths.
func render(st ansi.Style, s string) string {
	if s == "" {
		return ""
	}
	return st.Styled(s)
}

// Safe makes text from data fit to be shown: control characters, those that
// turn the direction of text, line breaks, and what has no glyph or looks like
// another letter become visible signs.
func Safe(s string) string {
	return signs(glyph.Visible(s))
}

// SafeLines is Safe line by line, for a text that is kept in a file and opened anywhere.
func SafeLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = Safe(lines[i])
	}
	return strings.Join(lines, "\n")
}

// Cut shortens text to the given width, in the middle.
func Cut(s string, width int) string {
	w := ansi.StringWidth(s)
	if w <= width {
		return s
	}
	if width < 3 {
		return ansi.Truncate(s, width, "")
	}
	// Where the cut falls between signs that join, the rest may be wider than
	// it was in the whole: then less of it is taken.
	for tail := (width - 1) / 2; tail > 0; tail-- {
		out := ansi.Truncate(s, width-1-tail, "") + "…" + ansi.TruncateLeft(s, w-tail, "")
		if ansi.StringWidth(out) <= width {
			return out
		}
	}
	return ansi.Truncate(s, width-1, "") + "…"
}

// Wrap breaks text between words into lines of the given width; a longer word
// has a line of its own.
func Wrap(s string, width int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Split(s, " ") {
		if line != "" && ansi.StringWidth(line)+1+ansi.StringWidth(word) > width {
			lines = append(lines, line)
			line = word
			continue
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	return append(lines, line)
}

// Value makes a value from data fit for a cell of the given width; an empty
// one gets a word.
func Value(s string, width int) string {
	if s == "" {
		return "(empty)"
	}
	return Cut(Safe(s), width)
}

// Bar draws n of most as a bar of at most width columns; what is more than
// nothing shows.
func Bar(n, most, width int) string {
	if n <= 0 || most <= 0 {
		return ""
	}
	eighths := max(n*width*8/most, 1)
	bar := strings.Repeat("█", eighths/8)
	if r := eighths % 8; r > 0 {
		bar += string([]rune(" ▏▎▍▌▋▊▉")[r])
	}
	return bar
}

// Count writes a number with thousands apart: 12 345.
func Count(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "\u202f" + s[i:]
	}
	return s
}

// Plural writes a number with its noun.
func Plural(n int, noun string) string {
	return Count(n) + " " + words.Plural(n, noun)
}
