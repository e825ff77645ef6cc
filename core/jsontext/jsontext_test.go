package jsontext_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/jsontext"
)

func TestStrings(t *testing.T) {
	for s, want := range map[string]string{"": `""`, `a"b\c`: `"a\"b\\c"`, "a\nb\tc\r": `"a\nb\tc\r"`, "\x00\x1f\x7f": "\"\\u0000\\u001f\x7f\"", "Łódź \u2028": "\"Łódź \u2028\"", "a\xffb": `"a\ufffdb"`, "</x>": `"</x>"`} {
		assert.Equal(t, want, string(jsontext.AppendString([]byte("x"), s)[1:]), "%q", s)
	}
}

// A reader has the text again, byte for byte.
func TestStringsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "s")
		var back string
		require.NoError(t, json.Unmarshal(jsontext.AppendString(nil, s), &back))
		require.Equal(t, strings.ToValidUTF8(s, "\ufffd"), back)
	})
}
