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
	Where Where  // or nil
	Of    string // the name of a copy: what comes from it, of several; "" is any
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
	if f.Of != "" && !slices.Contains(c.Sources(), f.Of) {
		return false
	}
	return f.Where == nil || f.Where.Holds(c)
}

// Comes reports whether a unit of a change that Change has let through comes from the copy that
// is asked for.
func (f *Filter) Comes(c *Change, unit int) bool {
	switch {
	case f.Of == "":
		return true
	case c.Act != Amend:
		_, _, ok := c.OfCopy(f.Of)
		return ok
	}
	_, _, ok := c.Fields[unit].OfCopy(f.Of)
	return ok
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
	Decided  bool   // touch what people decided otherwise, too
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
	Units, Changes, Adds, Deletes int
	Passed                        int // units that are held by the tool, passed over for want of Held
	Stopped                       int // units that cannot be approved
	Disputed                      int // of these, units of which copies disagree
	Already                       int // units that were decided so before
	// Others counts the units that people decided otherwise, passed over for
	// want of Decided.
	Others map[Whose]int
	// Along are those that were not asked for, and are decided because others
	// are that they are linked with; only so many are kept of them.
	Along   []Along
	Against int    // changes that are rejected, since they stand against those that were approved
	Over    []Pair // of conflicts that are to be written over: which
}

func (n *Touched) act(a Act) {
	switch a {
	case Add:
		n.Adds++
	case Delete:
		n.Deletes++
	}
}

// Fields counts the field changes that were touched.
func (n *Touched) Fields() int { return n.Units - n.Adds - n.Deletes }

// Whose is a decision and who made it.
type Whose struct {
	By       string
	Decision Decision
}

// InTheWay reports whether the ruling touched nothing though it was meant for
// something: all of it is held, stopped or decided otherwise.
func (n *Touched) InTheWay() bool {
	return n.Units == 0 && n.Passed+n.Stopped+len(n.Others) > 0
}

// Sum takes in what a ruling on other changes touched. Who decided otherwise is counted; what was taken along
// and written over is not.
func (n *Touched) Sum(o *Touched) {
	n.Units, n.Changes, n.Adds, n.Deletes = n.Units+o.Units, n.Changes+o.Changes, n.Adds+o.Adds, n.Deletes+o.Deletes
	n.Passed, n.Stopped, n.Disputed, n.Already, n.Against = n.Passed+o.Passed, n.Stopped+o.Stopped, n.Disputed+o.Disputed, n.Already+o.Already, n.Against+o.Against
	for who, k := range o.Others {
		n.Others[who] += k
	}
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
	kept := false // a value that was given, or a decision on a field, which one on the whole would not reach
	for i := range states {
		if s := &states[i]; r.Filter.Comes(c, i) && r.touches(n, c, s, r.takes(c, i)) {
			touched = append(touched, i)
			kept = kept || s.byField || s.Given != nil || s.Of != ""
		}
	}
	touched = r.together(touched, n, c, states)
	if len(touched) == 0 {
		return dst
	}
	n.Changes++
	n.Units += len(touched)
	n.act(c.Act)
	if len(r.Filter.Fields) == 0 && r.Filter.Of == "" && r.Seen == nil && len(touched) == len(states) && !kept || c.Act != Amend {
		return append(dst, Pair{ID: c.ID, Digest: DigestOf(line)})
	}
	for _, i := range touched {
		dst = append(dst, Pair{c.ID, c.Fields[i].Field, FieldDigest(c, &c.Fields[i])})
	}
	return dst
}

// takes reports whether the ruling says what is approved of a unit that is stopped: a value
// is given, or a copy's side chosen that nothing else stops.
func (r *Ruling) takes(c *Change, unit int) bool {
	if r.Given && len(c.Stop) == 0 {
		return c.Act == Amend && slices.Contains(r.Filter.Fields, c.Fields[unit].Field)
	}
	a := DecisionAct{Of: r.Filter.Of}
	if r.Decision != Approve {
		return false
	}
	if c.Act != Amend {
		return a.chosen(c, nil) != ""
	}
	return a.chosen(c, &c.Fields[unit]) != ""
}

// bars reports whether a unit cannot be approved by the ruling.
func (r *Ruling) bars(c *Change, unit int, s *State) bool {
	return r.Decision == Approve && s.Barred() && !r.takes(c, unit)
}

// Bars reports whether a unit of a change cannot be approved by the ruling.
func (r *Ruling) Bars(c *Change, states []State) bool {
	for i := range states {
		if r.bars(c, i, &states[i]) {
			return true
		}
	}
	return false
}

// touches reports whether the ruling decides a unit of a change, and counts
// it if what stands there is in the way. takes says that it is approved although it is stopped.
func (r *Ruling) touches(n *Touched, c *Change, s *State, takes bool) bool {
	switch {
	case !r.Filter.Unit(s) || r.Seen != nil && !r.sees(c, s):
		return false
	case r.Decision == Approve && len(s.Stop) > 0 && r.Filter.Of != "" && takes && r.choosesAnew(c, s):
		return true
	case r.Decision == Approve && s.Barred() && !takes:
		if s.ToolHeld() || r.Named { // of others a person said already that they stay
			n.Stopped++
			if slices.Contains(s.Stop, CopiesDisagree.Name) {
				n.Disputed++
			}
			return false
		}
	case r.Given, r.Seen != nil && s.Decision == Approve, r.seconds(s):
		return true
	case r.Decision == Open && (s.Decision == Open || s.ToolHeld()):
		n.Already++ // nothing to take back
		return false
	case s.Decision == Open, r.touchesHeld(c, s):
		return true
	case s.ToolHeld() && r.Decision == Hold:
		n.Already++
		return false
	case s.ToolHeld():
		n.Passed++
		return false
	case r.Decided, r.Decision == Open && s.By == r.By, r.Named && (!s.byField || len(r.Filter.Fields) > 0):
		return true
	case s.Decision == r.Decision:
		n.Already++
		return false
	case !r.Named && s.Decision == Hold && s.By == r.By:
		return true
	}
	if n.Others == nil {
		n.Others = map[Whose]int{}
	}
	n.Others[Whose{s.By, s.Decision}]++
	return false
}

// choosesAnew reports whether a unit of which copies disagree gets the side that is chosen: one
// that only waits for that, or that the same person, or a name, gave another.
func (r *Ruling) choosesAnew(c *Change, s *State) bool {
	if s.ToolHeld() {
		return len(s.Held) == 0 || r.touchesHeld(c, s)
	}
	return r.Named || r.Decided || s.By == r.By && s.Of != r.Filter.Of
}

// seconds reports whether the ruling is a second person's approval of a unit.
func (r *Ruling) seconds(s *State) bool {
	return r.Second && s.Seconds(r.Decision, r.By)
}

// stands reports whether a unit is as the ruling would have it.
func (r *Ruling) stands(s *State) bool {
	return !r.seconds(s) && (s.Decision == r.Decision || r.Decision == Open && s.ToolHeld())
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
		barred[c.Fields[i].Linked] = barred[c.Fields[i].Linked] || !r.Given && r.bars(c, i, &states[i])
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
		case r.bars(c, i, &states[i]):
		case link != "" && !barred[link] && !r.stands(&states[i]) && slices.ContainsFunc(touched, func(k int) bool { return c.Fields[k].Linked == link }):
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
	return r.Decision != Open && !r.Named && !r.Second && r.Seen == nil && f.Where == nil && len(f.Fields)+len(f.Decisions)+len(f.Findings)+len(f.Keys)+len(f.Of) == 0
}

// PlainPair is Pairs for a line that need not be decoded: it is plain, and
// open. named is false where it is known that it names no copies.
func (r *Ruling) PlainPair(dst []Pair, n *Touched, line Line, named bool) []Pair {
	act := line.Act()
	if len(r.Filter.Acts) > 0 && !slices.Contains(r.Filter.Acts, act) {
		return dst
	}
	n.Changes++
	n.Units += line.Units()
	n.act(act)
	if named {
		line = line.unnamed()
	}
	return append(dst, Pair{ID: line.ID(), Digest: digestOf(line)})
}

// Add adds another count.
func (n *Touched) Add(o Touched) {
	n.Units += o.Units
	n.Changes += o.Changes
	n.Adds += o.Adds
	n.Deletes += o.Deletes
	n.Passed += o.Passed
	n.Stopped += o.Stopped
	n.Disputed += o.Disputed
	n.Already += o.Already
	if n.Others == nil {
		n.Others = o.Others
	} else {
		for who, k := range o.Others {
			n.Others[who] += k
		}
	}
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
