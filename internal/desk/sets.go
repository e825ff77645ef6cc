package desk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/internal/disk"
)

// A dossier of several record sets is a folder with a dossier for each of them below it, sets/NAME, in
// the form that all dossiers have. Their numbers are that of the whole and the set's name, 0007/visits,
// and by these they are opened like others. dossier.json of the whole has the digests of theirs.

// PartMark stands between the number of a dossier and the name of one of its record sets.
const PartMark = "/"

// Member is one of several record sets of a dossier.
type Member struct {
	Set    string `json:"set"`
	Digest string `json:"digest"` // that of its dossier.json
}

// Reference says that fields of one record set name the record of another.
type Reference struct {
	Set    string   `json:"set"`
	Fields []string `json:"fields"` // in the order of the key that they name
	To     string   `json:"to"`
}

func setDir(dir, set string) string { return filepath.Join(dir, "sets", Slug(set)) }

// Several reports whether the dossier has several record sets, so that it has no change set of its own.
func (t *Dossier) Several() bool { return t.Meta != nil && len(t.Meta.Sets) > 0 }

// Whole is the dossier that a record set of several belongs to; else the dossier itself.
func (t *Dossier) Whole() *Dossier {
	if t.whole != nil {
		return t.whole
	}
	return t
}

// IsPart reports whether the dossier is a record set of one of several.
func (t *Dossier) IsPart() bool { return t.whole != nil }

// FileNumber is the dossier's number as it may stand in a file's name.
func (t *Dossier) FileNumber() string { return strings.ReplaceAll(t.Meta.Number, PartMark, "-") }

// SetNames are the names of the record sets.
func (t *Dossier) SetNames() (all []string) {
	for _, m := range t.Meta.Sets {
		all = append(all, m.Set)
	}
	return all
}

// NoSuchSet says that a dossier has no record set of a name.
type NoSuchSet struct {
	Number, Set string
	Have        []string // of one of a single set none
}

func (e *NoSuchSet) Error() string {
	return fmt.Sprintf("dossier %s has no record set %q", e.Number, e.Set)
}

// Part opens one of several record sets. A dossier of one set has that alone.
func (t *Dossier) Part(set string) (*Dossier, error) {
	if !t.Several() {
		if t.Set().Name == set {
			return t, nil
		}
		return nil, &NoSuchSet{t.Meta.Number, set, []string{t.Set().Name}}
	}
	i := slices.IndexFunc(t.Meta.Sets, func(m Member) bool { return m.Set == set })
	if i < 0 {
		return nil, &NoSuchSet{t.Meta.Number, set, t.SetNames()}
	}
	dir := setDir(t.Dir, set)
	p, err := t.desk.open(t.desk.within(dir))
	if err != nil {
		return nil, err
	}
	if p.Meta.Digest != t.Meta.Sets[i].Digest {
		return nil, &DamageError{filepath.Join(dir, "dossier.json"), ErrAltered}
	}
	p.whole = t
	return p, nil
}

// within is a folder's name from the folder of the dossiers.
func (d *Desk) within(dir string) string {
	r, err := filepath.Rel(d.dossiers(), dir)
	if err != nil {
		return dir
	}
	return r
}

// Parts opens the record sets, those that are referred to first; a dossier of one set is its only part.
func (t *Dossier) Parts() ([]*Dossier, error) {
	if !t.Several() {
		return []*Dossier{t}, nil
	}
	var all []*Dossier
	for _, m := range t.Meta.Sets {
		p, err := t.Part(m.Set)
		if err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, nil
}

// parts is Parts with damaged ones among them.
func (t *Dossier) parts() (all []*Dossier) {
	if !t.Several() {
		return []*Dossier{t}
	}
	for _, m := range t.Meta.Sets {
		p, err := t.Part(m.Set)
		if err != nil {
			p = &Dossier{desk: t.desk, Dir: setDir(t.Dir, m.Set), Damage: err, whole: t}
		}
		all = append(all, p)
	}
	return all
}

// LockAll takes the locks of all record sets, in their order.
func (t *Dossier) LockAll() (unlock func(), err error) {
	parts, err := t.Parts()
	if err != nil {
		return nil, err
	}
	var locks []*disk.Lock
	unlock = func() {
		for _, l := range locks {
			_ = l.Unlock() // the process ends with it
		}
	}
	for _, p := range parts {
		l, err := p.Lock()
		if err != nil {
			unlock()
			return nil, err
		}
		locks = append(locks, l)
	}
	return unlock, nil
}

// addedAlong lets fields name the records that other sets of the dossier add.
func (t *Dossier) addedAlong() error {
	if t.whole == nil {
		return nil
	}
	for i := range t.layout.Fields {
		f := &t.layout.Fields[i]
		if f.List == nil {
			continue
		}
		other, err := t.whole.Part(f.List.Set())
		if errors.As(err, new(*NoSuchSet)) || err == nil && !names(f, other.Set().Key) {
			continue
		}
		if err != nil {
			return err
		}
		added, err := other.Added()
		if err != nil {
			return err
		}
		f.Also(codes(slices.Collect(maps.Values(added))))
	}
	return nil
}

// codes are keys of one field as texts.
func codes(keys []record.Key) []string {
	all := make([]string, len(keys))
	for i, k := range keys {
		all[i] = k.String()
	}
	return all
}

// names reports whether a field names records by a key.
func names(f *layout.Field, key []string) bool { return len(key) == 1 && f.List.By == key[0] }

// Added lists the keys of the records that the dossier adds, by their changes.
func (t *Dossier) Added() (map[changeset.ID]record.Key, error) {
	if t.Set().Changes.Add == 0 {
		return nil, nil
	}
	c, err := t.Changes()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	all := map[changeset.ID]record.Key{}
	for line := range c.Lines() {
		if line.Act() != changeset.Add {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, err
		}
		all[ch.ID] = ch.Key
	}
	return all, nil
}

// Sets is a comparison of several record sets, to be made into one dossier.
type Sets struct {
	Title, By, Tool string
	Now             time.Time
	// All are the comparisons, a record set each. Those of a joined sheet have no copy.
	All    []*Comparison
	Joined *JoinedLayout // or nil
	Sheet  *Source       // of a joined sheet
	Undoes *Undoes
}

// Order puts the comparisons in an order in which those that are referred to come first, and returns
// how they refer to each other: by the sheet, and by what their layouts say.
func (s *Sets) order() (refs []Reference) {
	at := map[string]*Comparison{}
	for _, c := range s.All {
		at[c.Options.RecordSet] = c
	}
	take := func(r Reference) {
		if r.Set != r.To && at[r.Set] != nil && at[r.To] != nil && !slices.ContainsFunc(refs, func(o Reference) bool {
			return o.Set == r.Set && o.To == r.To && slices.Equal(o.Fields, r.Fields)
		}) {
			refs = append(refs, r)
		}
	}
	if s.Joined != nil {
		for _, r := range s.Joined.References() {
			take(Reference{s.Joined.Parts[r.From].Set, r.Fields, s.Joined.Parts[r.To].Set})
		}
	}
	for _, c := range s.All {
		if c.Layout == nil {
			continue
		}
		for i := range c.Layout.Fields {
			f := &c.Layout.Fields[i]
			if f.List == nil || at[f.List.Set()] == nil {
				continue
			}
			if names(f, at[f.List.Set()].Options.Key) {
				take(Reference{c.Options.RecordSet, []string{f.Name}, f.List.Set()})
			}
		}
	}
	s.All = parentsFirst(s.All, refs)
	return refs
}

// parentsFirst orders comparisons by what refers to what. What goes round in a circle keeps its order.
func parentsFirst(all []*Comparison, refs []Reference) (sorted []*Comparison) {
	done := map[string]bool{}
	for len(sorted) < len(all) {
		n := len(sorted)
		for _, c := range all {
			name := c.Options.RecordSet
			if done[name] || slices.ContainsFunc(refs, func(r Reference) bool { return r.Set == name && !done[r.To] }) {
				continue
			}
			done[name] = true
			sorted = append(sorted, c)
		}
		if len(sorted) > n {
			continue
		}
		for _, c := range all {
			if !done[c.Options.RecordSet] {
				sorted = append(sorted, c)
			}
		}
	}
	return sorted
}

// CompareSets compares several record sets and makes one dossier of the result. The results are in
// the dossier's order of its sets. Nothing is left behind where it fails.
func (d *Desk) CompareSets(ctx context.Context, s *Sets) (*Dossier, []*compare.Result, error) {
	draft, err := d.Draft(s.By)
	if err != nil {
		return nil, nil, err
	}
	t, res, err := d.compareSets(ctx, s, draft)
	if err != nil {
		return nil, nil, errors.Join(err, draft.Discard())
	}
	return t, res, nil
}

func (d *Desk) compareSets(ctx context.Context, s *Sets, draft *Draft) (*Dossier, []*compare.Result, error) {
	x := &several{d: d, s: s, dir: draft.Dir}
	defer x.close()
	top := &Meta{Title: s.Title, By: s.By, When: s.Now.UTC(), Tool: s.Tool, References: s.order(), Undoes: s.Undoes}
	if err := x.open(ctx); err != nil {
		return nil, nil, err
	}
	if x.sheet != nil {
		top.Edited, top.Joined = Copies{x.sheet.input}, s.Joined.Name
		name := joinedLayoutName
		if err := disk.Copy(d.FS, s.Joined.Path, filepath.Join(draft.Dir, name)); err != nil {
			return nil, nil, err
		}
		sum, err := disk.Sum(d.FS, filepath.Join(draft.Dir, name))
		if err != nil {
			return nil, nil, err
		}
		top.Files = map[string]string{name: sum}
	}
	var metas []*Meta
	var results []*compare.Result
	for i, c := range s.All {
		m, res, err := d.compareReady(ctx, c, x.in[i])
		if err != nil {
			return nil, nil, err
		}
		metas, results = append(metas, m), append(results, res)
		if x.sheet != nil { // what has the most of the sheet's rows is a row of it
			x.sheet.input.Records = max(x.sheet.input.Records, res.Records.Edited)
		}
	}
	t, err := draft.KeepSets(top, metas)
	return t, results, err
}

// SetDir is the folder of one of several record sets in a draft.
func (t *Draft) SetDir(set string) string { return setDir(t.Dir, set) }

// KeepSets makes the draft a dossier of the record sets whose folders were written, in the order of another
// dossier's sets.
func (t *Draft) KeepSets(top *Meta, parts []*Meta) (*Dossier, error) {
	top.Sets = nil
	for _, p := range parts {
		top.Sets = append(top.Sets, Member{Set: p.RecordSets[0].Name})
	}
	if err := t.desk.FS.SyncDir(filepath.Join(t.Dir, "sets")); err != nil {
		return nil, err
	}
	return t.Keep(top, parts...)
}

// PreviewSets compares several record sets and keeps nothing of them.
func (d *Desk) PreviewSets(ctx context.Context, s *Sets) ([]*compare.Result, error) {
	x := &several{d: d, s: s}
	defer x.close()
	s.order()
	if err := x.open(ctx); err != nil {
		return nil, err
	}
	var results []*compare.Result
	for i, c := range s.All {
		res, err := d.previewReady(ctx, c, x.in[i], sync.OnceValues(x.in[i].snapshot.SHA256))
		if err != nil {
			return nil, err
		}
		results = append(results, res)
	}
	return results, nil
}

// several are the files of a comparison of several record sets.
type several struct {
	d     *Desk
	s     *Sets
	dir   string // the draft's; "" keeps nothing
	sheet *kept
	in    []*inputs
}

func (x *several) close() {
	for _, in := range x.in {
		in.close()
	}
	if x.sheet != nil {
		_ = x.sheet.Close() // only read
	}
}

// open opens all files, and takes the sheet apart where there is one.
func (x *several) open(ctx context.Context) (err error) {
	folders := map[string]string{}
	for _, c := range x.s.All {
		name := c.Options.RecordSet
		if other, taken := folders[Slug(name)]; taken {
			return layout.Errors{{File: name, Text: fmt.Sprintf("the record sets %s and %s would have one folder", other, name), Hint: "give one of them a name that differs in letters or digits"}}
		}
		folders[Slug(name)] = name
		in := &inputs{fsys: x.d.FS, hashed: make(chan struct{})}
		x.in = append(x.in, in)
		if in.use(c); x.dir != "" {
			in.dir = setDir(x.dir, c.Options.RecordSet)
			if err := x.d.FS.MkdirAll(in.dir); err != nil {
				return err
			}
		}
		if in.snapshot, err = in.open(&c.Snapshot, "snapshot"); err != nil {
			return err
		}
	}
	if x.s.Joined != nil {
		if err := x.split(ctx); err != nil {
			return err
		}
	}
	for i, c := range x.s.All {
		if err := x.in[i].ready(ctx, c); err != nil {
			return err
		}
	}
	return nil
}
