package expr

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Mistakes are said in our words, with the column where something is missing or too much.
func TestMistakes(t *testing.T) {
	env, err := NewEnv(aids, nil)
	require.NoError(t, err)
	for _, c := range []struct {
		source string
		column int
		text   string
	}{
		{`fee >`, 6, "a value is missing after >"},
		{`fee > 3 &&`, 11, "a value is missing after &&"},
		{`fee > > 3`, 6, "a value is missing after >"},
		{`(fee > 3`, 9, "a ) is missing at the end"},
		{`fee > 3)`, 8, "a ) is too many"},
		{`fee = 3`, 5, "= does not compare: write == for is, != for is not"},
		{`depot == "x`, 10, "a text begins with a quote here, and does not end"},
		{`depot name`, 7, "something is missing between depot and name: == or &&, perhaps"},
		{`depot == "x" and fee > 3`, 14, "and is written && here"},
		{`fee § 3`, 5, "§ cannot stand here"},
		{"fee >\n ", 6, "a value is missing after >"},
		{"", 1, "it is empty"},
		{`depo == "x"`, 1, "there is no 'depo'"},
	} {
		_, err := env.Compile(c.source)
		x := new(Error)
		if assert.True(t, errors.As(err, &x), c.source) {
			assert.Equal(t, c.text, x.Text, c.source)
			assert.Equal(t, c.column, x.Column, c.source)
			assert.Equal(t, 1, x.Line, c.source)
		}
	}
}

// Whatever is typed, what is wrong is said with a place within it, or one behind.
func TestMistakesHaveAPlace(t *testing.T) {
	env, err := NewEnv(aids, nil)
	require.NoError(t, err)
	word := rapid.SampledFrom([]string{"fee", "depot", "==", ">", "(", ")", "\"x\"", "'", "&&", "3", "in", "[", ",", "é", "\n", "@", "=", "new.", "-"})
	rapid.Check(t, func(t *rapid.T) {
		source := ""
		for _, w := range rapid.SliceOfN(word, 0, 8).Draw(t, "words") {
			source += w + " "
		}
		_, err := env.Compile(source)
		x := new(Error)
		if errors.As(err, &x) {
			assert.NotContains(t, x.Text, "Syntax error")
			assert.NotContains(t, x.Text, "expecting")
			assert.GreaterOrEqual(t, x.Column, 1)
			assert.GreaterOrEqual(t, x.Line, 1)
		}
	})
}
