package compare

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Numbers that are read eight digits at once are what they are digit by digit.
func TestNumbersAreThoseReadDigitByDigit(t *testing.T) {
	check := func(t require.TestingT, cell []byte) {
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
	}
	for _, cell := range []string{"0", "-0", "7", "42", "-42", "00", "01", "0.5", "-0.25", ".5", "5.", "-.5", "1.2.3", "1..2", "12:4", ":", "1?", "1/2", "1e3", "+1", "1 ", "12345678", "1234567.8", "1.2345678",
		"123456789", "12345678:", "1234567890123456", "123456789012345/", "12345678901234.5", "12345678901234567", "123456789012345678", "1234567890123456789", "-", "--1", "1\xb0", "\xb11"} {
		check(t, []byte(cell))
	}
	letters := []byte("0123456789..-/: \x00\x2f\x3a\xb0\xae\xff")
	rapid.Check(t, func(t *rapid.T) {
		cell := rapid.SliceOfN(rapid.SampledFrom(letters), 1, 20).Draw(t, "cell")
		if rapid.IntRange(0, 3).Draw(t, "a number") > 0 {
			cell = rapid.SliceOfN(rapid.SampledFrom(letters[:10]), 1, 20).Draw(t, "digits")
			if at := rapid.IntRange(0, 2*len(cell)).Draw(t, "point"); at < len(cell) {
				cell[at] = '.'
			}
		}
		check(t, cell)
	})
}
