package desk

import (
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/record"
)

// Order is a decision as it was given on a command line.
type Order struct {
	Decision changeset.Decision
	Names    []string // change ids or their beginnings, each perhaps with /field
	Filter   changeset.Filter
	// Choose, if not nil, makes the filter once the change set is open.
	Choose  func(c *Changes) (changeset.Filter, error)
	Held    bool
	Decided bool // take in what people decided otherwise
	// Seen holds, for conflicts that are to be written over, what the target
	// has now, by change and field; nothing else is decided then.
	Seen map[changeset.ID]record.Record
	// As, if not nil, is the value that is approved instead of the one in the
	// change; one field is named then.
	As   *string
	By   string
	Via  string // who records it for the one who decides, if that is another
	When time.Time
	// Units, if not nil, are decided: fields of changes, "" for a whole add or
	// delete.
	Units map[changeset.ID][]string
	Note  string
	How   string

	second bool // the desk asks for a second look, so that whoever approves again is written down
}

// NameError says that a name on the command line names no change, or more
// than one.
type NameError struct {
	Name   string
	Field  string   // the field that the change does not have
	Ids    []string // the ids that begin with it, if there are several
	Fields []string // the fields the change has
}

func (e *NameError) Error() string {
	switch {
	case e.Field != "":
		return fmt.Sprintf("change %s has no field %q; it changes %s", e.Name, e.Field, strings.Join(e.Fields, ", "))
	case len(e.Ids) > 0:
		return fmt.Sprintf("%q begins several change ids: %s", e.Name, strings.Join(e.Ids, ", "))
	}
	return fmt.Sprintf("no change has the id %q", e.Name)
}

// Decide makes a decision on named changes, or on a group, and writes it
// down. What it touched comes back; if that is nothing, nothing is written.
func (t *Dossier) Decide(o *Order) (changeset.Touched, error) {
	o.second = t.WantsSecond()
	lock, err := t.Lock()
	if err != nil {
		return changeset.Touched{}, err
	}
	defer lock.Unlock()
	c, err := t.changesUnchecked()
	if err != nil {
		return changeset.Touched{}, err
	}
	defer c.Close()
	sealed := make(chan error, 1) // the seal is checked while the changes are gone through
	go func() { sealed <- c.check() }()
	n, acts, err := o.rule(c)
	if bad := <-sealed; bad != nil {
		return changeset.Touched{}, bad
	}
	if err != nil {
		return n, err
	}
	if o.Seen != nil {
		n.Over = over(acts)
	}
	return n, t.write(c, o, acts)
}

// over lists what acts decide to write over.
func over(acts []changeset.DecisionAct) []changeset.Pair {
	var all []changeset.Pair
	for i := range acts {
		all = append(all, acts[i].On...)
	}
	return all
}

// rule completes the order and collects what it touches.
func (o *Order) rule(c *Changes) (n changeset.Touched, acts []changeset.DecisionAct, err error) {
	if o.Choose != nil {
		if o.Filter, err = o.Choose(c); err != nil {
			return n, nil, err
		}
	}
	acts, err = o.acts(c, &n)
	if w := o.Filter.Where; err == nil && w != nil {
		err = w.Err()
	}
	return n, slices.DeleteFunc(acts, func(a changeset.DecisionAct) bool { return len(a.On) == 0 }), err
}

// write appends the acts.
func (t *Dossier) write(c *Changes, o *Order, acts []changeset.DecisionAct) error {
	for i := range acts {
		a := &acts[i]
		a.RecordSet, a.By, a.Via, a.When, a.Note, a.How = t.Set().Name, o.By, o.Via, o.When, o.Note, o.How
		a.Account, a.Dossier = t.desk.Account.String(), t.Meta.ID
		if a.Decision == "" {
			a.Decision = o.Decision
		}
		if err := t.append(c.Ledger, a, i < len(acts)-1); err != nil {
			return err
		}
	}
	return nil
}

// acts collects what the order touches: one act for a group; for names, one
// for whole changes and one for fields; and one for changes that are linked
// with these.
func (o *Order) acts(c *Changes, n *changeset.Touched) ([]changeset.DecisionAct, error) {
	r := newRuler(c)
	defer func() { *n = r.n }()
	var acts []changeset.DecisionAct
	var err error
	switch {
	case o.Units != nil:
		acts, err = o.units(r)
	case len(o.Names) == 0:
		acts, err = o.group(r)
	default:
		acts, err = o.named(r)
	}
	acts = append(acts, r.sideActs()...)
	if err == nil && len(r.links) > 0 {
		acts, err = o.together(r, acts)
	}
	if err != nil || len(r.against) == 0 {
		return acts, err
	}
	return o.refuse(r, acts)
}

// together decides the changes that are linked with those that were touched.
// Where one of a group cannot be approved, none of it is.
func (o *Order) together(r *ruler, acts []changeset.DecisionAct) ([]changeset.DecisionAct, error) {
	linked := changeset.DecisionAct{Held: true}
	barred := map[string]bool{}
	group := map[changeset.ID]string{}
	for line := range r.c.Lines() {
		if line.Plain() {
			continue
		}
		ch, err := line.Change(r.c.Header.Fields)
		if err != nil {
			return nil, err
		}
		if !r.links[ch.Linked] {
			continue
		}
		group[ch.ID] = ch.Linked
		states := r.c.Ledger.States(line, ch)
		ruling := &changeset.Ruling{Decision: o.Decision, Held: true, Named: true, By: o.By, Second: o.second, Filter: changeset.Filter{Of: o.Filter.Of}}
		if ruling.Bars(ch, states) {
			if o.As == nil { // a value that is given is taken, and the others may get theirs next
				barred[ch.Linked] = true
			}
			continue
		}
		if r.touched[ch.ID] || !o.second && !slices.ContainsFunc(states, func(s changeset.State) bool { return s.Decision != o.Decision }) {
			continue
		}
		before := len(linked.On)
		if err := r.rule(ruling, line, &linked); err != nil {
			return nil, err
		}
		if len(linked.On) > before {
			r.n.Along = append(r.n.Along, changeset.Along{Key: ch.Key, Act: ch.Act})
		}
	}
	acts = append(append(acts, linked), r.sideActs()...)
	if len(barred) == 0 {
		return acts, nil
	}
	for i := range acts {
		acts[i].On = slices.DeleteFunc(acts[i].On, func(p changeset.Pair) bool {
			if barred[group[p.ID]] {
				r.n.Stopped++
			}
			return barred[group[p.ID]]
		})
	}
	r.n.Changes, r.n.Units, r.n.Adds, r.n.Deletes, r.n.Along = 0, 0, 0, 0, nil
	return acts, r.recount(acts)
}

// recount counts what acts touch.
func (r *ruler) recount(acts []changeset.DecisionAct) error {
	fields := map[changeset.ID]int{}
	for i := range acts {
		for _, p := range acts[i].On {
			if fields[p.ID]++; p.Field == "" {
				fields[p.ID] = 0
			}
		}
	}
	for line := range r.c.Lines() {
		n, there := fields[line.ID()]
		if !there {
			continue
		}
		if r.n.Changes++; n == 0 {
			n = line.Units()
		}
		r.n.Units += n
		switch line.Act() {
		case changeset.Add:
			r.n.Adds++
		case changeset.Delete:
			r.n.Deletes++
		}
	}
	return nil
}

// units decides single units, holds of the tool included.
func (o *Order) units(r *ruler) ([]changeset.DecisionAct, error) {
	whole, fields := changeset.DecisionAct{Held: true}, changeset.DecisionAct{Held: true, ByField: true}
	for line := range r.c.Lines() {
		names, there := o.Units[line.ID()]
		if !there {
			continue
		}
		ruling := changeset.Ruling{Decision: o.Decision, Held: true, Named: true, By: o.By, Second: o.second, Filter: changeset.Filter{Of: o.Filter.Of}}
		a := &whole
		if line.Act() == changeset.Amend {
			ruling.Filter.Fields, a = names, &fields
		}
		if err := r.rule(&ruling, line, a); err != nil {
			return nil, err
		}
	}
	return []changeset.DecisionAct{whole, fields}, nil
}

func (o *Order) group(r *ruler) ([]changeset.DecisionAct, error) {
	ruling := changeset.Ruling{Decision: o.Decision, Filter: o.Filter, Held: o.Held, Decided: o.Decided, By: o.By, Second: o.second, Seen: o.Seen}
	a := changeset.DecisionAct{Seen: o.Seen, ByField: len(o.Filter.Fields) > 0, Held: o.Held || len(o.Filter.Findings) > 0}
	parts := r.c.Parts(runtime.GOMAXPROCS(0) * 4)
	if len(parts) == 0 {
		return nil, nil
	}
	acts := make([]changeset.DecisionAct, len(parts))
	ruled := make([]*ruler, len(parts))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, lines := range parts {
		g.Go(func() error {
			ruled[i] = newRuler(r.c)
			return ruled[i].group(&ruling, lines, &acts[i])
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, x := range ruled {
		r.n.Add(x.n)
		maps.Copy(r.links, x.links)
		maps.Copy(r.touched, x.touched)
		maps.Copy(r.against, x.against)
		for of, side := range x.sides {
			into := r.side(of, side)
			into.On = append(into.On, side.On...)
			for id, values := range side.As {
				into.Give(id, values)
			}
		}
	}
	if o.Decision == changeset.Approve {
		a.Of = o.Filter.Of
	}
	if a.On, a.As = acts[0].On, acts[0].As; len(acts) > 1 {
		on := make([][]changeset.Pair, len(acts))
		for i := range acts {
			on[i] = acts[i].On
			for id, values := range acts[i].As {
				a.Give(id, values)
			}
		}
		a.On = slices.Concat(on...)
	}
	return []changeset.DecisionAct{a}, nil
}

// group rules on lines, without decoding those that hide nothing.
func (r *ruler) group(ruling *changeset.Ruling, lines changeset.Lines, a *changeset.DecisionAct) error {
	plain, all, named := ruling.Plain(), lines.Plain(), lines.OfCopies()
	a.On = make([]changeset.Pair, 0, len(lines)/100)
	for line := range lines.All() {
		if plain && (all || line.Plain()) && !r.c.Ledger.Has(line.ID()) {
			a.On = ruling.PlainPair(a.On, &r.n, line, named)
		} else if err := r.rule(ruling, line, a); err != nil {
			return err
		}
	}
	return nil
}

func (o *Order) named(r *ruler) ([]changeset.DecisionAct, error) {
	whole := changeset.DecisionAct{Held: o.Held, Seen: o.Seen}
	fields := changeset.DecisionAct{Held: o.Held, ByField: true, Seen: o.Seen}
	for _, name := range o.Names {
		id, field, byField := strings.Cut(name, "/")
		line, err := find(r.c, id)
		if err != nil {
			return nil, err
		}
		ruling := changeset.Ruling{Decision: o.Decision, Filter: o.Filter, Held: o.Held, Decided: o.Decided, Named: true, By: o.By, Second: o.second, Seen: o.Seen}
		a := &whole
		if byField {
			if err := hasField(r.c, line, id, field); err != nil {
				return nil, err
			}
			ruling.Filter.Fields = []string{field}
			a = &fields
			if o.As != nil {
				ruling.Given = true
				a.Give(line.ID(), record.Record{{Name: field, Value: record.Text(*o.As)}})
			}
		}
		if err := r.rule(&ruling, line, a); err != nil {
			return nil, err
		}
	}
	return []changeset.DecisionAct{whole, fields}, nil
}

// ruler rules on changes and notes what it touched, and the links.
type ruler struct {
	c       *Changes
	reading *changeset.Reading
	states  []changeset.State // room for those of a change
	n       changeset.Touched
	links   map[string]bool
	touched map[changeset.ID]bool             // of linked changes
	sides   map[string]*changeset.DecisionAct // of what is approved again, by the copy whose side it is
	against map[changeset.ID]changeset.ID     // what stands against a copy's side that is approved, by what is
}

func newRuler(c *Changes) *ruler {
	return &ruler{c: c, reading: changeset.NewReading(c.Header.Fields), links: map[string]bool{}, touched: map[changeset.ID]bool{}, sides: map[string]*changeset.DecisionAct{}, against: map[changeset.ID]changeset.ID{}}
}

func (r *ruler) rule(ruling *changeset.Ruling, line changeset.Line, a *changeset.DecisionAct) error {
	ch, err := r.reading.Change(line)
	if err != nil {
		return err
	}
	before := len(a.On)
	states := r.c.Ledger.AppendStates(r.states[:0], line, ch)
	r.states = states
	a.On = ruling.Pairs(a.On, &r.n, line, ch, states)
	if ruling.Filter.Of != "" && ruling.Decision == changeset.Approve {
		r.choose(ruling.Filter.Of, ch, a, before)
	}
	if ch.Linked != "" && len(a.On) > before {
		r.links[ch.Linked], r.touched[ch.ID] = true, true
	}
	if ruling.Decision == changeset.Approve && !ruling.Given && ruling.Filter.Of == "" {
		r.keep(ch, states, a, before)
	}
	return nil
}

// keep lets what was given, and which copy's side was chosen, stand where it is approved again. An
// act chooses one copy's side, so that what is of another goes into an act of its own.
func (r *ruler) keep(ch *changeset.Change, states []changeset.State, a *changeset.DecisionAct, before int) {
	pairs := slices.Clone(a.On[before:])
	a.On = a.On[:before]
	for _, p := range pairs {
		into := a
		for _, s := range states {
			if s.Field != p.Field {
				continue
			}
			if s.Of != "" {
				into = r.side(s.Of, a)
			}
			if s.Given != nil {
				into.Give(ch.ID, record.Record{{Name: p.Field, Value: *s.Given}})
			}
		}
		into.On = append(into.On, p)
	}
}

// side is the act that approves a copy's side, as another act approves the rest.
func (r *ruler) side(of string, like *changeset.DecisionAct) *changeset.DecisionAct {
	x := r.sides[of]
	if x == nil {
		x = &changeset.DecisionAct{Of: of, Held: like.Held, ByField: like.ByField, Seen: like.Seen}
		r.sides[of] = x
	}
	return x
}

// sideActs hands over the acts that side made, in order.
func (r *ruler) sideActs() (acts []changeset.DecisionAct) {
	for _, of := range slices.Sorted(maps.Keys(r.sides)) {
		acts = append(acts, *r.sides[of])
		delete(r.sides, of)
	}
	return acts
}

// choose notes the side of a copy that is approved, and what stands against it.
func (r *ruler) choose(copy string, ch *changeset.Change, a *changeset.DecisionAct, before int) {
	a.Of = copy
	for _, p := range a.On[before:] {
		if f := ch.Field(p.Field); f != nil && f.Disputed() {
			v, _, _ := f.OfCopy(copy)
			a.Give(ch.ID, record.Record{{Name: p.Field, Value: v}})
		}
	}
	if other, is := ch.Against(r.c.Header.RecordSet); is && len(a.On) > before {
		r.against[ch.ID] = other
	}
}

// refuse rejects the changes that stand against those that are approved of a copy: a record that
// stays is not deleted, and one that goes is not amended.
func (o *Order) refuse(r *ruler, acts []changeset.DecisionAct) ([]changeset.DecisionAct, error) {
	reject := changeset.DecisionAct{Decision: changeset.Reject, Held: true, Of: o.Filter.Of}
	whole := &changeset.Ruling{Decision: changeset.Reject, Held: true, Decided: true, Named: true, By: o.By}
	sub := newRuler(r.c)
	for _, p := range over(acts) {
		other, is := r.against[p.ID]
		if !is {
			continue
		}
		delete(r.against, p.ID)
		lines, err := r.c.Find(other.String(), 1)
		if err != nil {
			return nil, err
		}
		for _, line := range lines {
			if err := sub.rule(whole, line, &reject); err != nil {
				return nil, err
			}
		}
	}
	if len(reject.On) == 0 {
		return acts, nil
	}
	slices.SortFunc(reject.On, func(a, b changeset.Pair) int { return slices.Compare(a.ID[:], b.ID[:]) })
	r.n.Against = sub.n.Changes
	return append([]changeset.DecisionAct{reject}, acts...), nil
}

func find(c *Changes, prefix string) (changeset.Line, error) {
	lines, err := c.Find(strings.ToLower(prefix), 4)
	if err != nil || len(lines) == 0 {
		return nil, &NameError{Name: prefix}
	}
	if len(lines) > 1 {
		e := &NameError{Name: prefix}
		for _, l := range lines {
			e.Ids = append(e.Ids, l.ID().String())
		}
		return nil, e
	}
	return lines[0], nil
}

func hasField(c *Changes, line changeset.Line, id, field string) error {
	ch, err := line.Change(c.Header.Fields)
	if err != nil || ch.Field(field) != nil {
		return err
	}
	e := &NameError{Name: id, Field: field}
	for _, f := range ch.Fields {
		e.Fields = append(e.Fields, f.Field)
	}
	if len(e.Fields) == 0 {
		e.Fields = []string{"the record as a whole"}
	}
	slices.Sort(e.Fields)
	return e
}
