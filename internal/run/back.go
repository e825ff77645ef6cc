package run

import (
	"context"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Back says what is to be undone.
type Undo struct {
	Run   int    // 0 means all runs at the target that are not undone yet
	Sheet string // of the target, as the run that wrote it was told
	// OtherTarget says that the target is the last run's under another name.
	OtherTarget bool

	schema  *schema.Schema // which says what keys name one record
	Records []record.Key   // only these, if any
	Fields  []string       // only these fields of amends, if any
	By      string
	Now     func() time.Time
	Tool    string
}

// Rollback makes a new dossier that undoes what runs of t really did, newest
// first, against the target as it is now: what was changed since is held.
func Rollback(ctx context.Context, t *desk.Dossier, tgt target.Target, b Undo) (*desk.Dossier, error) {
	n, err := rollbackOf(ctx, t, tgt, b)
	if err != nil {
		return nil, err
	}
	return writeDossier(ctx, t, tgt, *n)
}

// RollbackInto is Rollback of one of several record sets: it writes what undoes its runs into a folder, all
// but its description, which it returns.
func RollbackInto(ctx context.Context, t *desk.Dossier, tgt target.Target, b Undo, dir string) (*desk.Meta, error) {
	n, err := rollbackOf(ctx, t, tgt, b)
	if err != nil {
		return nil, err
	}
	if err := t.FS().MkdirAll(dir); err != nil {
		return nil, err
	}
	return n.write(ctx, t, tgt, dir)
}

// rollbackOf finds what undoes the runs.
func rollbackOf(ctx context.Context, t *desk.Dossier, tgt target.Target, b Undo) (*newDossier, error) {
	at, err := (&wayBack{t, b.Sheet, b.OtherTarget}).at(tgt)
	if err != nil {
		return nil, err
	}
	system, err := lastSystem(t)
	if err != nil {
		return nil, err
	}
	before, err := readPast(t, at)
	if err != nil {
		return nil, err
	}
	if err := only(t, tgt, at, before.keys()); err != nil {
		return nil, err
	}
	found, err := before.confirmed(ctx, t, tgt, system)
	if err != nil {
		return nil, err
	}
	done, err := before.standing(t, found)
	if err != nil {
		return nil, err
	}
	if err := observe(ctx, t, tgt, at, done, b.By, b.Now); err != nil {
		return nil, err
	}
	if b.schema, err = t.Schema(); err != nil {
		return nil, err
	}
	if tgt.Traits().Nulls {
		b.schema = b.schema.Telling()
	}
	changes, runs := b.inverse(t.Set().Name, done)
	if len(changes) == 0 {
		return nil, refuse(NothingDone, "dossier %s has nothing that could be undone%s", t.Meta.Number, b.narrowed())
	}
	named := make([]record.Key, len(changes))
	for i, c := range changes {
		named[i] = c.Key
	}
	states, err := tgt.Current(ctx, named)
	if err != nil {
		return nil, err
	}
	var findings []changeset.Finding
	for i, c := range changes {
		if f := holdMoved(c, &states[i], b.schema, system); f != nil {
			findings = append(findings, *f)
		}
	}
	holdLinked(changes)
	title := "rollback of " + t.Meta.Number
	if len(b.Records) > 0 {
		title += " for " + b.Records[0].String()
		if len(b.Records) > 1 {
			title += " and others"
		}
	}
	return &newDossier{title: title, changes: changes, findings: findings,
		undoes: &desk.Undoes{Dossier: t.Meta.Number, Runs: runs}, by: b.By, now: b.Now(), tool: b.Tool,
		options: b.told(system)}, nil
}

// lastSystem returns the fields that the target of the last run writes
// itself.
func lastSystem(t *desk.Dossier) ([]string, error) {
	runs, err := Runs(t)
	if err != nil || len(runs) == 0 {
		return nil, err
	}
	last, err := ReadHead(t, runs[len(runs)-1])
	if err != nil {
		return nil, err
	}
	return last.System, nil
}

func (b *Undo) narrowed() string {
	if b.Run > 0 || len(b.Records) > 0 || len(b.Fields) > 0 {
		return " by that choice"
	}
	return ""
}

// told is what the rollback was told, as its dossier keeps it.
func (b *Undo) told(system []string) *desk.Options {
	o := &desk.Options{System: system, Run: b.Run, Fields: b.Fields}
	for _, k := range b.Records {
		o.Records = append(o.Records, k.String())
	}
	return o
}

// inverse returns the changes that undo what stands and is asked for, one a
// record, and the runs they belong to, newest first. Fields of one record
// that several runs wrote come together, and so does what is linked.
func (b *Undo) inverse(set string, done map[unit]standingUnit) ([]*changeset.Change, []int) {
	byID := map[changeset.ID]*changeset.Change{}
	undo := map[*changeset.Change][]unit{}
	var runs []int
	for u := range b.asked(done) {
		d := done[u]
		c := byID[u.id]
		if c == nil {
			c = &changeset.Change{Act: d.step.Act.Inverse(), Key: d.step.Key, Linked: d.step.Linked}
			c.ID = changeset.MakeID(set, c.Key, c.Act)
			byID[u.id] = c
		}
		undo[c] = append(undo[c], u)
		if !slices.Contains(runs, d.run) {
			runs = append(runs, d.run)
		}
	}
	for c, units := range undo {
		for step, fields := range byStep(units, done) {
			step.undo(c, fields)
		}
	}
	there := map[record.Key]*changeset.Change{}
	for _, c := range byID {
		if c.Act != changeset.Delete {
			there[c.Key] = c
		}
	}
	for c, units := range undo { // a record that stood under another key goes back to it
		if back := there[done[units[0]].step.Was]; back != nil {
			back.Was = c.Key
		}
	}
	changes := slices.Collect(maps.Values(byID))
	slices.SortFunc(changes, func(a, b *changeset.Change) int { return compareKeys(a.Key, b.Key, a.Act, b.Act) })
	slices.SortFunc(runs, func(a, b int) int { return b - a })
	return changes, runs
}

// asked returns the units that are asked for, with those that they are linked
// with.
func (b *Undo) asked(done map[unit]standingUnit) map[unit]bool {
	type within struct {
		id   changeset.ID
		link string
	}
	units, links, fields := map[unit]bool{}, map[string]bool{}, map[within]bool{}
	for u, d := range done {
		if b.Run > 0 && d.run != b.Run || len(b.Records) > 0 && !b.names(d.step.Key) || len(b.Fields) > 0 && !slices.Contains(b.Fields, u.field) {
			continue
		}
		units[u] = true
		if d.step.Linked != "" {
			links[d.step.Linked] = true
		}
		if link := d.step.linkOf(u.field); link != "" {
			fields[within{u.id, link}] = true
		}
	}
	if len(links)+len(fields) == 0 {
		return units
	}
	for u, d := range done {
		link := d.step.linkOf(u.field)
		if links[d.step.Linked] || fields[within{u.id, link}] {
			units[u] = true
		}
	}
	return units
}

// names reports whether a record is one of those that are asked for.
func (b *Undo) names(k record.Key) bool {
	return b.schema.HasKey(b.Records, k)
}

// linkOf returns what links a field of the step with others of its record.
func (s *Step) linkOf(field string) string {
	f, _ := s.Fields.Of(field)
	return f.Linked
}

// holdLinked holds what is linked with something that is held.
func holdLinked(changes []*changeset.Change) {
	held := map[string][]string{}
	for _, c := range changes {
		within := map[string][]string{}
		for i := range c.Fields {
			if f := &c.Fields[i]; len(f.Held) > 0 {
				held[c.Linked], within[f.Linked] = f.Held, f.Held
			}
		}
		for i := range c.Fields {
			if f := &c.Fields[i]; f.Linked != "" && len(f.Held) == 0 {
				f.Held = within[f.Linked]
			}
		}
		if len(c.Held) > 0 {
			held[c.Linked] = c.Held
		}
	}
	for _, c := range changes {
		if c.Linked != "" && len(c.Held) == 0 {
			c.Held = held[c.Linked]
		}
	}
}

// byStep sorts units of one record by the step that did them.
func byStep(units []unit, done map[unit]standingUnit) map[*Step]map[string]bool {
	steps := map[*Step]map[string]bool{}
	for _, u := range units {
		s := done[u].step
		if steps[s] == nil {
			steps[s] = map[string]bool{}
		}
		steps[s][u.field] = true
	}
	return steps
}

// undo adds to c what undoes fields of the step, or all of an add or delete:
// from what was read back after the run to what was there before.
func (s *Step) undo(c *changeset.Change, fields map[string]bool) {
	back := s.Rare().Read
	read := back.Finder()
	for f := range s.Fields.All() {
		if !fields[f.Field] {
			continue
		}
		if after, ok := read(f.Field); ok {
			f.To = after
		}
		c.Fields = append(c.Fields, changeset.FieldChange{Edit: f.Inverse()})
	}
	for f := range s.Record.All() {
		if r, ok := read(f.Name); ok && s.Act == changeset.Add {
			f.Value = r
		}
		c.Record = append(c.Record, f)
	}
	if s.Act == changeset.Add {
		for _, f := range back {
			if _, there := s.Record.Get(f.Name); !there {
				c.Record = append(c.Record, f) // the target's own
			}
		}
	}
}

// compareKeys orders changes by their keys' parts, and then by act.
func compareKeys(a, b record.Key, actA, actB changeset.Act) int {
	if c := slices.Compare(a.Parts(), b.Parts()); c != 0 {
		return c
	}
	return int(actA) - int(actB)
}

// sortSteps puts steps into the order of their keys, so that the same
// selection always makes the same file.
func sortSteps(steps []*Step) {
	slices.SortFunc(steps, func(a, b *Step) int { return compareKeys(a.Key, b.Key, a.Act, b.Act) })
}

// holdMoved holds what is no longer as the run left it.
func holdMoved(c *changeset.Change, now *target.State, sc *schema.Schema, system []string) *changeset.Finding {
	code := []string{changeset.ConflictThen.Name}
	var moved []string
	switch {
	case c.Act == changeset.Add && now.Count > 0:
		c.Held, moved = code, []string{"the record is there again"}
	case c.Act != changeset.Add && now.Count == 0:
		c.Held, moved = code, []string{"the record is gone"}
	case c.Act == changeset.Amend:
		for i := range c.Fields {
			f := &c.Fields[i]
			if v, _ := now.Record.Get(f.Field); !sc.Equal(f.Field, v, f.From) && !sc.Equal(f.Field, v, f.To) {
				f.Held = code
				moved = append(moved, f.Field+" is now "+v.Quoted()+", the run left "+f.From.Quoted())
			}
		}
	case c.Act == changeset.Delete:
		for _, u := range append(sc.Unlikes(c.Record, now.Record, system), schema.Filled(c.Record, now.Record, nil, system)...) {
			c.Held = code
			moved = append(moved, u.Field+" is now "+u.Real.Quoted()+", the run left "+u.Wanted.Quoted())
		}
	}
	if len(moved) == 0 {
		return nil
	}
	f := changeset.ConflictThen.Finding("%s was changed since: %s", c.Key, strings.Join(moved, "; "))
	f.Key = c.Key.String()
	return &f
}

// newDossier is what a dossier made from runs consists of.
type newDossier struct {
	title    string
	changes  []*changeset.Change
	findings []changeset.Finding
	undoes   *desk.Undoes
	options  *desk.Options
	by, tool string
	now      time.Time
}

// writeDossier makes a dossier whose snapshot is the target as it is now.
func writeDossier(ctx context.Context, t *desk.Dossier, tgt target.Target, n newDossier) (*desk.Dossier, error) {
	d := t.Desk()
	draft, err := d.Draft(n.by)
	if err != nil {
		return nil, err
	}
	var made *desk.Dossier
	m, err := n.write(ctx, t, tgt, draft.Dir)
	if err == nil {
		made, err = draft.Keep(m)
	}
	if err != nil {
		_ = draft.Discard() // the first error counts
		return nil, err
	}
	return made, nil
}

// write writes all of the dossier but its description, which it returns.
func (n *newDossier) write(ctx context.Context, t *desk.Dossier, tgt target.Target, dir string) (*desk.Meta, error) {
	fsys, set := t.FS(), t.Set()
	snapshot := "snapshot" + tgt.Traits().Ext
	kept, err := disk.WriteFile(fsys, filepath.Join(dir, snapshot), 0o600, func(w io.Writer) error { return tgt.Backup(ctx, w) })
	if err != nil {
		return nil, err
	}
	img, release, err := tgt.Table(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	fields := n.fields(img.Heading)
	meta := &desk.Meta{Title: n.title, By: n.by, When: n.now.UTC(), Tool: n.tool, Options: n.options, Undoes: n.undoes,
		Snapshot: &desk.Input{File: snapshot, Name: nameOf(tgt), SHA256: kept.SHA256, Size: kept.Size, Found: img.Found}}
	place := make(map[string]int, len(fields))
	for i, f := range fields {
		place[f] = i
	}
	rs := desk.RecordSet{Name: set.Name, Key: set.Key}
	var told any // a nil *desk.Options is no nil
	if n.options != nil {
		told = n.options
	}
	_, err = disk.WriteFile(fsys, filepath.Join(dir, desk.ChangesName(set.Name)), 0o600, func(w io.Writer) error {
		cw, err := changeset.NewWriter(w, changeset.Header{RecordSet: set.Name, Key: set.Key, Fields: fields,
			Snapshot: changeset.Source{Name: meta.Snapshot.Name, SHA256: kept.SHA256},
			Edited:   []changeset.Source{{Name: n.title}}, Options: told})
		if err != nil {
			return err
		}
		for _, c := range n.changes {
			slices.SortFunc(c.Fields, func(a, b changeset.FieldChange) int { return place[a.Field] - place[b.Field] })
			if err := cw.Write(c); err != nil {
				return err
			}
			rs.Changes.Count(c)
		}
		seal, err := cw.Close()
		rs.Seal = seal.Seal
		return err
	})
	if err != nil {
		return nil, err
	}
	rs.Changes.Sort(fields)
	rs.Fields = rs.Changes.ByField
	meta.RecordSets = []desk.RecordSet{rs}
	meta.Findings, err = desk.WriteFindings(fsys, dir, n.findings)
	return meta, err
}

// nameOf is what the state of a target is called.
func nameOf(tgt target.Target) string {
	if h, ok := tgt.(target.Loader); ok {
		return h.From()
	}
	return filepath.Base(tgt.Name())
}

// fields returns the target's fields, and behind them those that the changes
// name and the target has no more.
func (n *newDossier) fields(have []string) []string {
	all := slices.Clone(have)
	seen := make(map[string]bool, len(have))
	for _, f := range have {
		seen[f] = true
	}
	name := func(f string) {
		if !seen[f] {
			seen[f] = true
			all = append(all, f)
		}
	}
	for _, c := range n.changes {
		for _, f := range c.Fields {
			name(f.Field)
		}
		for _, f := range c.Record {
			name(f.Name)
		}
	}
	return all
}
