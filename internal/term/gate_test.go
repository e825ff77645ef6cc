package term

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestGate(t *testing.T) {
	for in, want := range map[string]string{
		"00417  depot\n":                        "00417  depot\n",
		"\x1b[1m0001\x1b[0m done\r\n":           "\x1b[1m0001\x1b[0m done\r\n",
		"\r\x1b[Kwriting …":                     "\r\x1b[Kwriting …",
		"\x1b[38;2;217;142;0mamend\x1b[39m":     "\x1b[38;2;217;142;0mamend\x1b[39m",
		"a\x1b[8mhidden\x1b[0m":                 "a␛[8mhidden\x1b[0m", // conceal
		"a\x1b[41mred\x1b[0m":                   "a␛[41mred\x1b[0m",
		"\x1b]0;title\a\x1b[2J\x1b[H\x1b[5A":    "␛]0;title␇␛[2J␛[H␛[5A",
		"one\rtwo\x08\x7f\x9b31m":               "one␍two␈␡<9B>31m",
		"a\tb\x00c":                             "a␉b␀c",
		"zero\u200bwidth \u202etxt.exe \ufeff":  "zero<U+200B>width <U+202E>txt.exe <U+FEFF>",
		"tag\U000e0041 filler\u3164 c1\u0085":   "tag<U+E0041> filler<U+3164> c1<U+0085>",
		"\xff\xfe and \xc3":                     "<FF><FE> and <C3>",
		"👩\u200d🚒 क\u094d\u200dष می\u200cخواهم": "👩\u200d🚒 क\u094d\u200dष می\u200cخواهم",
		"Łódź 漢字 ελ":                            "Łódź 漢字 ελ",
	} {
		assert.Equal(t, want, Gated(in), "%q", in)
		assert.Equal(t, want, Gated(want), "it goes through once more as it is")
	}
}

// Whatever is written: nothing comes out that a terminal obeys but our own colours, line ends and erase-line, and nothing that has no glyph.
func TestNothingHiddenPassesTheGate(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := rapid.OneOf(rapid.SliceOf(rapid.Byte()), rapid.Map(rapid.SliceOf(rapid.SampledFrom([]string{"\x1b", "[", "8", "1", ";", "m", "K", "\r", "\n", "\u200b", "\u202e", "a", "é", "\x9b", "\xe2\x80", "\U000e0020", "38", "2J"})), func(s []string) []byte { return []byte(strings.Join(s, "")) })).Draw(t, "p")
		var out bytes.Buffer
		n, err := Gate(&out).Write(p)
		require.NoError(t, err)
		require.Equal(t, len(p), n)
		rest := ours.ReplaceAllStringFunc(out.String(), func(s string) string {
			require.True(t, !strings.HasSuffix(s, "m") || colour([]byte(s)), "%q", s)
			return ""
		})
		for _, r := range rest {
			require.False(t, unicode.IsControl(r), "%q in %q", r, out.String())
			require.NotContains(t, "\u200b\u202e\ufeff\U000e0020", string(r))
		}
		require.Equal(t, out.String(), Gated(out.String()))
	})
}

// JSON says the same, and shows everything.
func TestJSONShowsEverything(t *testing.T) {
	for _, v := range []string{"Łódź", "zero\u200bwidth", "\u202etxt", "\U000e0041", "\u0085", "a\x1b[2J", "👩\u200d🚒"} {
		b, err := JSON(map[string]string{"v": v})
		require.NoError(t, err)
		assert.Equal(t, string(b), Gated(string(b)))
		var back map[string]string
		require.NoError(t, json.Unmarshal(b, &back))
		assert.Equal(t, v, back["v"])
	}
}

func TestSafeLines(t *testing.T) {
	assert.Equal(t, "Hand-off of ␛]0;x␇ <U+202E>txt\nnext␉line\n", SafeLines("Hand-off of \x1b]0;x\a \u202etxt\nnext\tline\n"))
}
