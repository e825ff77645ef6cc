package desk

import (
	"context"
	"encoding/hex"
	"fmt"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Contents is a dossier's change set as it is reviewed: every change with what
// stands decided about it. Close lets its files go.
type Contents struct {
	Dossier  *Dossier
	Header   changeset.Header
	Changes  []*DecidedChange
	Findings []changeset.Finding

	changes *Changes
	rows    *snapshotRows
}

// DecidedChange is a change and what stands decided about its units: the fields of
// an amend, or the change as a whole.
type DecidedChange struct {
	*changeset.Change
	States []changeset.State
	Line   changeset.Line
}

// Contents opens what is to be reviewed.
func (t *Dossier) Contents() (*Contents, error) {
	c, err := t.Changes()
	if err != nil {
		return nil, err
	}
	m := &Contents{Dossier: t, Header: c.Header, changes: c}
	if m.Findings, err = t.Findings(); err == nil {
		m.Changes, err = c.standings()
	}
	if err != nil {
		_ = c.Close() // the first error counts
		return nil, err
	}
	return m, nil
}

// standings decodes all changes, on all cores.
func (c *Changes) standings() ([]*DecidedChange, error) {
	parts := c.Parts(runtime.GOMAXPROCS(0) * 4)
	lists := make([][]*DecidedChange, len(parts))
	var g errgroup.Group
	for i, lines := range parts {
		g.Go(func() error {
			for line := range lines.All() {
				ch, err := line.Change(c.Header.Fields)
				if err != nil {
					return err
				}
				lists[i] = append(lists[i], &DecidedChange{ch, c.Ledger.States(line, ch), line})
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	var all []*DecidedChange
	for _, l := range lists {
		all = append(all, l...)
	}
	return all, nil
}

// Refresh reads the decisions again, which others may have made, and reports
// whether there are more.
func (m *Contents) Refresh() (bool, error) {
	ledger, err := m.Dossier.ledger()
	if err != nil || ledger.Size() == m.changes.Ledger.Size() {
		return false, err
	}
	m.changes.Ledger = ledger
	for _, s := range m.Changes {
		if ledger.Has(s.ID) {
			s.States = ledger.States(s.Line, s.Change)
		}
	}
	return true, nil
}

// Close lets the files go.
func (m *Contents) Close() error {
	if m.rows != nil {
		_ = m.rows.table.Close() // only read
	}
	return m.changes.Close()
}

// Prefill is the decision that a file for others is filled with: a person's,
// but for an approval that somebody else has to make anew, so that a file that
// comes back as it went out says nothing about it.
func (m *Contents) Prefill(s *changeset.State) changeset.Decision {
	if s.ToolHeld() || s.Decision == changeset.Open || s.Decision == changeset.Approve && m.Dossier.WantsSecond() {
		return ""
	}
	return s.Decision
}

// Stands reports whether a decision says what stands already, and adds nobody
// to those who approved.
func (m *Contents) Stands(s *changeset.State, d changeset.Decision, note, by string) bool {
	return s.Decision == d && !s.ToolHeld() && s.Note == note && !(m.Dossier.WantsSecond() && s.Seconds(d, by))
}

// Set is the start of the change set's seal, which tells it from others.
func (m *Contents) Set() string {
	_, sum, _ := strings.Cut(m.changes.Seal.Seal, ":")
	return "s" + sum[:12]
}

// Ref names a unit of a change, its content included, in letters that no
// program takes for a number or a date: the change's id, the number of the
// field, which dossier it is in (the start of its id) and how often that was
// compared anew, and 64 bits of the content's digest.
func (m *Contents) Ref(s *DecidedChange, unit int) string {
	field, d := m.content(s, unit)
	return fmt.Sprintf("c%s-%s-%s-r%d-%s", s.ID, field, m.Dossier.tag(), m.Dossier.Meta.Round, hex.EncodeToString(d[:8]))
}

// content is which field a unit is, and the digest of what it says.
func (m *Contents) content(s *DecidedChange, unit int) (field string, d changeset.Digest) {
	if s.Act != changeset.Amend {
		return "w", changeset.DigestOf(s.Line)
	}
	f := &s.Fields[unit]
	return strconv.Itoa(m.fieldNumber(f.Field)), changeset.FieldDigest(s.Change, f)
}

// tag is a dossier in refs.
func (t *Dossier) tag() string {
	if t.Meta.ID == "" {
		return "d0"
	}
	return "d" + t.Meta.ID[:8]
}

// Unit is the unit of a change that a ref names as it is now, whichever round it comes from, or -1.
func (m *Contents) Unit(s *DecidedChange, r *Ref) int {
	for u := range s.States {
		field, d := m.content(s, u)
		if field == r.Field && strings.HasPrefix(hex.EncodeToString(d[:]), r.Sum) {
			return u
		}
	}
	return -1
}

// Foreign reports whether a ref is of another dossier. Refs of before they had one were of dossiers without ids.
func (m *Contents) Foreign(r *Ref) bool {
	return r.Dossier != m.Dossier.tag() && !(r.Old() && m.Dossier.Meta.ID == "")
}

func (m *Contents) fieldNumber(name string) int {
	for i, f := range m.Header.Fields {
		if f == name {
			return i
		}
	}
	return -1
}

// Ref is what a Ref says.
type Ref struct {
	ID      changeset.ID
	Field   string // the number of the heading's, or "w" for the whole
	Dossier string // which, or ""
	Round   string
	Sum     string // the start of the content's digest
}

// Old reports whether a ref is in the form of before it said which dossier it is of.
func (r *Ref) Old() bool { return r.Dossier == "" }

// The forms of refs: as they are, and as they were before version 5 of dossiers.
var (
	refForm    = regexp.MustCompile(`^c([0-9a-f]{16})-(w|0|[1-9][0-9]{0,8})-(d0|d[0-9a-f]{8})-r(0|[1-9][0-9]{0,8})-([0-9a-f]{16})$`)
	oldRefForm = regexp.MustCompile(`^c([0-9a-f]{16})-(w|0|[1-9][0-9]{0,8})()()-([0-9a-f]{8})$`)
)

// ParseRef reads a Ref, however its letters are written.
func ParseRef(text string) (r Ref, ok bool) {
	text = strings.ToLower(strings.TrimSpace(text))
	parts := refForm.FindStringSubmatch(text)
	if parts == nil {
		parts = oldRefForm.FindStringSubmatch(text)
	}
	if parts == nil {
		return r, false
	}
	id, err := changeset.ParseID(parts[1])
	return Ref{id, parts[2], parts[3], parts[4], parts[5]}, err == nil
}

// snapshotRows finds records of the snapshot by key without reading it again.
type snapshotRows struct {
	table *Table
	at    map[string][]byte
}

// Before is what the snapshot has of a change's record; nil for an add.
func (m *Contents) Before(s *DecidedChange) (record.Record, error) {
	switch s.Act {
	case changeset.Add:
		return nil, nil
	case changeset.Delete:
		return s.Record, nil
	}
	if m.rows == nil {
		if err := m.openRows(); err != nil {
			return nil, err
		}
	}
	var r record.Record
	err := table.Guard(func() error {
		cells := csv.Split(nil, m.rows.at[s.Key.Encoding()], m.rows.table.Comma)
		for i, name := range m.rows.table.Heading {
			if i < len(cells) {
				if v, there := csv.Value(m.rows.table.Image, cells[i]); there {
					r = append(r, record.Field{Name: name, Value: v})
				}
			}
		}
		return nil
	})
	return r, err
}

// openRows walks over the snapshot once and notes where the amended records
// are.
func (m *Contents) openRows() error {
	snapshot, err := m.Dossier.OpenInput(m.Dossier.Meta.Snapshot)
	if err != nil {
		return err
	}
	m.rows = &snapshotRows{snapshot, map[string][]byte{}}
	for _, s := range m.Changes {
		if s.Act == changeset.Amend {
			m.rows.at[s.Key.Encoding()] = nil
		}
	}
	cols, err := csv.KeyColumns(snapshot.Image, m.Header.Key)
	if err != nil {
		return err
	}
	var enc []byte
	return csv.Each(context.Background(), snapshot.Image, func(r *csv.Line) error {
		enc = r.AppendKey(enc[:0], cols)
		if raw, wanted := m.rows.at[string(enc)]; wanted && raw == nil {
			m.rows.at[string(enc)] = r.Raw()
		}
		return nil
	})
}

// Whole is a record in one cell, its key and what is empty left out. What could be taken for another field's beginning stands in quotes.
func (m *Contents) Whole(r record.Record) string {
	var words []string
	for _, f := range r {
		if !f.Value.Blank() && !slices.Contains(m.Header.Key, f.Name) {
			words = append(words, quoteIn(f.Name, ":;")+": "+quoteIn(f.Value.String(), ";"))
		}
	}
	return strings.Join(words, "; ")
}

// quoteIn puts a text in quotes where it has signs that mean something around it.
func quoteIn(text, signs string) string {
	if strings.ContainsAny(text, signs+"\"\r\n\v\f\u0085\u2028\u2029") || text != strings.TrimSpace(text) {
		return `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
	}
	return text
}

// About is a few values of a record that are not its key, to know it by.
func (m *Contents) About(r record.Record, most int) []string {
	var words []string
	for _, f := range r {
		if len(words) == most {
			break
		}
		isKey := false
		for _, k := range m.Header.Key {
			isKey = isKey || k == f.Name
		}
		if !isKey && !f.Value.Blank() {
			words = append(words, f.Value.String())
		}
	}
	return words
}

// Where compiles a selection of the changes by an expression.
func (m *Contents) Where(source string) (changeset.Where, error) {
	return m.Dossier.Where(source, m.changes)
}
