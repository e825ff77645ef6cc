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
// text, as known from another time where the bytes allow that and are not
// UTF-8 with letters beyond ASCII, or, where the first bytes are not UTF-8,
// Windows-1252. Names are those of the WHATWG Encoding Standard.
func toUTF8(name string, data []byte, given, known string) ([]byte, string, error) {
	head := data[:min(len(data), sniffed)]
	e, found := encoding.Encoding(nil), strings.ToLower(given)
	switch {
	case found == "utf-8" || found == "utf8":
		return data, "utf-8", nil
	case found != "":
		if e = named(found); e == nil {
			return nil, "", &table.Error{Code: table.NoEncoding, File: name, Text: fmt.Sprintf("%q is no encoding that is known", given)}
		}
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}), likeUTF16(head, 1):
		e, found = utf16le, "utf-16le"
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}), likeUTF16(head, 0):
		e, found = utf16be, "utf-16be"
	case known != "" && known != "utf-8" && !bytes.HasPrefix(head, mark):
		if e := named(known); e != nil && (ascii(data) || !utf8.Valid(data)) {
			if out, err := e.NewDecoder().Bytes(data); err == nil && !utf16Name(known) {
				return out, known, nil
			}
		}
		return toUTF8(name, data, "", "")
	case validStart(head, len(head) < len(data)), bytes.IndexByte(head, 0) >= 0, !like1252(head):
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

var mark = []byte("\ufeff")

// ascii reports whether a text says nothing about its encoding.
func ascii(data []byte) bool {
	for _, c := range data {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// utf16Name reports whether a text in an encoding would show it in every letter.
func utf16Name(name string) bool { return strings.HasPrefix(name, "utf-16") }

// A byte-order mark is decoded like any letter, so that Encode brings it back.
var (
	utf16le = unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	utf16be = unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
)

// named returns the encoding with a name, or nil.
func named(name string) encoding.Encoding {
	switch name {
	case "utf-16le", "utf-16":
		return utf16le
	case "utf-16be":
		return utf16be
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return nil
	}
	return e
}

// NewEncoder returns what turns UTF-8 into the encoding with a name. It fails
// on letters which that encoding lacks. Errors are *table.Error.
func NewEncoder(name string) (*encoding.Encoder, error) {
	e := named(strings.ToLower(name))
	if e == nil {
		return nil, &table.Error{Code: table.NoEncoding, File: "the encoding", Text: fmt.Sprintf("%q is none that is known", name)}
	}
	return e.NewEncoder(), nil
}

// Encoder turns UTF-8 into the encoding that a file was found to be in. It
// fails on letters which that encoding lacks. For UTF-8 it is nil.
func Encoder(f table.Found) *encoding.Encoder {
	if f.Encoding == "utf-8" {
		return nil
	}
	return named(f.Encoding).NewEncoder()
}

// validStart reports whether the first bytes of a file are UTF-8; where more
// follow, the last character may be cut.
func validStart(head []byte, more bool) bool {
	if !more {
		return utf8.Valid(head)
	}
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
