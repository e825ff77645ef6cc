package table

import (
	"encoding/json"
	"fmt"
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
	b, err := json.Marshal(l)
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
