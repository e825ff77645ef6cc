package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/joined"
	"paletwin/core/layout"
	"paletwin/core/lend"
	"paletwin/core/words"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

// compareJoined compares a sheet whose rows hold records of several sets.
func (a *app) compareJoined(ctx context.Context, args []string, f *compareFlags) error {
	if err := f.checkJoined(args); err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	s, err := a.joinedSets(d, args[0], f)
	if err != nil {
		return err
	}
	if f.noDossier {
		results, err := d.PreviewSets(ctx, s)
		if err != nil {
			return err
		}
		return a.previewed(s.Title, results)
	}
	first := d.New()
	t, results, err := d.CompareSets(ctx, s)
	a.made = err == nil
	if err != nil {
		return err
	}
	if first {
		a.hint("%s", screen.Dim("this folder is a desk now: "+a.shown(filepath.Join(t.Desk().Dir, desk.SettingsName))+" says so"))
	}
	return a.comparedSets(t, results)
}

// checkJoined says what of the command line does not go with --joined.
func (f *compareFlags) checkJoined(args []string) error {
	switch {
	case len(args) != 1:
		return usage("compare --joined takes the sheet, and each set's snapshot as --snapshot SET=FILE")
	case len(f.key) > 0 || f.layout != "" || f.recordSet != "":
		return usage("with --joined the keys and the record sets are those of the layout: leave --key, --with layout and --record-set out")
	case f.deleteList+f.keepList+f.into != "":
		return usage("--delete-list, --with keep-list and --into are of one record set, and a joined sheet has several")
	case f.memory != "":
		return usage("--with memory is of the comparison of one record set, and a joined sheet has several")
	}
	return f.checkValues()
}

// joinedSets turns the command line into a comparison of the sets of a joined sheet.
func (a *app) joinedSets(d *desk.Desk, sheet string, f *compareFlags) (*desk.Sets, error) {
	j, err := a.joinedLayout(d, f.joined)
	if err != nil {
		return nil, err
	}
	snapshots, err := a.snapshotsOf(f.snapshots, j.Sets())
	if err != nil {
		return nil, err
	}
	from, err := a.source(sheet)
	if err != nil {
		return nil, err
	}
	f.files.reading(&from, a.password())
	s := &desk.Sets{Title: f.title, By: a.user, Tool: Version, Now: a.now(), Joined: j, Sheet: &from}
	if s.Title == "" {
		s.Title = stem(sheet)
	}
	for _, set := range j.Sets() {
		c, err := a.told(f)
		if err != nil {
			return nil, err
		}
		if c.Snapshot, err = a.source(snapshots[set]); err != nil {
			return nil, err
		}
		c.Snapshot.Options.Password = a.password()
		c.Title, c.Options.RecordSet = s.Title, set
		if err := a.useSetLayout(d, c, j); err != nil {
			return nil, err
		}
		s.All = append(s.All, c)
	}
	return s, nil
}

// useSetLayout gives a set of a joined sheet its layout, if it has one, and its key.
func (a *app) useSetLayout(d *desk.Desk, c *desk.Comparison, j *desk.JoinedLayout) error {
	set := c.Options.RecordSet
	part := j.Parts[slices.IndexFunc(j.Parts, func(p layout.Part) bool { return p.Set == set })]
	c.Options.Key = part.Key
	l, err := d.FindLayout(set)
	if err != nil || l == nil {
		return err
	}
	if !slices.Equal(l.Key, part.Key) {
		return usage("the key of %s is %s in %s, and %s in %s", set, strings.Join(l.Key, ", "), a.shown(l.Path), strings.Join(part.Key, ", "), a.shown(j.Path))
	}
	c.Layout = l
	l.Stands(&c.Snapshot.Options)
	return nil
}

// snapshotsOf reads SET=FILE for each of some sets.
func (a *app) snapshotsOf(said, sets []string) (map[string]string, error) {
	all := map[string]string{}
	for _, text := range said {
		set, file, ok := strings.Cut(text, "=")
		switch {
		case !ok || file == "":
			return nil, usage("--snapshot takes a record set and its file, visits=visits.csv, not %q", text)
		case !slices.Contains(sets, set):
			return nil, usage("--snapshot %s: there is no record set %q; the sets are %s", text, set, words.List(sets))
		case all[set] != "":
			return nil, usage("--snapshot names %s twice", set)
		}
		all[set] = file
	}
	for _, set := range sets {
		if all[set] == "" {
			return nil, usage("what were the %s before the sheet was edited? name their snapshot: --snapshot %s=FILE", set, set)
		}
	}
	return all, nil
}

// joinedLayout opens the layout of a joined sheet, by its name on the desk or its file.
func (a *app) joinedLayout(d *desk.Desk, name string) (*desk.JoinedLayout, error) {
	if path := d.LayoutPath(name); filepath.Base(name) == name {
		if _, err := a.fs.Stat(path); err == nil {
			return d.OpenJoined(path)
		}
	}
	return d.OpenJoined(a.path(name))
}

// previewed prints what would be found.
func (a *app) previewed(title string, results []*compare.Result) error {
	if a.json {
		var all []any
		for _, r := range results {
			all = append(all, compareJSON(nil, r, nil))
		}
		return a.printJSON(&setsJSON{Sets: all, References: []desk.Reference{}})
	}
	var sets []desk.RecordSet
	for _, r := range results {
		sets = append(sets, desk.RecordSet{Name: r.RecordSet, Records: r.Records, Changes: r.Changes, Fields: r.Changes.ByField, Totals: r.Totals})
	}
	a.out.Line("%s", screen.Strong(screen.Safe(title)))
	a.setLines(sets, nil)
	for i, r := range results {
		a.setFindings("", &sets[i], r.Findings)
	}
	return nil
}

// comparedSets says what a comparison of several record sets found.
func (a *app) comparedSets(t *desk.Dossier, results []*compare.Result) error {
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	if a.json {
		var all []any
		for i, p := range parts {
			all = append(all, compareJSON(p, results[i], nil))
		}
		return a.printJSON(setsOf(t, all))
	}
	if err := a.summarySets(t, parts); err != nil {
		return err
	}
	n, all := t.Meta.Number, new(changeset.Tally)
	for _, p := range parts {
		a.sinceWords(p, a.since(a.ctx, p))
		all.Sum(&p.Set().Changes)
	}
	if all.Changes() == 0 {
		a.hint("the sheet changes nothing")
		return nil
	}
	var findings []changeset.Finding
	for _, r := range results {
		findings = append(findings, r.Findings...)
	}
	a.nextDecision(n, all, findings)
	return nil
}

// deriveSets derives several record sets by one routine, into one dossier.
func (a *app) deriveSets(ctx context.Context, f *deriveFlags) error {
	switch {
	case f.routine == "":
		return usage("paletwin derive needs SNAPSHOT, or a routine of several record sets and their snapshots: --routine NAME --snapshot SET=FILE")
	case len(f.set)+len(f.fill)+len(f.clear)+len(f.move)+len(f.record)+len(f.key) > 0 || f.where+f.records+f.setFrom+f.add+f.out+f.layout+f.recordSet != "" || f.del:
		return usage("what is done in several record sets says the routine alone: leave all but --with param, --title and --with approve-within-limits out")
	}
	if err := f.files.check(); err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	routine, err := d.Routine(f.routine)
	if err != nil {
		return err
	}
	if len(routine.Sets) == 0 {
		return usage("the routine %s is of one record set: paletwin derive SNAPSHOT --routine %s", f.routine, f.routine)
	}
	snapshots, err := a.snapshotsOf(f.snapshots, routine.SetNames())
	if err != nil {
		return err
	}
	s := &desk.Sets{Title: cmp.Or(f.title, f.routine), By: a.user, Tool: Version, Now: a.now()}
	for _, set := range routine.SetNames() {
		c, err := a.derivationOf(d, f, routine, set, snapshots[set])
		if err != nil {
			return err
		}
		s.All = append(s.All, c)
	}
	t, results, err := d.CompareSets(ctx, s)
	a.made = err == nil
	if err != nil {
		return err
	}
	parts, err := t.Parts()
	if err != nil || !f.within {
		return cmp.Or(err, a.comparedSets(t, results))
	}
	approved, all := 0, 0
	for _, p := range parts {
		n, err := a.approveWithin(p, routine.Sets[p.Set().Name])
		if err != nil {
			return err
		}
		approved, all = approved+n.Changes, all+p.Set().Changes.Changes()
	}
	if err := a.comparedSets(t, results); err != nil {
		return err
	}
	if !a.json {
		a.out.Line("")
		a.out.Line("approved %s, within the routine's limits", screen.Plural(approved, "record"))
	}
	if approved < all {
		return exit(exitLook)
	}
	return nil
}

// derivationOf is what a routine does in one of its record sets.
func (a *app) derivationOf(d *desk.Desk, f *deriveFlags, routine *desk.Routine, set, file string) (*desk.Comparison, error) {
	own := *f
	own.recordSet, own.param = set, slices.Clone(f.param)
	does := *routine.Sets[set]
	does.Params = routine.Params
	if err := own.recall(&does); err != nil {
		return nil, err
	}
	if err := own.check(); err != nil {
		return nil, err
	}
	c, err := a.derivation(d, file, &own)
	if err != nil {
		return nil, err
	}
	if len(c.Options.Key) == 0 {
		return nil, usage("what identifies a record of %s is not known: say key: below it in the routine, or give it a layout", set)
	}
	c.Title = cmp.Or(f.title, f.routine)
	c.Options.Limits, c.Options.LimitsOf = &does.Limits, "the routine "+f.routine
	return c, nil
}

// lendJoined lends a sheet with records of several sets on a row.
func (a *app) lendJoined(ctx context.Context, f *lendFlags) error {
	switch {
	case len(f.fields)+len(f.key) > 0 || f.where+f.as+f.again+f.catchUp+f.snapshot+f.layout+f.recordSet != "":
		return usage("lend --joined lends what the layout says of its sets: leave all but --snapshot SET=FILE and -o out")
	case f.out == "":
		f.out = stem(f.joined) + "-lent.xlsx"
	}
	out, err := a.lendTo("-", f)
	if err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	j, err := a.joinedLayout(d, f.joined)
	if err != nil {
		return err
	}
	snapshots, err := a.snapshotsOf(f.snapshots, j.Sets())
	if err != nil {
		return err
	}
	sets := map[string]*joined.Set{}
	for _, set := range j.Sets() {
		c := &desk.Comparison{Options: compare.Options{RecordSet: set}}
		if c.Snapshot, err = a.source(snapshots[set]); err != nil {
			return err
		}
		c.Snapshot.Options.Password = a.password()
		if err := a.useSetLayout(d, c, j); err != nil {
			return err
		}
		c.Snapshot.Options = c.Layout.Reading(c.Snapshot.Options, true)
		t, err := a.open(&c.Snapshot)
		if err != nil {
			return err
		}
		defer t.Close()
		sets[set] = &joined.Set{Name: set, Snapshot: t.Image}
		if c.Layout != nil {
			sets[set].Layout = c.Layout.Layout
		}
	}
	sheet, err := joined.Join(ctx, j.Joined, sets)
	if err != nil {
		return err
	}
	sheet.Name = j.Name
	sum := sha256.Sum256(sheet.Data)
	lent, err := a.office().Lend(ctx, d, &lend.Copy{Snapshot: sheet, SHA256: hex.EncodeToString(sum[:]), Key: j.BaseKey(), Texts: true}, a.path(out), out)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": out, "joined": j.Name, "sets": j.Sets(), "rows": lent.Records, "columns": lent.Fields})
	}
	a.out.Line("%s  %s of %s", screen.Strong(screen.Safe(out)), screen.Plural(lent.Records, "row"), words.List(j.Sets()))
	a.next("edit " + out + ", then: paletwin compare --joined " + f.joined + " " + strings.Join(snapshotWords(f.snapshots), " ") + " " + out)
	return nil
}

func snapshotWords(said []string) (all []string) {
	for _, text := range said {
		all = append(all, "--snapshot "+text)
	}
	return all
}
