package open

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestHeadingsThatBeginAsJSON: a table whose first column has a name of brackets is a table all the same.
func TestHeadingsThatBeginAsJSON(t *testing.T) {
	for text, want := range map[string]bool{
		`{"a":1}`: true, "{\n \"a\":1}": true, "\ufeff\n [ {\"a\":1}]": true, "{}": true, "{}\r\n{}\n": true, "{}\n\n{\"a\":1}": true, "[]": true, "[ ]\n": true,
		"[{}]": true, "[{}, {\"a\":1}]": true, "[\n{\n\"a\":1}]": true,
		"": false, "{": false, "[": false, "{},name\n1,a\n": false, "{}x,{}\n": false, "{}{,b\n1,2\n": false, "{}\n1\n": false, "[],b\n": false, "[]2,b\n": false,
		"[{},b\n1,2\n": false, "[{a},b\n": false, "[1],b\n": false, "{a},b\n": false, "\"{}\",b\n": false,
	} {
		assert.Equal(t, want, isJSON([]byte(text)), "%q", text)
	}
}
