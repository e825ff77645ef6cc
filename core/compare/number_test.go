package compare

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Numbers that are read eight digits at once are what they are digit by digit.
func TestNumbersAreThoseReadDigitByDigit(t *testing.T) {
	letters := []byte("0123456789..-/: \x00\x2f\x3a\xb0\xae\xff")
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.SliceOfN(rapid.SampledFrom(letters), 1, 20).Draw(t, "cell")
		if rapid.IntRange(0, 3).Draw(t, "a number") > 0 {
			cell = rapid.SliceOfN(rapid.SampledFrom(letters[:10]), 1, 20).Draw(t, "digits")
			if at := rapid.IntRange(0, 2*len(cell)).Draw(t, "point"); at < len(cell) {
				cell[at] = '.'
			}
		}
		gotN, gotDecimals, got := number(cell)
		plain := bytes.TrimPrefix(cell, []byte("-"))
		if len(plain) == 0 || len(plain) > maxDigits || len(plain) > 1 && plain[0] == '0' && plain[1] != '.' {
			require.False(t, got, "%q", cell)
			return
		}
		n, decimals, ok := digitByDigit(plain)
		require.Equal(t, ok, got, "%q", cell)
		if ok {
			if len(plain) < len(cell) {
				n = -n
			}
			require.Equal(t, n, gotN, "%q", cell)
			require.Equal(t, decimals, gotDecimals, "%q", cell)
		}
	})
}
