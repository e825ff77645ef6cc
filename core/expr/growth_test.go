package expr

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Expressions within each other multiply: what would fill the memory is refused at once.
func TestExpressionsThatMultiply(t *testing.T) {
	env, err := NewEnv(Texts([]string{"v"}), nil)
	require.NoError(t, err)
	nested := "v"
	for range 12 {
		nested = fmt.Sprintf("replace(%s, '', 'xxxxxxxxxx')", nested)
	}
	for _, source := range []string{nested, "replace(replace(v, '', '" + strings.Repeat("a", 2000) + "'), '.', '" + strings.Repeat("b", 2000) + "')", "replace(replace(v, '$', '" + strings.Repeat("a", 5000) + "'), '^.*$', '" + strings.Repeat("$0", 5000) + "')"} {
		p, err := env.Compile(source)
		require.NoError(t, err)
		began := time.Now()
		_, err = p.Eval(&Input{New: func(int) Value { return TextValue("Skerry Ledge") }})
		require.ErrorContains(t, err, "replace makes more than 1 MB of a text")
		assert.Less(t, time.Since(began), 5*time.Second)
	}
}

// What is replaced within bounds is what the pattern's own replacing gives.
func TestReplacedIsReplaceAll(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		re := regexp.MustCompile(rapid.SampledFrom([]string{"", "a", "(a)(b)?", "^", "$", ".", "[^x]+", "(?P<n>b+)"}).Draw(t, "re"))
		s, with := rapid.StringOf(rapid.RuneFrom([]rune("abxé"))).Draw(t, "s"), rapid.SampledFrom([]string{"", "y", "$0", "$1$2", "${n}z", "$$", "$"}).Draw(t, "with")
		got, ok := replaced(re, s, with)
		require.True(t, ok)
		require.Equal(t, re.ReplaceAllString(s, with), got)
	})
}
