package table

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
)

// Lent is what a copy that was lent says of itself: from which snapshot it
// was made, and what of it was taken.
type Lent struct {
	Version  int      `json:"version"`
	Snapshot string   `json:"snapshot"` // the snapshot's SHA-256, hexadecimal
	Name     string   `json:"name"`     // what the snapshot was called
	Key      []string `json:"key"`
	Fields   []string `json:"fields"`
	Locked   []string `json:"locked"`  // of these, those whose cells are locked
	Of       int      `json:"of"`      // how many fields the snapshot has
	Records  int      `json:"records"` // how many records were lent
	All      int      `json:"all"`     // how many the snapshot has
	// Rows says which they are, where they are not all: a bit for each of the
	// snapshot's, from its lowest on, deflated, in base64. It may be "".
	Rows   string   `json:"rows,omitempty"`
	Beside []string `json:"beside,omitempty"` // columns that are there to be read only
}

// Bits is a set of numbers from 0 on.
type Bits []byte

// Add adds a number.
func (b *Bits) Add(i int) {
	for len(*b) <= i/8 {
		*b = append(*b, 0)
	}
	(*b)[i/8] |= 1 << (i % 8)
}

// Has reports whether a number is in the set.
func (b Bits) Has(i int) bool { return i/8 < len(b) && b[i/8]&(1<<(i%8)) != 0 }

// SetRows notes which of the snapshot's records were lent.
func (l *Lent) SetRows(b Bits) {
	if l.Records >= l.All {
		return
	}
	var out bytes.Buffer
	w, _ := flate.NewWriter(&out, flate.BestCompression) // the level is one
	_, _ = w.Write(b)                                    // into memory
	_ = w.Close()
	l.Rows = base64.StdEncoding.EncodeToString(out.Bytes())
}

// Lends returns which of the snapshot's records were lent, and whether that is
// known.
func (l *Lent) Lends() (b Bits, known bool) {
	if l.Records >= l.All {
		for i := range l.All {
			b.Add(i)
		}
		return b, true
	}
	packed, err := base64.StdEncoding.DecodeString(l.Rows)
	if err != nil || l.Rows == "" {
		return nil, false
	}
	b, err = io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), int64(l.All/8+2)))
	return b, err == nil
}

// lean is what fits into a document's properties.
func (l *Lent) lean() *Lent {
	const most = 16 << 10 // of a document's properties; spreadsheet programs take hundreds, not thousands
	if len(l.Rows) <= most {
		return l
	}
	lean := *l
	lean.Rows = ""
	return &lean
}

// Narrow reports whether less than the whole snapshot was lent.
func (l *Lent) Narrow() bool { return len(l.Fields) < l.Of || l.Records < l.All }

// LentProperty starts the names of the document properties that hold a Lent.
const LentProperty = "paletwin.lent."

// propertySize is the most runes of one property: spreadsheet programs cut
// longer ones off.
const propertySize = 200

// Properties returns the Lent as document properties, by name, in order: its
// JSON in pieces.
func (l *Lent) Properties() [][2]string {
	b, err := json.Marshal(l.lean())
	if err != nil {
		return nil // not reached: the fields are plain
	}
	var all [][2]string
	for text := []rune(string(b)); len(text) > 0; {
		n := min(len(text), propertySize)
		all = append(all, [2]string{fmt.Sprintf("%s%d", LentProperty, len(all)+1), string(text[:n])})
		text = text[n:]
	}
	return all
}

// ParseLent reads a Lent from a document's properties; nil if they hold none.
func ParseLent(properties map[string]string) *Lent {
	text := ""
	for i := 1; ; i++ {
		part, ok := properties[fmt.Sprintf("%s%d", LentProperty, i)]
		if !ok {
			break
		}
		text += part
	}
	l := new(Lent)
	if text == "" || json.Unmarshal([]byte(text), l) != nil || l.Version != 1 {
		return nil
	}
	return l
}
