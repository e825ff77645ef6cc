package run

import (
	"context"
	"io"
	"iter"
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
	if err := only(t, tgt, at, before.keys); err != nil {
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
	inverse := b.inverse(t.Set().Name, done)
	if len(inverse.records) == 0 {
		return nil, refuse(NothingDone, "dossier %s has nothing that could be undone%s", t.Meta.Number, b.narrowed())
	}
	findings, err := inverse.holdMoved(ctx, tgt, b.schema, system)
	if err != nil {
		return nil, err
	}
	title := "rollback of " + t.Meta.Number
	if len(b.Records) > 0 {
		title += " for " + b.Records[0].String()
		if len(b.Records) > 1 {
			title += " and others"
		}
	}
	return &newDossier{title: title, changes: inverse.all(), findings: findings,
		undoes: &desk.Undoes{Dossier: t.Meta.Number, Runs: inverse.runs}, by: b.By, now: b.Now(), tool: b.Tool,
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

// names reports whether a record is one of those that are asked for.
func (b *Undo) names(k record.Key) bool {
	return b.schema.HasKey(b.Records, k)
}

// linkOf returns what links a field of the step with others of its record.
func (s *Step) linkOf(field string) string {
	f, _ := s.Fields.Of(field)
	return f.Linked
}

// undo adds to c what undoes fields of the step, or all of an add or delete:
// from what was read back after the run to what was there before.
func (s *Step) undo(c *changeset.Change, fields changeset.Packed) {
	back := s.Rare().Read
	read := back.Finder()
	for f := range s.Fields.All() {
		if fields != s.Fields {
			if _, wanted := fields.Of(f.Field); !wanted {
				continue
			}
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
	if c := a.Compare(b); c != 0 {
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
	changes  iter.Seq[*changeset.Change] // in order; each holds until the next
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
	_, err = disk.WriteUnsummed(fsys, filepath.Join(dir, desk.ChangesName(set.Name)), 0o600, func(w io.Writer) error {
		cw, err := changeset.NewWriter(w, changeset.Header{RecordSet: set.Name, Key: set.Key, Fields: fields,
			Snapshot: changeset.Source{Name: meta.Snapshot.Name, SHA256: kept.SHA256},
			Edited:   []changeset.Source{{Name: n.title}}, Options: told})
		if err != nil {
			return err
		}
		for c := range n.changes {
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
	for c := range n.changes {
		for _, f := range c.Fields {
			name(f.Field)
		}
		for _, f := range c.Record {
			name(f.Name)
		}
	}
	return all
}
