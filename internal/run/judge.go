package run

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/wear"
	"paletwin/internal/desk"
)

// judged is a step to be held against what is there now: all of it, or of an
// amend the fields that no later run wrote again and no rollback took back.
type judged struct {
	*Step
	fields changeset.Packed
	of     *Record
	kind   string // of its differences, once it was looked at
}

// compare compares the last run's backup with what is there now of the same: what differs
// is a step, as meant or not, or moved besides.
func (v *Verification) compare(ctx context.Context, t *desk.Dossier, last *Record, backup, now *table.Image, p Proof) error {
	before, err := readPast(t, last.Head.At(), last)
	if err != nil {
		return err
	}
	done, err := before.standing(t, units{})
	if err != nil {
		return err
	}
	sink := &differences{v: v, steps: map[changeset.ID]*Step{}, known: map[changeset.ID]*Step{}, done: done, undone: takenBack(before.done, done), now: map[record.Key]*changeset.Change{}, whole: map[record.Key]bool{}, names: names{set: v.set, of: v.schema}}
	elsewhere, err := v.elsewhere(t, last, done, sink.undone)
	if err != nil {
		return err
	}
	if err := v.giveKeys(t, elsewhere, p.Fresh); err != nil {
		return err
	}
	for _, j := range elsewhere {
		sink.known[v.there(j.Step)] = j.Step
	}
	var open []*Step // which the last run did not come to, or of which it did not hear
	if !last.Head.Handoff {
		for _, s := range last.Steps {
			if s.Outcome == "" || s.Outcome == Skipped {
				open = append(open, s)
				sink.steps[v.there(s)] = s
			}
		}
		for d := range done.shares() {
			if int(d.run) == last.Head.Run {
				sink.steps[v.there(d)] = d
			}
		}
	}
	for _, s := range sink.steps {
		sink.names.know(s.Key)
		if s.Act != changeset.Amend {
			sink.whole[s.Key] = true
		}
	}
	for _, s := range sink.known {
		sink.names.know(s.Key)
	}
	for d := range sink.undone.shares() {
		sink.names.know(d.Key)
	}
	res, err := compare.Run(ctx, backup, now, compare.Options{Unencoded: true, RecordSet: t.Set().Name, Key: t.Set().Key, Layout: v.layout, SameOnly: true, Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear}, OtherRegister: true}, sink)
	if err != nil {
		return err
	}
	v.Totals = res.Totals
	if err := v.lookUp(t, elsewhere, p); err != nil {
		return err
	}
	for _, s := range open {
		if sink.steps[v.there(s)] == s {
			now, there := sink.state(s)
			v.open(s, now, there)
			delete(sink.steps, v.there(s))
		}
	}
	var steps []*Step
	for _, s := range sink.steps {
		if !sink.asMeant(s, sink.now[s.Key]) {
			steps = append(steps, s)
		}
	}
	sortSteps(steps)
	for _, s := range steps {
		now, there := sink.state(s)
		v.step(&judged{Step: s, fields: done.standing(s.ID, s.Fields)}, now, there)
	}
	v.Differences = append(v.Differences, sink.besides...)
	for _, f := range res.Findings {
		if f.Level == changeset.Stop {
			v.Besides++
			v.Differences = append(v.Differences, Difference{Kind: Besides, Key: f.Key, Expected: "(one row)", Found: fmt.Sprintf("(%s, %d rows)", f.Code, f.Count)})
		}
	}
	return v.later.err
}

// elsewhere lists the steps of which the comparison with the last backup does
// not tell whether they are as meant: those of earlier runs on the target,
// and all that were handed over, of which nobody has seen what became.
func (v *Verification) elsewhere(t *desk.Dossier, last *Record, done, undone units) ([]*judged, error) {
	var all []*judged
	if !last.Head.Handoff {
		for d, fields := range done.shares() {
			if int(d.run) != last.Head.Run {
				all = append(all, &judged{Step: d, fields: fields})
			}
		}
	} else {
		var err error
		if all, err = handedSteps(t, undone); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(all, func(a, b *judged) int { return compareKeys(a.Key, b.Key, a.Act, b.Act) })
	return all, nil
}

// handedSteps lists what was handed over, the last time it was.
func handedSteps(t *desk.Dossier, undone units) ([]*judged, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	var all []*judged
	seen := map[unit]bool{}
	for _, n := range slices.Backward(runs) {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, err
		}
		for _, s := range r.Steps {
			if !s.handed {
				continue
			}
			j := &judged{Step: s, of: r}
			fresh := map[string]bool{}
			for _, u := range s.handedUnits() {
				if seen[u] || undone.has(u) {
					continue
				}
				seen[u], fresh[u.field] = true, true
			}
			j.fields = s.all().Where(func(f changeset.Edit) bool { return fresh[f.Field] })
			if len(fresh) > 0 {
				all = append(all, j)
			}
		}
	}
	return all, nil
}

// lookUp judges steps by what the fresh state has of their records, and keeps
// what is learnt of handed-over ones.
func (v *Verification) lookUp(t *desk.Dossier, steps []*judged, p Proof) error {
	if len(steps) == 0 {
		return nil
	}
	want := make([]record.Key, len(steps))
	for i, s := range steps {
		want[i] = s.Key
	}
	found, err := csv.Lookup(p.Fresh, t.Set().Key, want, v.schema.Key)
	if err != nil {
		return err
	}
	learnt := map[*Record][]*Step{}
	for _, s := range steps {
		now, there := found[s.Key]
		s.kind = v.step(s, now, there)
		if s.of != nil && s.fields.Len() == s.all().Len() && s.seen(now) {
			s.When = momentOf(p.Now())
			s.Reason = "seen in " + filepath.Base(p.Name)
			learnt[s.of] = append(learnt[s.of], s.Step)
		}
	}
	for r, steps := range learnt {
		if err := r.learn(t, steps, &Answer{Kind: "export", Name: filepath.Base(p.Name), Rows: len(steps), By: p.By, When: p.Now().UTC()}); err != nil {
			return err
		}
	}
	return nil
}

// seen gives a handed-over step its outcome by what an export shows, and
// reports whether that is news. What is not done yet may still be loaded.
func (j *judged) seen(now record.Record) bool {
	known := j.Outcome == Done && (j.kind != Differently || len(j.Rare().Read) > 0)
	if known || j.kind != "" && j.kind != Differently {
		return false
	}
	j.Outcome = Done
	if j.rare != nil {
		j.rare.Read, j.rare.Left, j.rare.answered = nil, nil, nil
	}
	if j.kind == Differently {
		for f := range j.all().All() {
			if v, _ := now.Get(f.Field); v != f.To {
				j.keep().Read.Set(f.Field, v)
			}
		}
		for f := range j.Record.All() {
			if v, there := now.Get(f.Name); there && v != f.Value && j.Act == changeset.Add {
				j.keep().Read.Set(f.Name, v)
			}
		}
	}
	return true
}

// open judges a step that the last run did not come to, or did not hear of: it is
// as meant, or was not attempted. What else its record became is nobody's step.
func (v *Verification) open(s *Step, now record.Record, there bool) {
	alone := &Verification{layout: v.layout, schema: v.schema, system: v.system, later: v.later}
	kind := alone.step(&judged{Step: s, fields: s.Fields}, now, there)
	if kind == "" {
		v.AsMeant++
		return
	}
	v.NotTried++
	v.Differences = append(v.Differences, Difference{Kind: NotTried, Key: s.Key.String()})
	if kind == NotDone {
		return
	}
	for _, d := range alone.Differences {
		d.Kind = Besides
		v.Besides++
		v.Fields = countField(v.Fields, d.Field)
		v.Differences = append(v.Differences, d)
	}
}

// step judges one step by what is there now, and returns the kind of its
// differences, "" if there is none.
func (v *Verification) step(s *judged, now record.Record, there bool) string {
	return v.count(v.misses(s, now, there))
}

// misses returns what is not as a step meant it, and whether all of that is as it was before.
func (v *Verification) misses(s *judged, now record.Record, there bool) (bad []Difference, before bool) {
	get := now.Finder()
	before = true
	miss := func(field string, expected, was, found string) {
		d := Difference{Key: s.Key.String(), Field: field, Expected: expected, Found: found}
		if field != "" {
			d.How = wear.Made(expected, found)
		}
		d.By = v.later.who(s.Key, field, found)
		bad = append(bad, d)
		before = before && found == was
	}
	switch {
	case s.Act == changeset.Delete:
		if there {
			miss("", goneWord, thereWord, thereWord)
		}
	case !there:
		was := goneWord
		if s.Act == changeset.Amend {
			was = thereWord
		}
		miss("", thereWord, was, goneWord)
	case s.Act == changeset.Add:
		for f := range s.Record.All() {
			if c, _ := get(f.Name); !v.schema.Equal(f.Name, c, f.Value) && !slices.Contains(v.system, f.Name) {
				miss(f.Name, f.Value.String(), goneWord, c.String())
			}
		}
	default:
		for f := range s.fields.All() {
			if c, _ := get(f.Field); !v.schema.Equal(f.Field, c, f.To) {
				miss(f.Field, f.To.String(), f.From.String(), c.String())
			}
		}
	}
	return bad, before
}

// count sorts a step by what is not as meant of it.
func (v *Verification) count(bad []Difference, before bool) string {
	kind := Other
	all := func(is func(d Difference) bool) bool {
		return !slices.ContainsFunc(bad, func(d Difference) bool { return !is(d) })
	}
	switch {
	case len(bad) == 0:
		v.AsMeant++
		return ""
	case all(func(d Difference) bool { return d.By != "" }):
		kind = Since
		v.Since++
	case before:
		kind = NotDone
		v.NotDone++
	case all(func(d Difference) bool { return d.How != "" }):
		kind = Differently
		v.Differently++
	default:
		v.Other++
	}
	for i := range bad {
		bad[i].Kind = kind
		if kind == Differently {
			v.made(&bad[i])
		} else {
			bad[i].How = ""
		}
	}
	v.Differences = append(v.Differences, bad...)
	return kind
}

// made counts what the system made of a value.
func (v *Verification) made(d *Difference) {
	i := slices.IndexFunc(v.Made, func(m Made) bool { return m.Field == d.Field && m.How == d.How })
	if i < 0 {
		i = len(v.Made)
		v.Made = append(v.Made, Made{Field: d.Field, How: d.How, Expected: d.Expected, Found: d.Found})
	}
	v.Made[i].Count++
}

// differences is the sink of the comparison of backup and fresh state.
type differences struct {
	v       *Verification
	steps   map[changeset.ID]*Step // of the last run
	known   map[changeset.ID]*Step // steps that are judged otherwise
	done    units                  // what stands of all runs
	undone  units                  // what rollbacks took back since
	now     map[record.Key]*changeset.Change
	whole   map[record.Key]bool // whose steps are no amends
	names   names
	besides []Difference
}

// there is the id that a step has where two states of the target are compared: its
// own, unless the target gave the record its key.
func (v *Verification) there(s *Step) changeset.ID {
	if s.wentBy() != "" {
		return changeset.MakeID(v.set, s.Key, s.Act)
	}
	return s.ID
}

func (d *differences) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	for _, ch := range changes {
		d.names.rename(ch)
		d.take(ch)
	}
	return nil
}

// take sorts one change into what a step is about and what moved besides.
func (d *differences) take(ch *changeset.Change) {
	amendID := ch.ID
	if ch.Act != changeset.Amend {
		amendID = changeset.MakeID(d.v.set, ch.Key, changeset.Amend)
	}
	step, amend := d.steps[ch.ID], d.steps[amendID]
	if (amend != nil || step != nil) && !d.settle(step, ch) {
		d.now[ch.Key] = ch
	}
	if ch.Act != changeset.Amend {
		expected, found := goneWord, thereWord
		if ch.Act == changeset.Delete {
			expected, found = found, expected
		}
		back := unit{changeset.MakeID(d.v.set, ch.Key, ch.Act.Inverse()), ""}
		if step == nil && amend == nil && d.known[ch.ID] == nil && d.known[amendID] == nil && !d.undone.has(back) {
			d.beside(ch.Key, Difference{Expected: expected, Found: found})
		}
		return
	}
	known := d.known[ch.ID]
	for i := range ch.Fields {
		f := &ch.Fields[i]
		switch {
		case slices.Contains(d.v.system, f.Field):
			d.v.System = countField(d.v.System, f.Field)
		case step.means(f.Field) || known.means(f.Field) || d.takenBack(ch.ID, &f.Edit):
		case len(d.known) > 0 && d.known[changeset.MakeID(d.v.set, ch.Key, changeset.Add)] != nil:
		default:
			d.beside(ch.Key, Difference{Field: f.Field, Expected: f.From.String(), Found: f.To.String()})
		}
	}
}

// means reports whether a field is one of those that a step is about.
func (s *Step) means(field string) bool {
	if s == nil {
		return false
	}
	_, now := s.Fields.Of(field)
	_, once := s.all().Of(field)
	return now || once
}

// settle judges a step of the last run by what was seen of its record, and lets go of it if it is as meant: of a
// million there is nothing more to say.
func (d *differences) settle(s *Step, ch *changeset.Change) bool {
	if s == nil || s.Act != changeset.Amend || s.Outcome != Done || d.whole[ch.Key] || !d.asMeant(s, ch) {
		return false
	}
	delete(d.steps, d.v.there(s))
	return true
}

// asMeant counts a step that is as meant in all that stands of it, by what the comparison saw of its record.
func (d *differences) asMeant(s *Step, ch *changeset.Change) bool {
	fields := d.done.standing(s.ID, s.Fields)
	if !s.toTheLetter(fields, ch) {
		now, there := stateOf(s, ch)
		if bad, _ := d.v.misses(&judged{Step: s, fields: fields}, now, there); len(bad) > 0 {
			return false
		}
	}
	d.v.AsMeant++
	return true
}

// toTheLetter reports whether a record that a step amends was seen with just what some fields were to have: most are.
func (s *Step) toTheLetter(fields changeset.Packed, ch *changeset.Change) bool {
	if s.Act != changeset.Amend || ch == nil || ch.Act != changeset.Amend {
		return false
	}
	for f := range fields.All() {
		if x := ch.Field(f.Field); x == nil || x.To != f.To {
			return false
		}
	}
	return true
}

// values are what edits make of their fields.
func values(edits changeset.Packed) record.Record {
	r := make(record.Record, 0, 8)
	for f := range edits.All() {
		r = append(r, record.Field{Name: f.Field, Value: f.To})
	}
	return r
}

// takenBack reports whether a field is as it was before a step that a
// rollback undid.
func (d *differences) takenBack(id changeset.ID, f *changeset.Edit) bool {
	u, undone := d.undone.get(unit{id, f.Field})
	if !undone {
		return false
	}
	was, there := u.Fields.Of(f.Field)
	return there && d.v.schema.Equal(f.Field, f.To, was.From)
}

// beside notes a difference that no step meant, unless a later dossier did.
func (d *differences) beside(key record.Key, x Difference) {
	if d.v.later.who(key, x.Field, x.Found) != "" {
		d.v.Later++
		return
	}
	x.Kind, x.Key = Besides, key.String()
	d.v.Besides++
	d.v.Fields = countField(d.v.Fields, x.Field)
	d.besides = append(d.besides, x)
}

// state returns a step's record as far as the comparison saw it.
func (d *differences) state(s *Step) (now record.Record, there bool) { return stateOf(s, d.now[s.Key]) }

// stateOf is a step's record by what the comparison saw of it, nil for nothing: what did not
// change since the backup is as the step found it.
func stateOf(s *Step, ch *changeset.Change) (now record.Record, there bool) {
	switch s.Act {
	case changeset.Add:
		if ch == nil || ch.Act != changeset.Add {
			return nil, false
		}
		return ch.Record, true
	case changeset.Delete:
		return s.Record.Record(), ch == nil || ch.Act != changeset.Delete
	}
	if ch != nil && ch.Act == changeset.Delete {
		return nil, false
	}
	var moved record.Record
	if ch != nil {
		for i := range ch.Fields {
			moved = append(moved, record.Field{Name: ch.Fields[i].Field, Value: ch.Fields[i].To})
		}
	}
	to := moved.Finder()
	now = make(record.Record, 0, 8)
	for f := range s.Fields.All() {
		v, differs := to(f.Field)
		if !differs {
			v = f.From
		}
		now = append(now, record.Field{Name: f.Field, Value: v})
	}
	return now, true
}

// countField adds one to a field's count.
func countField(all []changeset.FieldCount, field string) []changeset.FieldCount {
	for i := range all {
		if all[i].Field == field {
			all[i].Changes++
			return all
		}
	}
	return append(all, changeset.FieldCount{Field: field, Changes: 1})
}
