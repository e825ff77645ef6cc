package csv

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"

	"paletwin/core/table"
)

// toUTF8 returns the bytes as UTF-8 and the name of what they were in: as
// given, by a byte-order mark, by the NUL bytes that UTF-16 has in every
// text, or, where the first bytes are not UTF-8, Windows-1252. Names are
// those of the WHATWG Encoding Standard.
func toUTF8(name string, data []byte, given string) ([]byte, string, error) {
	head := data[:min(len(data), sniffed)]
	e, found := encoding.Encoding(nil), strings.ToLower(given)
	switch {
	case found == "utf-8" || found == "utf8":
		return data, "utf-8", nil
	case found != "":
		var err error
		if e, err = htmlindex.Get(found); err != nil {
			return nil, "", &table.Error{Code: table.NoEncoding, File: name, Text: fmt.Sprintf("%q is no encoding that is known", given)}
		}
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}), likeUTF16(head, 1):
		e, found = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), "utf-16le"
		if head[0] != 0xff {
			e = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
		}
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}), likeUTF16(head, 0):
		e, found = unicode.UTF16(unicode.BigEndian, unicode.UseBOM), "utf-16be"
		if head[0] != 0xfe {
			e = unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
		}
	case validStart(head), bytes.IndexByte(head, 0) >= 0, !like1252(head):
		return data, "utf-8", nil
	default:
		e, found = charmap.Windows1252, "windows-1252"
	}
	out, err := e.NewDecoder().Bytes(data)
	if err != nil {
		return nil, "", &table.Error{Code: table.NotUTF8, File: name, Text: "the file cannot be read as " + found}
	}
	return out, found, nil
}

// validStart reports whether the first bytes of a file are UTF-8; the last
// character may be cut.
func validStart(head []byte) bool {
	for cut := 0; cut < utf8.UTFMax && cut <= len(head); cut++ {
		if utf8.Valid(head[:len(head)-cut]) {
			return true
		}
	}
	return false
}

// likeUTF16 reports whether nearly every second byte is NUL, those at odd
// places for little-endian text and at even ones for big-endian.
func likeUTF16(head []byte, place int) bool {
	if len(head) < 8 {
		return false
	}
	zeros, others := 0, 0
	for i, c := range head {
		if c == 0 {
			if i%2 == place {
				zeros++
			} else {
				others++
			}
		}
	}
	return zeros*10 > len(head)*3 && others*50 < len(head)
}

// like1252 reports whether bytes could be Windows-1252 text: none of the five
// that it leaves undefined, and no control characters.
func like1252(head []byte) bool {
	return !bytes.ContainsAny(head, "\x00\x01\x02\x03\x04\x05\x06\x07\x08") &&
		bytes.IndexByte(head, 0x81) < 0 && bytes.IndexByte(head, 0x8d) < 0 && bytes.IndexByte(head, 0x8f) < 0 &&
		bytes.IndexByte(head, 0x90) < 0 && bytes.IndexByte(head, 0x9d) < 0
}
