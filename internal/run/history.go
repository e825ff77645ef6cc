package run

import (
	"cmp"
	"errors"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/desk"
)

// Question asks what happened to records over the dossiers of a desk. What it
// leaves out is anything.
type Question struct {
	// Record gives the key that is asked about in a record set; ok is false
	// where the set has no such record. Nil asks about all records.
	Record func(set *desk.RecordSet) (key record.Key, ok bool)
	Field  string
	Since  time.Time // the first moment
	Until  time.Time // the first moment that is too late
	By     string    // who compared, decided or carried it out
}

// Event is one change of one field of a record, or of a whole record, and
// what became of it.
type Event struct {
	Dossier *desk.Dossier
	Key     record.Key
	Act     changeset.Act
	Field   string // "" for a record that comes or goes
	From    record.Value
	To      record.Value
	State   changeset.State // the decision on it
	Of      []string        // of several copies those that it comes from
	Deeds   []Deed          // the runs that attempted it, in order
}

// Deed is what a run did about an event.
type Deed struct {
	Run     int
	Outcome Outcome
	Reason  string
	By      string
	When    time.Time
	Target  string
	Load    string // of a hand-off: its load file, where one alone can be it
}

// When is the moment of the last deed, or of the comparison.
func (e *Event) When() time.Time {
	if n := len(e.Deeds); n > 0 {
		return e.Deeds[n-1].When
	}
	return e.Dossier.Meta.When
}

// History answers a question, dossier by dossier in the order of their
// numbers. Dossiers that are damaged are passed over and come back.
func History(d *desk.Desk, q Question) (events []Event, damaged []*desk.Dossier, err error) {
	all, err := d.Dossiers()
	if err != nil {
		return nil, nil, err
	}
	for _, t := range all {
		if t.Damage != nil {
			damaged = append(damaged, t)
			continue
		}
		of, err := q.ask(t)
		var damage *desk.DamageError
		if errors.As(err, &damage) {
			damaged = append(damaged, t)
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		events = append(events, of...)
	}
	return events, damaged, nil
}

// ask answers a question for one dossier.
func (q *Question) ask(t *desk.Dossier) ([]Event, error) {
	if q.Record == nil {
		return q.askAll(t)
	}
	key, ok := q.Record(t.Set())
	if !ok {
		return nil, nil
	}
	c, lines, err := t.Find(key)
	if err != nil {
		return nil, err
	}
	if c == nil {
		if c, lines, err = otherForms(t, key); c == nil {
			return nil, err
		}
	}
	defer c.Close()
	return q.events(t, c, lines)
}

// otherForms finds the changes of a record whose key stands in the change set in
// another form than the one that is asked about, or which a target gave its key; nil
// where there are none.
func otherForms(t *desk.Dossier, key record.Key) (*desk.Changes, []changeset.Line, error) {
	s, err := t.Schema()
	if err != nil || s.OneForm() && !s.Assigned() {
		return nil, nil, err
	}
	given, err := givenKeys(t, s)
	if err != nil {
		return nil, nil, err
	}
	c, err := t.Changes()
	if err != nil {
		return nil, nil, err
	}
	var lines []changeset.Line
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, nil, errors.Join(err, c.Close())
		}
		if s.Key(ch.Key) == s.Key(key) || given[ch.ID] != (record.Key{}) && s.Key(given[ch.ID]) == s.Key(key) {
			lines = append(lines, line)
		}
	}
	if len(lines) == 0 {
		return nil, nil, c.Close()
	}
	return c, lines, nil
}

// givenKeys are the keys that targets gave new records, by their changes.
func givenKeys(t *desk.Dossier, s *schema.Schema) (map[changeset.ID]record.Key, error) {
	if !s.Assigned() {
		return nil, nil
	}
	given := map[changeset.ID]record.Key{}
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, err
		}
		for _, x := range r.Steps {
			if went := x.wentBy(); went != "" {
				given[x.ID] = x.Key
			}
		}
	}
	return given, nil
}

// askAll reads a whole change set, unless its description says that nothing
// in it is asked about.
func (q *Question) askAll(t *desk.Dossier) ([]Event, error) {
	if q.Field != "" && !slices.ContainsFunc(t.Set().Fields, func(f changeset.FieldCount) bool { return f.Field == q.Field }) || !q.Until.IsZero() && !t.Meta.When.Before(q.Until) {
		return nil, nil
	}
	c, err := t.Changes()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return q.events(t, c, slices.Collect(c.Lines()))
}

// events makes the events of lines, with their decisions and deeds.
func (q *Question) events(t *desk.Dossier, c *desk.Changes, lines []changeset.Line) ([]Event, error) {
	deeds, err := readDeeds(t)
	if err != nil {
		return nil, err
	}
	s, err := t.Schema()
	if err != nil {
		return nil, err
	}
	given, err := givenKeys(t, s)
	if err != nil {
		return nil, err
	}
	var all []Event
	for _, l := range lines {
		ch, err := l.Change(c.Header.Fields)
		if err != nil {
			return nil, err
		}
		for i, st := range c.Ledger.States(l, ch) {
			e := Event{Dossier: t, Key: cmp.Or(given[ch.ID], ch.Key), Act: ch.Act, Field: st.Field, State: st, Of: ch.Meant(&st), Deeds: deeds[unit{ch.ID, st.Field}]}
			if ch.Act == changeset.Amend {
				e.From, e.To = ch.Fields[i].From, st.Wanted(&ch.Fields[i])
			}
			if q.takes(&e) {
				all = append(all, e)
			}
		}
	}
	return all, nil
}

// takes reports whether an event is asked about.
func (q *Question) takes(e *Event) bool {
	when, m := e.When(), e.Dossier.Meta
	return (q.Field == "" || e.Field == q.Field || e.Field == "" && q.Record != nil) &&
		!when.Before(q.Since) && (q.Until.IsZero() || when.Before(q.Until)) &&
		(q.By == "" || same(q.By, m.By) || same(q.By, e.State.By) || slices.ContainsFunc(e.Deeds, func(d Deed) bool { return same(q.By, d.By) }))
}

func same(a, b string) bool { return strings.EqualFold(a, b) }

// readDeeds reads what a dossier's runs did, by what they did it to.
func readDeeds(t *desk.Dossier) (map[unit][]Deed, error) {
	deeds := map[unit][]Deed{}
	for r, err := range allRuns(t) {
		if err != nil {
			return nil, err
		}
		for _, s := range r.Steps {
			for _, u := range s.attempted() {
				d := Deed{Run: r.Head.Run, Outcome: s.Outcome, Reason: s.Reason, By: r.Head.By, When: s.When.Time(), Target: r.Head.Target, Load: r.loadOf(s, u.field)}
				if d.When.IsZero() {
					d.When = r.Head.When
				}
				if slices.Contains(s.Rare().Left, u.field) {
					if d.Outcome = Conflict; s.handed {
						d.Outcome = Refused
					}
				}
				deeds[u] = append(deeds[u], d)
			}
		}
	}
	return deeds, nil
}

// attempted returns the units that a step was about, whatever became of them.
func (s *Step) attempted() []unit {
	if s.handed {
		return s.handedUnits()
	}
	all := s.units()
	for _, f := range s.Rare().Left {
		all = append(all, unit{s.ID, f})
	}
	return all
}

// loadOf names the load file that sent a field of a step, "" where several
// may have: of parts of one file nothing tells which.
func (r *Record) loadOf(s *Step, field string) string {
	name, best := "", 0
	for _, l := range r.Loads {
		if !l.Forward() || !slices.Contains(strings.Split(l.Acts, ","), s.Act.String()) {
			continue
		}
		switch n := s.fits(l.Fields, field); {
		case n > best:
			name, best = l.Name, n
		case n == best:
			name = ""
		}
	}
	return name
}

// fits says how well a load file with these fields can be the one that sent a
// field of the step: 3 if it sends just what the step changes, 2 if that field
// alone, 1 if it sends more, or does not say.
func (s *Step) fits(fields []string, field string) int {
	switch {
	case s.Act != changeset.Amend || len(fields) == 0:
		return 1
	case !slices.Contains(fields, field):
		return 0
	case len(fields) == s.all().Len() && s.all() == s.all().Where(func(f changeset.Edit) bool { return slices.Contains(fields, f.Field) }):
		return 3
	case len(fields) == 1:
		return 2
	}
	return 1
}
