package wear

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMade(t *testing.T) {
	for _, c := range []struct{ given, found, how string }{
		{"12.345", "12.35", "rounded to 2 decimals"},
		{"12.345", "12.34", "rounded to 2 decimals"}, // half to even
		{"12.349", "12.34", "cut to 2 decimals"},
		{"12.6", "13", "rounded to 0 decimals"},
		{"8.0", "8", "the number in another form"},
		{"12.35", "12.345", ""}, // nothing is made more exact
		{"120", "100", ""},      // nor rounded to hundreds
		{" Old Pier ", "Old Pier", "spaces at the ends taken off"},
		{"Old  Pier", "Old Pier", "spaces made one"},
		{"a\nb", "a\r\nb", "line breaks in another form"},
		{"Mairead Ó Dálaigh", "Mairead O Dalaigh", "accents lost"},
		{"Tomasz Zięba", "Tomasz Zi?ba", "letters lost"},
		{"Bell refitted in October", "Bell refitted", "cut to 13 characters"},
		{"inner", "INNER", "letters in another case"},
		{"D03", "D07", ""},
		{"D03", "", ""},
		{"", "D03", ""},
	} {
		assert.Equal(t, c.how, Made(c.given, c.found), "%q → %q", c.given, c.found)
	}
}
