package changeset

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"paletwin/core/forms"
	"paletwin/core/record"
)

// Act is what a change does to its record.
type Act uint8

const (
	Amend  Act = iota + 1 // fields of a record get other values
	Add                   // a record comes
	Delete                // a record goes
)

var actWords = [...]string{Amend: "amend", Add: "add", Delete: "delete"}

func (a Act) String() string {
	if a >= Amend && a <= Delete {
		return actWords[a]
	}
	return fmt.Sprintf("Act(%d)", uint8(a))
}

// ParseAct returns the act with the given word.
func ParseAct(s string) (Act, error) {
	if i := slices.Index(actWords[:], s); i > 0 {
		return Act(i), nil
	}
	return 0, fmt.Errorf("%q is no act; the acts are amend, add and delete", s)
}

func (a Act) MarshalText() ([]byte, error) { return []byte(a.String()), nil }

func (a *Act) UnmarshalText(b []byte) (err error) {
	*a, err = ParseAct(string(b))
	return err
}

// Inverse returns the act that undoes a.
func (a Act) Inverse() Act {
	switch a {
	case Add:
		return Delete
	case Delete:
		return Add
	}
	return a
}

// ID names a change within its record set. It depends on the record set,
// the key and the act alone, so the same change has the same ID in every
// comparison.
type ID [8]byte

// MakeID returns the first 8 bytes of the SHA-256 of the record set's name,
// the key's parts and the act's word, each with its length before it.
func MakeID(recordSet string, key record.Key, act Act) ID {
	b := make([]byte, 0, 128)
	b = record.AppendPart(b, recordSet)
	b = append(b, key.Encoding()...)
	b = record.AppendPart(b, act.String())
	sum := sha256.Sum256(b)
	return ID(sum[:8])
}

// String returns the 16 hex digits of id.
func (id ID) String() string { return hex.EncodeToString(id[:]) }

// ParseID reads 16 hex digits.
func ParseID(s string) (id ID, err error) {
	if len(s) != 16 {
		return id, fmt.Errorf("%q is no change id: 16 hex digits are needed", s)
	}
	if _, err = hex.Decode(id[:], []byte(s)); err != nil {
		return id, fmt.Errorf("%q is no change id: 16 hex digits are needed", s)
	}
	return id, nil
}

func (id ID) less(o ID) bool {
	return binary.BigEndian.Uint64(id[:]) < binary.BigEndian.Uint64(o[:])
}

// Change is one difference: an amend with its field changes, an add or a
// delete with its record.
type Change struct {
	ID     ID
	Act    Act
	Key    record.Key
	Held   []string      // codes of findings that hold the whole change
	Stop   []string      // codes of findings that forbid approving it
	Noted  []string      // codes of findings on the whole change that hold nothing
	Linked string        // changes with the same link are decided and written together
	Was    record.Key    // of a key change: the key that the record under Key had before; else without parts
	Fields []FieldChange // of an amend, in the order of the header's fields
	Record record.Record // of an add or a delete
	Copies *Copies       // of an add or a delete, and of an amend against a delete; nil where one copy was compared
}

// Edit is a field of a record, and what it is to have for what it has.
type Edit struct {
	Field string
	From  record.Value
	To    record.Value
	// Fields of one record with the same link are decided and written together.
	Linked string
}

// Edits are what fields of an amend are to have.
func Edits(fields []FieldChange) []Edit {
	all := make([]Edit, len(fields))
	for i := range fields {
		all[i] = fields[i].Edit
	}
	return all
}

// FieldChange is one field of an amend.
type FieldChange struct {
	Edit
	Held   []string // codes of findings that hold this field alone
	Stop   []string
	Noted  []string // codes that hold nothing
	Copies *Copies  // nil where one copy was compared
}

// Field returns the change of the named field, or nil.
func (c *Change) Field(name string) *FieldChange {
	for i := range c.Fields {
		if c.Fields[i].Field == name {
			return &c.Fields[i]
		}
	}
	return nil
}

// Inverse returns the change that undoes f, with what it is linked. Holds are left
// behind: the inverse is judged anew.
func (f *Edit) Inverse() Edit {
	return Edit{Field: f.Field, From: f.To, To: f.From, Linked: f.Linked}
}

// Source says which file a state came from.
type Source struct {
	Name    string `json:"name"`
	SHA256  string `json:"sha256,omitempty"`
	At      string `json:"at,omitempty"` // of a table that was compared where it is: when, in RFC 3339; there is no digest then
	Records int    `json:"records"`
}

// Header is the first line of a change set.
type Header struct {
	RecordSet string
	Key       []string
	Fields    []string
	Snapshot  Source
	Edited    []Source // the copies, by their digests
	Options   any      // what the comparison was told, as a JSON object
}

// Counts is what a change set holds, held changes included.
type Counts struct {
	Amend        int `json:"amend"`
	Add          int `json:"add"`
	Delete       int `json:"delete"`
	FieldChanges int `json:"field_changes"`
}

// Changes returns the number of changes.
func (n Counts) Changes() int { return n.Amend + n.Add + n.Delete }

// Count adds c.
func (n *Counts) Count(c *Change) {
	switch c.Act {
	case Amend:
		n.Amend++
		n.FieldChanges += len(c.Fields)
	case Add:
		n.Add++
	case Delete:
		n.Delete++
	}
}

// Seal is the last line of a change set.
type Seal struct {
	Seal string `json:"seal"` // "sha256:" and 64 hex digits
	Counts
}

// header is Header's JSON form.
type header struct {
	Form      string   `json:"paletwin"`
	Version   int      `json:"version"`
	RecordSet string   `json:"record_set"`
	Key       []string `json:"key"`
	Fields    []string `json:"fields"`
	Snapshot  Source   `json:"snapshot"`
	Edited    sources  `json:"edited"`
	Options   any      `json:"options"`
}

// sources are a list of them; version 1 has the one that there was without its brackets.
type sources []Source

func (s *sources) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] == '{' {
		*s = make(sources, 1)
		return json.Unmarshal(b, &(*s)[0])
	}
	return json.Unmarshal(b, (*[]Source)(s))
}

func (h Header) marshal() ([]byte, error) {
	opts := h.Options
	if opts == nil {
		opts = map[string]any{}
	}
	return json.Marshal(header{forms.ChangeSet.Name, forms.ChangeSet.Version, h.RecordSet, h.Key, h.Fields, h.Snapshot, h.Edited, opts})
}
