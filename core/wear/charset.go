package wear

import (
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"paletwin/core/wear/learn"
)

// Charset is what a reading or writing in a wrong encoding makes of text. The
// words say what happened.
type Charset string

const (
	As1252     Charset = "UTF-8 read as Windows-1252"
	As1252C1   Charset = "UTF-8 read as Windows-1252, undefined bytes kept" // as the WHATWG Encoding Standard reads it
	Lost1252   Charset = "saved as Windows-1252, other letters lost"
	LostLatin1 Charset = "saved as Latin-1, other letters lost"
	LostASCII  Charset = "saved as ASCII, other letters lost"
	AsUTF8     Charset = "Windows-1252 read as UTF-8, letters lost"
)

var charsets = []Charset{As1252, As1252C1, Lost1252, LostLatin1, LostASCII, AsUTF8}

func (c Charset) wear(s string) string {
	if learn.ASCII(s) {
		return s
	}
	var b strings.Builder
	switch c {
	case As1252, As1252C1:
		for i := range len(s) {
			r := charmap.Windows1252.DecodeByte(s[i])
			if c == As1252 && (r == utf8.RuneError || r >= 0x80 && r < 0xa0) { // LibreOffice keeps bytes without a letter in the private use area
				r = 0xf100 + rune(s[i])
			}
			b.WriteRune(r)
		}
	case Lost1252, LostLatin1, LostASCII:
		for _, r := range s {
			b.WriteRune(c.keep(r))
		}
	case AsUTF8:
		for _, r := range s {
			if r >= 0x80 {
				r = utf8.RuneError
			}
			b.WriteRune(r)
		}
	}
	return b.String()
}

// keep is what a smaller encoding has for a letter.
func (c Charset) keep(r rune) rune {
	if r < 0x80 {
		return r
	}
	switch c {
	case Lost1252:
		if _, ok := charmap.Windows1252.EncodeRune(r); ok {
			return r
		}
	case LostLatin1:
		if r <= 0xff {
			return r
		}
	}
	if r == '–' && c != Lost1252 {
		return '-'
	}
	return '?'
}

// undo returns the text of which the charset makes s, where only one is.
func (c Charset) undo(s string) (string, bool) {
	if learn.ASCII(s) && !strings.ContainsAny(s, "?") {
		return s, true
	}
	if c != As1252 && c != As1252C1 {
		return s, c != AsUTF8 && !strings.Contains(s, "?") || c == AsUTF8 && !strings.ContainsRune(s, utf8.RuneError)
	}
	if learn.ASCII(s) {
		return s, true
	}
	var b []byte
	for _, r := range s {
		switch x, ok := charmap.Windows1252.EncodeRune(r); {
		case r >= 0xf180 && r < 0xf1a0:
			b = append(b, byte(r-0xf100))
		case ok:
			b = append(b, x)
		default:
			return s, false
		}
	}
	return string(b), utf8.Valid(b)
}

// Mend undoes one reading of UTF-8 as Windows-1252 (as the WHATWG Encoding Standard
// has it), where what comes of that is UTF-8.
func Mend(s string) string {
	if mended, ok := As1252C1.undo(s); ok {
		return mended
	}
	return s
}
