package desk

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/zeebo/xxh3"
	"pgregory.net/rapid"
)

// Only a file of keys that is whole, and of this change set, is taken; one
// byte less or another byte anywhere is noticed.
func TestKeysTellEveryAlteration(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		seal := rapid.SliceOfN(rapid.Byte(), 32, 32).Draw(rt, "seal")
		b := append([]byte(keysMagic), seal...)
		b = append(b, rapid.SliceOfN(rapid.Byte(), 0, 10*keysEntry).Draw(rt, "entries")...)
		b = b[:keysHead+(len(b)-keysHead)/keysEntry*keysEntry]
		whole := binary.BigEndian.AppendUint64(b, xxh3.Hash(b))
		k, ok := parseKeys(whole, seal)
		assert.True(rt, ok)
		assert.Equal(rt, len(b)-keysHead, len(k))

		cut := rapid.IntRange(0, len(whole)-1).Draw(rt, "cut")
		_, ok = parseKeys(whole[:cut], seal)
		assert.False(rt, ok, "cut at %d", cut)
		altered := append([]byte(nil), whole...)
		altered[rapid.IntRange(0, len(whole)-1).Draw(rt, "at")] ^= byte(rapid.IntRange(1, 255).Draw(rt, "bits"))
		_, ok = parseKeys(altered, seal)
		assert.False(rt, ok, "altered")
		other := append([]byte(nil), seal...)
		other[0] ^= 1
		_, ok = parseKeys(whole, other)
		assert.False(rt, ok, "of another change set")
	})
}
