package changeset

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"slices"
	"time"

	"paletwin/core/jsontext"
	"paletwin/core/record"
)

// Decision is what a person, or the tool with a hold, said about a change.
type Decision string

const (
	Open    Decision = "open"
	Approve Decision = "approve"
	Hold    Decision = "hold"
	Reject  Decision = "reject"
)

// Tool is who holds a change when the tool does.
const Tool = "paletwin"

// Digest is the start of the SHA-256 of what was decided upon.
type Digest [16]byte

func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// DigestOf returns the digest of a whole change: of its line, which holds
// act, key, from, to and held codes, without the names of copies.
func DigestOf(l Line) Digest { return digestOf(l.unnamed()) }

func digestOf(unnamed []byte) Digest {
	sum := sha256.Sum256(unnamed)
	return Digest(sum[:16])
}

// FieldDigest returns the digest of one field of an amend.
func FieldDigest(c *Change, f *FieldChange) Digest {
	b := append([]byte(nil), c.ID[:]...)
	b = appendCodes(b, "held", c.Held)
	b = appendCodes(b, "stop", c.Stop)
	sum := sha256.Sum256(appendField(b, f, false))
	return Digest(sum[:16])
}

// Pair is what one decision act touches: a whole change, or one field of it,
// with the digest of what it was then.
type Pair struct {
	ID     ID
	Field  string // "" for the whole change
	Digest Digest
}

// DecisionAct is one act of deciding: a line of decisions.jsonl.
type DecisionAct struct {
	RecordSet string
	Decision  Decision
	By        string
	// Via is who recorded it for the one who decided, as that person claims; ""
	// if it is the same.
	Via string
	// Account is the account that recorded it: the system's number for it, and the machine's id, as in
	// 1000@3f9c1b7d20aa4e55; "" in lines of before they were kept.
	Account string
	When    time.Time
	Note    string
	// ByField says that fields were named; such a decision outlives a later
	// one on the whole change.
	ByField bool
	// Held says that holds of the tool are decided, too.
	Held bool
	// Seen holds, for conflicts that are to be written over, what the target
	// had when the person decided, by change and field.
	Seen map[ID]record.Record
	// As holds, for values that could not be told, what a person gave instead,
	// by change and field.
	As map[ID]record.Record
	// Of is the copy whose side is approved where copies disagree; "" is none.
	Of string
	// How is the selection as it was asked for, for the history.
	How string
	On  []Pair
	// Dossier is the id of the dossier that it was decided in, hexadecimal; "" in lines of before it was kept.
	Dossier string
}

// Person is somebody who approved: a name, and the account that recorded it.
type Person struct {
	Name    string
	Account string // as an act has it; "" is not known, or another's, who recorded it
	Via     string // who recorded it for the one whose name it is; "" is that person
}

// Same reports whether two are one person: they have one name, or one account on one machine.
func (p Person) Same(q Person) bool {
	return p.Name == q.Name || p.Account != "" && p.Account == q.Account
}

// person is who decided. Where names may be claimed it is the one whose name was; elsewhere it is who recorded it, whatever name was said.
func (a *DecisionAct) person(claimed bool) Person {
	switch {
	case a.Via == "":
		return Person{Name: a.By, Account: a.Account}
	case claimed:
		return Person{Name: a.By, Via: a.Via}
	}
	return Person{Name: a.Via, Account: a.Account}
}

// Give notes values that are approved in the place of those of a change.
func (a *DecisionAct) Give(id ID, values record.Record) {
	if a.As == nil {
		a.As = map[ID]record.Record{}
	}
	r := a.As[id]
	for _, f := range values {
		r.Set(f.Name, f.Value)
	}
	a.As[id] = r
}

// AppendLine appends the act as a line whose chain goes back to previous,
// the Checksum of the line before it without its newline ("" for the first).
func (a *DecisionAct) AppendLine(dst []byte, previous string) []byte {
	dst = slices.Grow(dst, 400+58*len(a.On))
	dst = append(dst, `{"paletwin":"decision","version":`...)
	if a.Of == "" {
		dst = append(dst, '1')
	} else {
		dst = append(dst, '2') // chooses among copies
	}
	dst = append(dst, `,"record_set":`...)
	dst = jsontext.AppendString(dst, a.RecordSet)
	dst = append(dst, `,"decision":"`...)
	dst = append(dst, a.Decision...)
	dst = append(dst, `","by":`...)
	dst = jsontext.AppendString(dst, a.By)
	if a.Via != "" {
		dst = append(dst, `,"via":`...)
		dst = jsontext.AppendString(dst, a.Via)
	}
	if a.Account != "" {
		dst = append(dst, `,"account":`...)
		dst = jsontext.AppendString(dst, a.Account)
	}
	if a.Dossier != "" {
		dst = append(dst, `,"dossier":"`...)
		dst = append(dst, a.Dossier...)
		dst = append(dst, '"')
	}
	dst = append(dst, `,"when":"`...)
	dst = a.When.UTC().AppendFormat(dst, time.RFC3339Nano)
	dst = append(dst, `","note":`...)
	dst = jsontext.AppendString(dst, a.Note)
	dst = append(dst, `,"how":`...)
	dst = jsontext.AppendString(dst, a.How)
	if a.Of != "" {
		dst = append(dst, `,"of":`...)
		dst = jsontext.AppendString(dst, a.Of)
	}
	dst = fmt.Appendf(dst, `,"by_field":%t,"held":%t,"on":[`, a.ByField, a.Held)
	for i := range a.On {
		p := &a.On[i]
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, `["`...)
		dst = hex.AppendEncode(dst, p.ID[:])
		dst = append(dst, `","`...)
		dst = hex.AppendEncode(dst, p.Digest[:])
		dst = append(dst, '"')
		if p.Field != "" {
			dst = append(dst, ',')
			dst = jsontext.AppendString(dst, p.Field)
		}
		dst = append(dst, ']')
	}
	dst = append(dst, ']')
	dst = a.appendValues(dst, "seen", a.Seen)
	dst = a.appendValues(dst, "as", a.As)
	dst = append(dst, `,"previous":"`...)
	dst = append(dst, previous...)
	return append(dst, "\"}\n"...)
}

// appendValues appends values of the changes that the act is on.
func (a *DecisionAct) appendValues(dst []byte, name string, values map[ID]record.Record) []byte {
	if len(values) == 0 {
		return dst
	}
	dst = append(dst, `,"`...)
	dst = append(dst, name...)
	dst = append(dst, `":{`...)
	first := true
	for i := range a.On {
		r, ok := values[a.On[i].ID]
		if !ok || i > 0 && a.On[i-1].ID == a.On[i].ID {
			continue
		}
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = jsontext.AppendString(dst, a.On[i].ID.String())
		dst = append(dst, `:{`...)
		dst = append(AppendRecord(dst, r), '}')
	}
	return append(dst, '}')
}

// Checksum returns the SHA-256 of bytes as the files of a dossier have it of
// themselves and of lines: "sha256:" and hexadecimal.
func Checksum(b []byte) string {
	sum := sha256.New()
	_, _ = sum.Write(b) // a hash never fails
	return ChecksumOf(sum)
}

// ChecksumOf is Checksum of what was written to a SHA-256.
func ChecksumOf(sum hash.Hash) string { return "sha256:" + hex.EncodeToString(sum.Sum(nil)) }

// ErrChain says that a decision line was altered or taken out.
var ErrChain = errors.New("the decisions were altered: a line does not follow from the one before it")

// Ledger is the decisions on one record set's changes.
type Ledger struct {
	acts  []DecisionAct
	byID  map[ID]int // the last of its entries + 1
	all   []entry
	last  string
	whole int
}

// entry is one pair of an act, and where the one before it on the same change
// is, + 1.
type entry struct {
	act, pair, before int
}

// entries returns what was decided on a change, in order.
func (l *Ledger) entries(id ID) []entry {
	var found []entry
	for i := l.byID[id]; i > 0; i = l.all[i-1].before {
		found = append(found, l.all[i-1])
	}
	slices.Reverse(found)
	return found
}

// Has reports whether anything was decided on a change.
func (l *Ledger) Has(id ID) bool { return len(l.byID) > 0 && l.byID[id] > 0 }

// OpenLedger reads decisions.jsonl given as its bytes, of which it keeps none. A torn last line is
// passed over. Acts on other record sets are checked and left out. last is the Checksum of the last whole line
// where it is known, "" where it is not.
func OpenLedger(data []byte, recordSet, last string) (*Ledger, error) {
	l := &Ledger{byID: map[ID]int{}}
	var d Decoder
	for n := 1; ; n++ {
		line, rest, ok := bytes.Cut(data, []byte{'\n'})
		if !ok {
			return l, nil
		}
		a, previous, err := d.act(line)
		if err != nil {
			return nil, fmt.Errorf("decision line %d: %w", n, err)
		}
		if previous != l.last {
			return nil, fmt.Errorf("decision line %d: %w", n, ErrChain)
		}
		data = rest
		if a.RecordSet != recordSet {
			a.On = nil
		}
		sum := last
		if sum == "" || bytes.IndexByte(rest, '\n') >= 0 {
			sum = Checksum(line)
		}
		l.Take(a, len(line)+1, sum)
	}
}

// Take takes in an act that was written as a line: of so many bytes with its newline, and with that Checksum without it.
func (l *Ledger) Take(a *DecisionAct, size int, sum string) {
	l.last = sum
	l.whole += size
	l.add(a)
}

func (l *Ledger) add(a *DecisionAct) {
	l.acts = append(l.acts, *a)
	l.all = slices.Grow(l.all, len(a.On))
	for i := range a.On {
		id := a.On[i].ID
		l.all = append(l.all, entry{len(l.acts) - 1, i, l.byID[id]})
		l.byID[id] = len(l.all)
	}
}

// Last returns the Checksum of the last whole line, "" if there is none: what the next
// act's chain goes back to. Size is the length of all whole lines, newlines
// included: where the next act is to be written.
func (l *Ledger) Last() string { return l.last }
func (l *Ledger) Size() int    { return l.whole }

// Acts returns the acts in order.
func (l *Ledger) Acts() []DecisionAct { return l.acts }

// Seen returns what the target had when a person last decided to write over
// it, field by field, as far as that decision is on the change as it is.
func (l *Ledger) Seen(line Line, c *Change) record.Record {
	var all record.Record
	for _, e := range l.entries(c.ID) {
		a, p := &l.acts[e.act], &l.acts[e.act].On[e.pair]
		seen, ok := a.Seen[c.ID]
		switch f := c.Field(p.Field); {
		case !ok:
		case p.Field == "" && p.Digest == DigestOf(line):
			for _, x := range seen {
				all.Set(x.Name, x.Value)
			}
		case f != nil && p.Digest == FieldDigest(c, f):
			if v, has := seen.Get(p.Field); has {
				all.Set(p.Field, v)
			}
		}
	}
	return all
}

// State is what stands decided about one unit of a change: a field of an
// amend, or the whole of an add or delete.
type State struct {
	Field    string // "" for an add or delete
	Decision Decision
	By       string // who; Tool for a hold of the tool; "" while open
	When     time.Time
	Note     string
	Held     []string      // what the tool holds it for, the whole change's codes first
	Stop     []string      // why it cannot be approved
	Noted    []string      // what else was found, and holds nothing
	Lapsed   Decision      // what was decided on other content, or ""
	Given    *record.Value // what a person gave in the place of a value that could not be told
	Of       string        // the copy whose side was approved, of an add or delete, or of an amend against a delete
	byField  bool
}

// Wanted is the value that would be written of a field: the change's, or what a person gave
// instead.
func (s *State) Wanted(f *FieldChange) record.Value {
	if s.Given != nil {
		return *s.Given
	}
	return f.To
}

// ToolHeld reports whether the unit is held by the tool alone.
func (s *State) ToolHeld() bool { return s.Decision == Hold && s.By == Tool }

// Found reports whether anything was found about the unit.
func (s *State) Found() bool { return len(s.Held)+len(s.Stop)+len(s.Noted) > 0 }

// Seconds reports whether a decision is a second person's approval of the unit.
func (s *State) Seconds(d Decision, by string) bool {
	return d == Approve && s.Decision == Approve && s.By != by
}

// Barred reports whether the unit cannot be approved: it is stopped, and no
// value was given in the place of the one that stops it, nor a copy's side chosen.
func (s *State) Barred() bool { return len(s.Stop) > 0 && s.Given == nil && s.Of == "" }

// States returns the state of each unit of a change: one for each field of
// an amend in order, or one.
func (l *Ledger) States(line Line, c *Change) []State { return l.AppendStates(nil, line, c) }

// AppendStates appends what States returns to others.
func (l *Ledger) AppendStates(to []State, line Line, c *Change) []State {
	var whole Digest
	entries := l.entries(c.ID)
	if len(entries) > 0 {
		whole = DigestOf(line)
	}
	if c.Act != Amend {
		s := newState("", c.Held, c.Stop, c.Noted)
		for _, e := range entries {
			a, p := &l.acts[e.act], &l.acts[e.act].On[e.pair]
			if p.Field == "" {
				s.apply(a, p.Digest == whole, nil, a.chosen(c, nil))
			}
		}
		return append(to, s)
	}
	to = slices.Grow(to, len(c.Fields))
	for i := range c.Fields {
		f := &c.Fields[i]
		s := newState(f.Field, append(c.Held[:len(c.Held):len(c.Held)], f.Held...), append(c.Stop[:len(c.Stop):len(c.Stop)], f.Stop...), append(c.Noted[:len(c.Noted):len(c.Noted)], f.Noted...))
		for _, e := range entries {
			a, p := &l.acts[e.act], &l.acts[e.act].On[e.pair]
			switch {
			case p.Field == f.Field:
				s.apply(a, p.Digest == FieldDigest(c, f), a.given(c, f.Field), a.chosen(c, f))
			case p.Field == "" && !s.byField && (!s.ToolHeld() || a.Held):
				s.apply(a, p.Digest == whole, nil, "")
			}
		}
		to = append(to, s)
	}
	return to
}

func newState(field string, held, stop, noted []string) State {
	s := State{Field: field, Decision: Open, Held: held, Stop: stop, Noted: noted}
	if len(held) > 0 || len(stop) > 0 {
		s.Decision, s.By = Hold, Tool
	}
	return s
}

// apply takes one decision in. One on other content leaves what stood
// before the person decided, and is remembered as lapsed.
func (s *State) apply(a *DecisionAct, same bool, given *record.Value, of string) {
	if !same || a.Decision == Approve && len(s.Stop) > 0 && given == nil && of == "" {
		lapsed := a.Decision
		*s = newState(s.Field, s.Held, s.Stop, s.Noted)
		s.Lapsed = lapsed
		return
	}
	if a.Decision == Open { // withdrawn
		*s = newState(s.Field, s.Held, s.Stop, s.Noted)
		return
	}
	s.Decision, s.By, s.When, s.Note, s.Lapsed = a.Decision, a.By, a.When, a.Note, ""
	s.byField = s.byField || a.ByField
	s.Given, s.Of = given, of
}

// given returns what the act gave for a field, unless the change as a whole
// is stopped.
func (a *DecisionAct) given(c *Change, field string) *record.Value {
	if v, ok := a.As[c.ID].Get(field); ok && (len(c.Stop) == 0 || a.Of != "" && len(agreed(c.Stop)) == 0) {
		return &v
	}
	return nil
}

// chosen is the copy whose side the act approves, of a field of a change or, nil, of the whole;
// "" if it chooses none, or one that is stopped for something else.
func (a *DecisionAct) chosen(c *Change, f *FieldChange) string {
	if a.Of == "" {
		return ""
	}
	var stop []string
	ok := false
	if f == nil {
		_, stop, ok = c.OfCopy(a.Of)
	} else {
		_, stop, ok = f.OfCopy(a.Of)
		stop = append(stop, agreed(c.Stop)...)
	}
	if !ok || len(stop) > 0 {
		return ""
	}
	return a.Of
}

// Approvers are the people who approved a unit as it is, each once, in order:
// a later decision of another kind, or for another value, starts anew. field
// is "" for an add or delete. claimed says that names may be claimed; without it somebody is one account.
func (l *Ledger) Approvers(line Line, c *Change, field string, claimed bool) []Person {
	var who []Person
	var given *record.Value
	of := ""
	for _, e := range l.entries(c.ID) {
		a, p := &l.acts[e.act], &l.acts[e.act].On[e.pair]
		if p.Field != "" && p.Field != field {
			continue
		}
		same := p.Field == "" && p.Digest == DigestOf(line)
		if p.Field != "" {
			f := c.Field(field)
			same = f != nil && p.Digest == FieldDigest(c, f)
		}
		as := a.given(c, field)
		if (as == nil) != (given == nil) || as != nil && *as != *given || c.Act != Amend && a.Of != of {
			who = nil
		}
		given, of = as, a.Of
		switch {
		case !same || a.Decision != Approve:
			who = nil
		case !slices.ContainsFunc(who, a.person(claimed).Same):
			who = append(who, a.person(claimed))
		}
	}
	return who
}
