package record

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestKeysAreTheirParts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.SliceOfN(rapid.String(), 1, 4).Draw(t, "a")
		b := rapid.SliceOfN(rapid.String(), 1, 4).Draw(t, "b")
		assert.Equal(t, a, NewKey(a...).Parts())
		assert.Equal(t, assert.ObjectsAreEqual(a, b), NewKey(a...) == NewKey(b...))
	})
}

func TestBlank(t *testing.T) {
	assert.True(t, Key{}.Blank())
	assert.True(t, NewKey("00417", "").Blank())
	assert.False(t, NewKey("00417", " ").Blank())
	assert.True(t, Null().Blank() && Text("").Blank())
	assert.NotEqual(t, Null(), Text(""))
}
