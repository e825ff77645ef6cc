package changeset

import (
	"fmt"
	"slices"

	"paletwin/core/record"
)

// A Filter selects changes, and units of them. Its zero value selects all.
type Filter struct {
	Acts      []Act
	Fields    []string   // of amends; an add or delete has none of them
	Decisions []Decision // of units
	Findings  []string   // codes that hold or stop the unit, or are noted of it
	Keys      []string   // records, as Key.Encoding gives them, of One's keys where it is not nil
	// One, if not nil, gives the key that all forms of a record's key share.
	One   func(record.Key) record.Key
	Where Where // or nil
}

// Where selects changes by what their records hold. It is asked by several
// goroutines.
type Where interface {
	Holds(c *Change) bool
	// Err returns why Holds could not be told for a change, if so.
	Err() error
}

// Change reports whether the filter can select anything of c.
func (f *Filter) Change(c *Change) bool {
	if len(f.Acts) > 0 && !slices.Contains(f.Acts, c.Act) {
		return false
	}
	if len(f.Keys) > 0 && !slices.Contains(f.Keys, f.one(c.Key).Encoding()) {
		return false
	}
	if len(f.Fields) > 0 && !slices.ContainsFunc(c.Fields, func(fc FieldChange) bool { return slices.Contains(f.Fields, fc.Field) }) {
		return false
	}
	return f.Where == nil || f.Where.Holds(c)
}

func (f *Filter) one(k record.Key) record.Key {
	if f.One == nil {
		return k
	}
	return f.One(k)
}

// Unit reports whether the filter selects a unit of a change that Change
// has let through.
func (f *Filter) Unit(s *State) bool {
	if len(f.Fields) > 0 && !slices.Contains(f.Fields, s.Field) {
		return false
	}
	if len(f.Decisions) > 0 && !slices.Contains(f.Decisions, s.Decision) {
		return false
	}
	return len(f.Findings) == 0 || slices.ContainsFunc(f.Findings, func(code string) bool {
		return slices.Contains(s.Held, code) || slices.Contains(s.Stop, code) || slices.Contains(s.Noted, code)
	})
}

// A Ruling is a decision about to be made on a group of changes or on named
// ones.
type Ruling struct {
	Decision Decision
	Filter   Filter
	Held     bool   // touch what the tool holds, too
	Named    bool   // the changes were named one by one: decide them again, too
	Given    bool   // a value was given in the place of one that could not be told
	By       string // who decides
	Second   bool   // what somebody else approved is approved once more
	// Seen, if not nil, restricts the ruling to what a person saw in the
	// target, by change and field, and decides that again.
	Seen map[ID]record.Record
}

// sees reports whether a unit is among those that were seen in the target.
func (r *Ruling) sees(c *Change, s *State) bool {
	seen, ok := r.Seen[c.ID]
	if _, has := seen.Get(s.Field); c.Act == Amend {
		return has
	}
	return ok
}

// Touched counts what a ruling touched.
type Touched struct {
	Units, Changes, Deletes int
	Passed                  int // units that are held by the tool, passed over for want of Held
	Stopped                 int // units that cannot be approved
	// Along are those that were not asked for, and are decided because others
	// are that they are linked with; only so many are kept of them.
	Along []Along
	Over  []Pair // of conflicts that are to be written over: which
}

// Along names a unit that another one takes along.
type Along struct {
	Key   record.Key
	Act   Act
	Field string // "" for an add or delete, and a whole amend
}

// Pairs appends to dst what the ruling touches of one change, and counts it.
func (r *Ruling) Pairs(dst []Pair, n *Touched, line Line, c *Change, states []State) []Pair {
	if !r.Filter.Change(c) {
		return dst
	}
	var touched []int
	for i := range states {
		s := &states[i]
		if !r.Filter.Unit(s) || r.Seen != nil && !r.sees(c, s) {
			continue
		}
		switch {
		case r.Decision == Approve && len(s.Stop) > 0 && !(r.Given && len(c.Stop) == 0):
			if s.ToolHeld() || r.Named { // of others a person said already that they stay
				n.Stopped++
			}
		case r.Given, r.Seen != nil && s.Decision == Approve:
			touched = append(touched, i)
		case r.Second && r.Decision == Approve && s.Decision == Approve && s.By != r.By:
			touched = append(touched, i)
		case r.Decision == Open && s.Decision == Open || r.Decision == Open && s.ToolHeld(): // nothing to withdraw
		case s.Decision == Open, r.touchesHeld(c, s), r.Named && !s.ToolHeld() && (!s.byField || len(r.Filter.Fields) > 0):
			touched = append(touched, i)
		case s.ToolHeld():
			n.Passed++
		}
	}
	touched = r.together(touched, n, c, states)
	if len(touched) == 0 {
		return dst
	}
	n.Changes++
	n.Units += len(touched)
	if c.Act == Delete {
		n.Deletes++
	}
	if len(r.Filter.Fields) == 0 && r.Seen == nil && len(touched) == len(states) || c.Act != Amend {
		return append(dst, Pair{ID: c.ID, Digest: DigestOf(line)})
	}
	for _, i := range touched {
		dst = append(dst, Pair{c.ID, c.Fields[i].Field, FieldDigest(c, &c.Fields[i])})
	}
	return dst
}

// together adds to the touched units of a change those that are linked with
// them, and takes out those of which a linked one cannot be approved. A value
// that is given is taken whatever the others are, since they may get theirs
// next; until then the group waits.
func (r *Ruling) together(touched []int, n *Touched, c *Change, states []State) []int {
	if c.Act != Amend || !slices.ContainsFunc(touched, func(i int) bool { return c.Fields[i].Linked != "" }) {
		return touched
	}
	barred := map[string]bool{}
	for i := range states {
		barred[c.Fields[i].Linked] = barred[c.Fields[i].Linked] || r.Decision == Approve && states[i].Barred() && !r.Given
	}
	var all []int
	for i := range states {
		link := c.Fields[i].Linked
		named := slices.Contains(touched, i)
		switch {
		case named && link != "" && barred[link]:
			n.Stopped++
		case named:
			all = append(all, i)
		case r.Decision == Approve && states[i].Barred():
		case link != "" && !barred[link] && states[i].Decision != r.Decision && slices.ContainsFunc(touched, func(k int) bool { return c.Fields[k].Linked == link }):
			all = append(all, i)
			n.Along = append(n.Along, Along{c.Key, c.Act, c.Fields[i].Field})
		}
	}
	return all
}

// Plain reports whether the ruling goes by nothing that a line hides, so that
// PlainPair does for plain lines on which nothing was decided.
func (r *Ruling) Plain() bool {
	f := &r.Filter
	return !r.Named && !r.Second && r.Seen == nil && f.Where == nil && len(f.Fields)+len(f.Decisions)+len(f.Findings)+len(f.Keys) == 0
}

// PlainPair is Pairs for a line that need not be decoded: it is plain, and
// open.
func (r *Ruling) PlainPair(dst []Pair, n *Touched, line Line) []Pair {
	act := line.Act()
	if len(r.Filter.Acts) > 0 && !slices.Contains(r.Filter.Acts, act) {
		return dst
	}
	n.Changes++
	n.Units += line.Units()
	if act == Delete {
		n.Deletes++
	}
	return append(dst, Pair{ID: line.ID(), Digest: DigestOf(line)})
}

// Add adds another count.
func (n *Touched) Add(o Touched) {
	n.Units += o.Units
	n.Changes += o.Changes
	n.Deletes += o.Deletes
	n.Passed += o.Passed
	n.Stopped += o.Stopped
	n.Along = append(n.Along, o.Along...)
}

// touchesHeld reports whether a hold of the tool is decided: where it was
// asked for, where the field was named, and for a record named by its id
// that is added or deleted, which has no field to name.
func (r *Ruling) touchesHeld(c *Change, s *State) bool {
	return s.ToolHeld() && (r.Held || len(r.Filter.Findings) > 0 || r.Named && (c.Act != Amend || len(r.Filter.Fields) > 0))
}

// ParseDecision returns the decision with the given word.
func ParseDecision(s string) (Decision, error) {
	switch d := Decision(s); d {
	case Open, Approve, Hold, Reject:
		return d, nil
	}
	return "", fmt.Errorf("%q is no decision; they are open, approve, hold and reject", s)
}
