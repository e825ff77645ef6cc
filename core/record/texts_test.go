package record

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Texts that are kept stay what they were, whatever is kept behind them.
func TestTextsStay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		texts := new(Texts)
		var want, got []string
		var room []byte
		for range rapid.IntRange(1, 60).Draw(t, "texts") {
			size := rapid.SampledFrom([]int{0, 1, 9, 200, pieceSize / 8, pieceSize/8 + 1}).Draw(t, "size")
			room = room[:0]
			for range size {
				room = append(room, byte('a'+len(want)%26))
			}
			want, got = append(want, string(room)), append(got, texts.Keep(room))
		}
		require.Equal(t, want, got)
		k := NewKey("a", "b")
		require.Equal(t, k, texts.Key(k))
		require.Equal(t, k, (*Texts)(nil).Key(k))
	})
}
