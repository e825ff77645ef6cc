package term

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Whatever stands in data, nothing that could steer a terminal comes out.
func TestSafeTextSteersNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "text") + rapid.SampledFrom([]string{"", "\x1b[2J", "\u202e", "\r", "\x07", "\ufeff", "\u2028"}).Draw(t, "tail")
		out := Safe(s)
		for _, r := range out {
			assert.False(t, unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r), "%q", out)
		}
		assert.Equal(t, out, Safe(out), "safe text stays as it is")
	})
}

func TestCutTextFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Safe(rapid.String().Draw(t, "text"))
		width := rapid.IntRange(1, 30).Draw(t, "width")
		out := Cut(s, width)
		assert.LessOrEqual(t, ansi.StringWidth(out), max(width, 0))
		if ansi.StringWidth(s) <= width {
			assert.Equal(t, s, out)
		}
	})
	assert.Equal(t, "Secto… line", Cut("Sector edge checked against the leading line", 11))
}

func TestColumnsLineUp(t *testing.T) {
	var b bytes.Buffer
	s := New(&b, nil, 80, true)
	tab := Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"field", "changes", "empty"}}
	tab.Row(Strong("depot"), "9", "")
	tab.Row("größe", Pale("1 204"), "")
	tab.Print(s)
	assert.Equal(t, "  field  changes\n  depot        9\n  größe    1 204\n", b.String())
}

func TestColoursGoWherePlainIsAsked(t *testing.T) {
	var b bytes.Buffer
	New(&b, []string{"TERM=xterm-256color", "COLORTERM=truecolor", "TTY_FORCE=1", "CLICOLOR_FORCE=1"}, 80, false).Line("%s", Act("amend"))
	assert.Contains(t, b.String(), "\x1b[")
	b.Reset()
	New(&b, []string{"CLICOLOR_FORCE=1"}, 80, true).Line("%s %s", Act("delete"), Level("stop"))
	assert.Equal(t, "delete stop\n", b.String())
}

func TestBarsAndCounts(t *testing.T) {
	assert.Equal(t, "", Bar(0, 10, 24))
	assert.NotEmpty(t, Bar(1, 1_000_000, 24), "what is more than nothing shows")
	assert.Equal(t, strings.Repeat("█", 24), Bar(10, 10, 24))
	assert.Equal(t, "1\u202f234\u202f567", Count(1234567))
	assert.Equal(t, "1 record, 2 records", Plural(1, "record")+", "+Plural(2, "record"))
}

func TestProgressWaitsASecond(t *testing.T) {
	var b bytes.Buffer
	now := time.Unix(0, 0)
	p := NewProgress(New(&b, nil, 80, true), true, func() time.Time { return now })
	p.Step("writing", 10, 1000)
	assert.Empty(t, b.String(), "nothing in the first second")
	now = now.Add(2 * time.Second)
	p.Step("writing", 500, 1000)
	assert.Contains(t, b.String(), "writing 500 of 1\u202f000, 250 a second, 2s left")
	p.Done()
	b.Reset()
	p.Done()
	assert.Empty(t, b.String())
	silent := NewProgress(New(&b, nil, 80, true), false, func() time.Time { return now })
	now = now.Add(time.Hour)
	silent.Step("writing", 1, 2)
	assert.Empty(t, b.String())
}

func TestWrap(t *testing.T) {
	for text, want := range map[string][]string{"": {""}, "a b": {"a b"}, "one two three": {"one two", "three"}, "longerthanthat x": {"longerthanthat", "x"}, "a -2.5 -3.25": {"a -2.5", "-3.25"}} {
		assert.Equal(t, want, Wrap(text, 8), text)
	}
}
