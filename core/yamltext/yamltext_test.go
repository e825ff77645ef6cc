package yamltext

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/thorough"
)

func TestTooMuch(t *testing.T) {
	laughs := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 9 {
		laughs += fmt.Sprintf("%c: &%c [%s]\n", 'b'+i, 'b'+i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c, ", 'a'+i), 10), ", "))
	}
	steps := ""
	for i := range 200 {
		steps += strings.Repeat(" ", i) + "a:\n"
	}
	merged := "a: &a {x: " + strings.Repeat("y", 1000) + "}\n"
	for i := range 2000 {
		merged += fmt.Sprintf("k%d: {<<: *a}\n", i)
	}
	for name, text := range map[string]string{
		"laughs":        laughs,
		"flow":          strings.Repeat("[", 100_000),
		"objects":       strings.Repeat("{a: ", 100) + "1" + strings.Repeat("}", 100),
		"dashes":        strings.Repeat("- ", 100_000) + "x",
		"steps":         steps,
		"large":         "a: " + strings.Repeat("x", MaxBytes),
		"itself":        "a: &a [1, *a]",
		"merged":        merged,
		"flow by lines": strings.Repeat("[\n", 5000),
	} {
		t.Run(name, func(t *testing.T) {
			began := time.Now()
			var v any
			err := Unmarshal([]byte(text), &v)
			require.ErrorIs(t, err, ErrTooMuch)
			assert.Less(t, time.Since(began), 10*time.Second) // it is endless else
		})
	}
}

func TestWhatPeopleWriteIsRead(t *testing.T) {
	var v map[string]any
	require.NoError(t, Unmarshal([]byte("name: &n 'Saltreach [outer'\nother: *n\nlist:\n- {a: [1, 2]}\n- b:\n    c: '- - - ['\ntext: |\n  [[[[ {{{{\n  - - - -\nrest: {<<: {x: 1}}\n"), &v))
	assert.Equal(t, "Saltreach [outer", v["other"])
	var many strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&many, "f%d: {kind: text, values: [a, b]}\n", i)
	}
	require.NoError(t, Unmarshal([]byte(many.String()), &v))
	require.NoError(t, Unmarshal([]byte("# nothing\n"), new(any)))
}

func FuzzYAML(f *testing.F) {
	f.Add([]byte("a: &a [x]\nb: *a\n"))
	f.Add([]byte("- - ? a\n  : {b: [c]}\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		thorough.Bounded(t, func() {
			var v any
			_ = Unmarshal(b, &v)
		})
	})
}
