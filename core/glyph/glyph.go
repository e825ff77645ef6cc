// Package glyph knows what of a text its reader cannot see: characters without
// a glyph, and letters of another script that look like those around them.
//
// What is ordinary spelling is none of it: joiners between letters of scripts
// that use them, variation selectors and tags in emoji (Unicode Technical
// Standard 51), words that are all of one script.
package glyph

import (
	"fmt"
	"strings"
	"unicode"
)

// Visible writes what of a text cannot be seen as its code, <U+200B>. All else
// stays, control characters too.
func Visible(s string) string {
	runes, unseen := look(s)
	if unseen == nil {
		return s
	}
	var b strings.Builder
	for i, r := range runes {
		if unseen[i] {
			fmt.Fprintf(&b, "<U+%04X>", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Shown writes what of a text has no glyph as its code, as Visible does, and leaves letters of whatever script as they are: they are
// seen.
func Shown(s string) string {
	if plain(s) {
		return s
	}
	runes := []rune(s)
	var b strings.Builder
	for i, r := range runes {
		if ignorable(r) && !ordinary(runes, i) {
			fmt.Fprintf(&b, "<U+%04X>", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Differs reports whether two texts differ in something that cannot be seen:
// they look the same, or the second has such a character that the first has
// not.
func Differs(from, to string) bool {
	if from == to || plain(from) && plain(to) {
		return false
	}
	if skeleton(from) == skeleton(to) {
		return true
	}
	had := map[rune]int{}
	for _, r := range unseenOf(from) {
		had[r]++
	}
	for _, r := range unseenOf(to) {
		if had[r]--; had[r] < 0 {
			return true
		}
	}
	return false
}

// Unseen reports whether something of a text cannot be seen.
func Unseen(s string) bool { return len(unseenOf(s)) > 0 }

func unseenOf(s string) []rune {
	runes, unseen := look(s)
	var all []rune
	for i, u := range unseen {
		if u {
			all = append(all, runes[i])
		}
	}
	return all
}

// plain reports whether a text is ASCII, in which everything is seen.
func plain(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// look says of each character whether it cannot be seen; nil where all can.
func look(s string) (runes []rune, unseen []bool) {
	if plain(s) {
		return nil, nil
	}
	runes = []rune(s)
	mark := func(i int) {
		if unseen == nil {
			unseen = make([]bool, len(runes))
		}
		unseen[i] = true
	}
	for i, r := range runes {
		if ignorable(r) && !ordinary(runes, i) {
			mark(i)
		}
	}
	for from := 0; from < len(runes); {
		to := from
		for to < len(runes) && (unicode.IsLetter(runes[to]) || unicode.IsMark(runes[to]) || ignorable(runes[to])) {
			to++
		}
		for _, i := range foreign(runes[from:to]) {
			mark(from + i)
		}
		from = to + 1
	}
	return runes, unseen
}

// ignorable reports whether a character has no glyph of its own: the default
// ignorable code points of the Unicode Standard (5.21), and the separators of
// lines and paragraphs.
func ignorable(r rune) bool {
	switch {
	case r < 0xad:
		return false
	case r == 0xad, r == 0x34f, r == 0x61c, r >= 0x115f && r <= 0x1160, r >= 0x17b4 && r <= 0x17b5, r >= 0x180b && r <= 0x180f:
		return true
	case r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r == 0x3164, r >= 0xfe00 && r <= 0xfe0f:
		return true
	case r == 0xfeff, r == 0xffa0, r >= 0xfff0 && r <= 0xfffb, r >= 0x1bca0 && r <= 0x1bca3, r >= 0x1d173 && r <= 0x1d17a, r >= 0xe0000 && r <= 0xe0fff:
		return true
	}
	return false
}

const (
	nonJoiner, joiner = 0x200c, 0x200d
	blackFlag         = 0x1f3f4
	lastTag           = 0xe007f
)

// ordinary reports whether a character without a glyph is ordinary spelling
// where it stands.
func ordinary(runes []rune, i int) bool {
	at := func(k int) rune {
		if k < 0 || k >= len(runes) {
			return 0
		}
		return runes[k]
	}
	before, after := at(i-1), at(i+1)
	switch r := runes[i]; {
	case r == nonJoiner, r == joiner:
		if joins(before) && (joins(after) || unicode.Is(unicode.Mn, before)) {
			return true
		}
		return r == joiner && emoji(before) && emoji(after)
	case r == 0xfe0e, r == 0xfe0f:
		return emoji(before) || after == 0x20e3 && (before >= '0' && before <= '9' || before == '#' || before == '*')
	case r >= 0xfe00 && r <= 0xfe0d, r >= 0xe0100 && r <= 0xe01ef:
		return unicode.Is(unicode.Han, before) || unicode.Is(unicode.Sm, before)
	case r >= 0xe0020 && r <= lastTag:
		return flagTag(runes, i)
	case r >= 0x180b && r <= 0x180f:
		return unicode.Is(unicode.Mongolian, before)
	case r == 0x115f, r == 0x1160:
		return after >= 0x1100 && after <= 0x11ff || before >= 0x1100 && before <= 0x11ff
	case r == 0x17b4, r == 0x17b5:
		return unicode.Is(unicode.Khmer, before)
	}
	return false
}

// flagTag reports whether a tag belongs to the flag of a region: a black flag,
// tags, and the last one.
func flagTag(runes []rune, i int) bool {
	from := i
	for from > 0 && runes[from] >= 0xe0020 && runes[from] <= lastTag {
		from--
	}
	if runes[from] != blackFlag {
		return false
	}
	for k := from + 1; k < len(runes); k++ {
		switch r := runes[k]; {
		case r == lastTag:
			return i <= k
		case r < 0xe0030 || r > 0xe007a:
			return false
		}
	}
	return false
}

// emoji reports whether a character stands in emoji, beside joiners and
// selectors.
func emoji(r rune) bool {
	return unicode.Is(unicode.So, r) || r >= 0x1f3fb && r <= 0x1f3ff || r == 0xfe0f || strings.ContainsRune("‼⁉〰〽ℹ↔↕↖↗↘↙↩↪▪▫◻◼◽◾⤴⤵⬅⬆⬇", r) && r != 0
}

// joining are the scripts in whose spelling joiners have a part.
var joining = []*unicode.RangeTable{unicode.Arabic, unicode.Syriac, unicode.Nko, unicode.Mandaic, unicode.Mongolian, unicode.Phags_Pa, unicode.Devanagari, unicode.Bengali,
	unicode.Gurmukhi, unicode.Gujarati, unicode.Oriya, unicode.Tamil, unicode.Telugu, unicode.Kannada, unicode.Malayalam, unicode.Sinhala, unicode.Tibetan, unicode.Myanmar,
	unicode.Khmer, unicode.Balinese, unicode.Javanese, unicode.Sundanese, unicode.Tai_Tham, unicode.Chakma, unicode.Newa, unicode.Kaithi, unicode.Grantha, unicode.Tirhuta}

func joins(r rune) bool { return unicode.In(r, joining...) }

// scripts are those that have letters which look like each other's.
var scripts = []*unicode.RangeTable{unicode.Latin, unicode.Cyrillic, unicode.Greek, unicode.Armenian, unicode.Cherokee}

func scriptOf(r rune) int {
	for i, s := range scripts {
		if unicode.Is(s, r) {
			return i
		}
	}
	return -1
}

// alike are letters that look like a Latin one in usual typefaces (Unicode
// Technical Standard 39), Latin letters by these.
var alike = map[rune]rune{
	'а': 'a', 'е': 'e', 'о': 'o', 'р': 'p', 'с': 'c', 'у': 'y', 'х': 'x', 'і': 'i', 'ї': 'ï', 'ј': 'j', 'ѕ': 's', 'һ': 'h', 'ԁ': 'd', 'ԛ': 'q', 'ԝ': 'w', 'ѵ': 'v', 'ӏ': 'l',
	'А': 'A', 'В': 'B', 'Е': 'E', 'К': 'K', 'М': 'M', 'Н': 'H', 'О': 'O', 'Р': 'P', 'С': 'C', 'Т': 'T', 'У': 'Y', 'Х': 'X', 'І': 'I', 'Ї': 'Ï', 'Ј': 'J', 'Ѕ': 'S', 'Ԍ': 'G', 'Ԝ': 'W', 'Ӏ': 'I', 'Ѵ': 'V',
	'ο': 'o', 'ν': 'v', 'ι': 'i', 'κ': 'k', 'ρ': 'p', 'υ': 'u', 'χ': 'x', 'ϲ': 'c', 'ϳ': 'j',
	'Α': 'A', 'Β': 'B', 'Ε': 'E', 'Ζ': 'Z', 'Η': 'H', 'Ι': 'I', 'Κ': 'K', 'Μ': 'M', 'Ν': 'N', 'Ο': 'O', 'Ρ': 'P', 'Τ': 'T', 'Υ': 'Y', 'Χ': 'X', 'Ϲ': 'C', 'Ϳ': 'J',
	'օ': 'o', 'ս': 'u', 'ո': 'n', 'հ': 'h', 'զ': 'q', 'ց': 'g', 'Օ': 'O', 'Տ': 'S', 'Լ': 'L',
	'Ꭺ': 'A', 'Ᏼ': 'B', 'Ꮯ': 'C', 'Ꭰ': 'D', 'Ꭼ': 'E', 'Ꮋ': 'H', 'Ꭻ': 'J', 'Ꮶ': 'K', 'Ꮮ': 'L', 'Ꮇ': 'M', 'Ꮲ': 'P', 'Ꮪ': 'S', 'Ꭲ': 'T', 'Ꮩ': 'V', 'Ꮃ': 'W', 'Ꮓ': 'Z',
}

// twinned are the Latin letters that others look like.
var twinned = func() map[rune]bool {
	m := map[rune]bool{}
	for _, latin := range alike {
		m[latin] = true
	}
	return m
}()

// foreign lists the letters of a word that look like letters of the script of
// most of it, or of its first letter, and are of another.
func foreign(word []rune) []int {
	var count [5]int
	first, kinds := -1, 0
	for _, r := range word {
		if s := scriptOf(r); s >= 0 {
			if count[s]++; count[s] == 1 {
				kinds++
			}
			if first < 0 {
				first = s
			}
		}
	}
	if kinds < 2 {
		return nil
	}
	own := first
	for s, n := range count {
		if n > count[own] {
			own = s
		}
	}
	var all []int
	for i, r := range word {
		if s := scriptOf(r); s >= 0 && s != own && (alike[r] != 0 || twinned[r]) {
			all = append(all, i)
		}
	}
	return all
}

// skeleton is what two texts share that look the same: what has no glyph is
// left out, and letters that look like Latin ones are these.
func skeleton(s string) string {
	var b strings.Builder
	runes := []rune(s)
	for i, r := range runes {
		if ignorable(r) && !ordinary(runes, i) {
			continue
		}
		if latin, ok := alike[r]; ok {
			r = latin
		}
		b.WriteRune(r)
	}
	return b.String()
}
