package glyph

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestWhatIsOrdinarySpellingIsShownAsItIs(t *testing.T) {
	for _, s := range []string{"", "Old Pier", "Åsa Brandvold", "Noor el-Amrani", "Petr Šimek", "Mairead Ó Dálaigh", "café", "cafe\u0301", "Москва", "Αθήνα", "Երևան", "ᏣᎳᎩ", "東京", "서울", "שלום", "عربي",
		"می\u200cخواهم", "क्\u200dष", "ශ්\u200dරී", "ക്\u200d", "മലയാളം", "👩\u200d🚒", "👨\u200d👩\u200d👧", "🏳\ufe0f\u200d🌈", "👍🏽", "❤\ufe0f", "1\ufe0f\u20e3", "🏴\U000e0067\U000e0062\U000e0073\U000e0063\U000e0074\U000e007f",
		"葛\U000e0100", "≨\ufe00", "ᠠ\u180b", "5 µm", "10 kΩ", "Δt", "αβγ", "Заря-M1", "СССР USSR", "π-meson", "ﬁ", "①", "½", "\u00a0", "a\u2003b", "tab\there", "line\nbreak"} {
		assert.Equal(t, s, Visible(s), "%+q", s)
		assert.False(t, Unseen(s), "%+q", s)
	}
}

func TestWhatCannotBeSeenIsShown(t *testing.T) {
	for s, want := range map[string]string{
		"Old\u200bPier": "Old<U+200B>Pier", "Old Pier\u200d": "Old Pier<U+200D>", "a\u200cb": "a<U+200C>b", "\ufeffx": "<U+FEFF>x", "x\u00ady": "x<U+00AD>y", "x\u2060": "x<U+2060>", "a\u202eb": "a<U+202E>b",
		"D0\U000e00311": "D0<U+E0031>1", "🏴\U000e0067x": "🏴<U+E0067>x", "Pi\u0435r": "Pi<U+0435>r", "\u0410KM": "<U+0410>KM", "Москвa": "Москв<U+0061>", "Νags": "<U+039D>ags", "x\ufe0f": "x<U+FE0F>", "می\u200c": "می<U+200C>",
		"\u3164": "<U+3164>", "a\u2028b": "a<U+2028>b", "👍\u200d": "👍<U+200D>", "\u200d": "<U+200D>", "a\u034fb": "a<U+034F>b",
	} {
		assert.Equal(t, want, Visible(s), "%+q", s)
		assert.True(t, Unseen(s))
	}
}

func TestDiffersInWhatCannotBeSeen(t *testing.T) {
	for _, c := range []struct {
		from, to string
		want     bool
	}{
		{"COM", "СОМ", true}, {"Pier", "Pi\u0435r", true}, {"Pi\u0435r", "Pier", true}, {"D01", "D01\u200b", true}, {"D01\u200b", "D01", true}, {"D01", "D02\u200b", true}, {"D01\u200b", "D02\u200b", false},
		{"Pier", "Peer", false}, {"D01", "D02", false}, {"Москва", "Москву", false}, {"a", "á", false}, {"", "\u200b", true}, {"میخواهم", "می\u200cخواهم", false}, {"👩🚒", "👩\u200d🚒", false}, {"x", "x", false},
	} {
		assert.Equal(t, c.want, Differs(c.from, c.to), "%+q → %+q", c.from, c.to)
	}
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "text")
		at := rapid.IntRange(0, len([]rune(s))).Draw(t, "at")
		with := string([]rune(s)[:at]) + "\u200b" + string([]rune(s)[at:])
		assert.True(t, Differs(s, with))
		assert.Contains(t, Visible(with), "<U+200B>")
		assert.False(t, Differs(s, s))
	})
}
