// Package jsontext writes JSON texts, and reads JSON value after value.
package jsontext

import "unicode/utf8"

const hexDigits = "0123456789abcdef"

// AppendString appends s as a JSON string (RFC 8259) with as few escapes as
// that allows, so that the same text always has the same bytes.
func AppendString(dst []byte, s string) []byte {
	dst = append(dst, '"')
	from := 0
	for i := 0; i < len(s); {
		c := s[i]
		if c >= utf8.RuneSelf {
			r, w := utf8.DecodeRuneInString(s[i:])
			if r == utf8.RuneError && w == 1 {
				dst = append(append(dst, s[from:i]...), `\ufffd`...)
				from = i + 1
			}
			i += w
			continue
		}
		if c >= ' ' && c != '"' && c != '\\' {
			i++
			continue
		}
		dst = append(dst, s[from:i]...)
		switch c {
		case '"', '\\':
			dst = append(dst, '\\', c)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\r':
			dst = append(dst, '\\', 'r')
		case '\t':
			dst = append(dst, '\\', 't')
		default:
			dst = append(dst, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
		i++
		from = i
	}
	return append(append(dst, s[from:]...), '"')
}
