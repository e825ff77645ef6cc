package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/joined"
	"paletwin/core/layout"
	"paletwin/core/lend"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

// takesSet gives commands on a dossier, and those below them, the flag that names one of its record sets.
func takesSet(a *app, all ...*cobra.Command) {
	for _, cmd := range all {
		cmd.Flags().StringVar(&a.set, "record-set", "", "of a dossier of several record sets: this one, by its `name`")
		takesSet(a, cmd.Commands()...)
	}
}

// whole opens the dossier with the given name, which may have several record sets.
func (a *app) whole(name string) (*desk.Dossier, error) {
	t, err := a.opened(name)
	if err != nil || a.set == "" || t.IsPart() {
		return t, err
	}
	return t.Part(a.set)
}

// whichSet is a command on one record set, of a dossier that has several.
type whichSet struct{ t *desk.Dossier }

func (e *whichSet) Error() string {
	return "dossier " + e.t.Meta.Number + " has " + screen.Plural(len(e.t.Meta.Sets), "record set") + ": " + words.List(e.t.SetNames())
}

// eachSet does something with each record set of a dossier, those that are referred to first.
func (a *app) eachSet(name string, do func(t *desk.Dossier) error) error {
	t, err := a.whole(name)
	if err != nil {
		return err
	}
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	return a.eachOf(parts, do)
}

// eachOf is eachSet for some record sets. The highest of their exit codes is its own.
func (a *app) eachOf(parts []*desk.Dossier, do func(t *desk.Dossier) error) error {
	code := 0
	for i, p := range parts {
		if i > 0 && !a.json {
			a.out.Line("")
		}
		var ends *exitError
		switch err := do(p); {
		case errors.As(err, &ends):
			code = max(code, ends.code)
		case err != nil:
			return err
		}
	}
	return exit(code)
}

// setsJSON is what is printed for machines of a dossier of several record sets.
type setsJSON struct {
	Dossier    *string          `json:"dossier"`
	Path       *string          `json:"path"`
	Sets       any              `json:"sets"`
	References []desk.Reference `json:"references"`
}

func setsOf(t *desk.Dossier, sets any) *setsJSON {
	path := t.Rel(t.Dir)
	return &setsJSON{&t.Meta.Number, &path, sets, orEmpty(t.Meta.References)}
}

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
		return usage("with --joined the keys and the record sets are those of the layout: leave --key, --layout and --record-set out")
	case f.deleteList+f.keepList+f.into != "":
		return usage("--delete-list, --keep-list and --into are of one record set, and a joined sheet has several")
	case f.memory != "":
		return usage("--memory is of the comparison of one record set, and a joined sheet has several")
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
	f.files.reading(&from, 1, a.password())
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
		f.files.reading(&c.Snapshot, 0, a.password())
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
	c.Snapshot.Options.HeadingRow, c.Snapshot.Options.Sheet = max(c.Snapshot.Options.HeadingRow, l.HeadingRow), cmp.Or(c.Snapshot.Options.Sheet, l.Sheet)
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
		sets = append(sets, desk.RecordSet{Name: r.RecordSet, Records: r.Records, Changes: r.Changes})
	}
	a.out.Line("%s", screen.Strong(screen.Safe(title)))
	a.setLines(sets, nil)
	for _, r := range results {
		a.setFindings(r.RecordSet, r.Findings)
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

// summarySets prints a line each for the record sets of a dossier, and their findings.
func (a *app) summarySets(t *desk.Dossier, parts []*desk.Dossier) error {
	a.out.Line("%s  %s", screen.Strong(t.Meta.Number), screen.Strong(screen.Safe(t.Meta.Title)))
	line := screen.Plural(len(parts), "record set")
	if len(t.Meta.Edited) > 0 {
		line += " in " + screen.Safe(t.Meta.Edited[0].Name)
	}
	if t.Meta.Undoes != nil {
		line += ", by " + t.Meta.By
	}
	a.out.Line("%s", screen.Dim(line))
	var sets []desk.RecordSet
	var stands []string
	for _, p := range parts {
		sets = append(sets, *p.Set())
		m, err := p.Contents()
		if err != nil {
			return err
		}
		stands = append(stands, tallyOf(m).String())
		if err := m.Close(); err != nil {
			return err
		}
	}
	a.setLines(sets, stands)
	for _, p := range parts {
		findings, err := p.Findings()
		if err != nil {
			return err
		}
		a.setFindings(p.Set().Name, findings)
	}
	return nil
}

// setLines prints a line for each record set.
func (a *app) setLines(sets []desk.RecordSet, stands []string) {
	a.out.Line("")
	t := screen.Table{Indent: "  ", Right: []bool{false, true, true, true, true, true}, Heading: []string{"record set", "records", "amend", "fields", "add", "delete", ""}}
	for i := range sets {
		s := &sets[i]
		how := ""
		if stands != nil {
			how = screen.Dim(stands[i])
		}
		t.Row(screen.Safe(s.Name), some(s.Records.Snapshot), some(s.Changes.Amend), some(s.Changes.FieldChanges), some(s.Changes.Add), some(s.Changes.Delete), how)
	}
	t.Print(a.out)
}

// setFindings prints the findings of one of several record sets.
func (a *app) setFindings(set string, findings []changeset.Finding) {
	if len(findings) == 0 {
		return
	}
	a.out.Line("")
	a.out.Line("%s", screen.Strong(screen.Safe(set)))
	a.findings(findings, false)
}

// showSets shows a dossier of several record sets: a line each, or what is asked for of each.
func (a *app) showSets(t *desk.Dossier) error {
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	if err := a.summarySets(t, parts); err != nil {
		return err
	}
	n := t.Meta.Number
	a.next("paletwin show "+n+" --record-set "+parts[len(parts)-1].Set().Name, "paletwin approve "+n+" --all")
	return nil
}

// decideSets decides on several record sets: ids are looked for in all of them, and a group is one of each.
func (a *app) decideSets(t *desk.Dossier, sel *selection, o *desk.Order) error {
	if sel.where != "" || len(sel.records) > 0 {
		return &whichSet{t}
	}
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	names, err := sharedOut(parts, o.Names)
	if err != nil {
		return err
	}
	var chosen []*desk.Dossier
	for i, p := range parts {
		switch fits, err := sel.fits(p); {
		case err != nil:
			return err
		case len(o.Names) > 0 && len(names[i]) == 0, !fits:
		default:
			chosen = append(chosen, p)
		}
	}
	if len(chosen) == 0 {
		return usage("no record set of dossier %s has the field %s", t.Meta.Number, strings.Join(sel.fields, ", "))
	}
	all := changeset.Touched{Others: map[changeset.Whose]int{}}
	var sets []any
	said := false
	for _, p := range chosen {
		own := *o
		own.Names = names[slices.Index(parts, p)]
		n, err := a.decideOn(p, sel, &own)
		if err != nil {
			return err
		}
		all.Sum(&n)
		switch {
		case a.json:
			sets = append(sets, decidedJSON(p, &own, n))
		case n.Changes > 0 || n.InTheWay() || n.Already > 0:
			said = true
			a.out.Line("%s", screen.Strong(screen.Safe(p.Set().Name)))
			if err := a.quietly(func() error { return a.sayDecided(p, &own, n) }); err != nil {
				return err
			}
		}
	}
	switch {
	case a.json:
		if err := a.printJSON(setsOf(t, sets)); err != nil {
			return err
		}
	case !said:
		a.out.Line("nothing %s: no change is selected by that", participle[o.Decision])
	}
	if o.Decision == changeset.Approve && all.Changes > 0 {
		apply := "paletwin apply " + t.Meta.Number
		if t.Meta.Undoes == nil {
			apply += " --to FOLDER"
		}
		a.next(apply, "paletwin show "+t.Meta.Number)
	}
	if all.InTheWay() {
		return exit(exitLook)
	}
	return nil
}

// quietly does something without hints: what comes next is said once, of all record sets.
func (a *app) quietly(do func() error) error {
	quiet := a.quiet
	defer func() { a.quiet = quiet }()
	a.quiet = true
	return do()
}

// fits reports whether a record set has all fields that are named.
func (s *selection) fits(t *desk.Dossier) (bool, error) {
	if len(s.fields) == 0 {
		return true, nil
	}
	c, err := t.Changes()
	if err != nil {
		return false, err
	}
	defer c.Close()
	return !slices.ContainsFunc(s.fields, func(f string) bool { return !slices.Contains(c.Header.Fields, f) }), nil
}

// sharedOut finds which record set's changes ids are of.
func sharedOut(parts []*desk.Dossier, names []string) ([][]string, error) {
	all := make([][]string, len(parts))
	if len(names) == 0 {
		return all, nil
	}
	found := make([]bool, len(names))
	for i, p := range parts {
		c, err := p.Changes()
		if err != nil {
			return nil, err
		}
		for k, name := range names {
			id, _, _ := strings.Cut(name, "/")
			lines, err := c.Find(id, 2)
			if err == nil && len(lines) > 0 {
				all[i], found[k] = append(all[i], name), true
			}
		}
		if err := c.Close(); err != nil {
			return nil, err
		}
	}
	if k := slices.Index(found, false); k >= 0 {
		all[0] = append(all[0], names[k]) // it says what is wrong with it
	}
	return all, nil
}

// applySets carries a dossier of several record sets out.
func (a *app) applySets(ctx context.Context, t *desk.Dossier, f *applyFlags) error {
	switch {
	case f.First > 0:
		return usage("--first is of one record set: name it with --record-set, or rehearse all with --rehearse")
	case f.detach:
		return usage("--detach is of one record set: name it with --record-set")
	case !f.yes && !a.asks && !f.Rehearse:
		return usage("apply writes to the target and there is nobody to ask: say --yes")
	}
	where, err := a.wheres(t, f.targetFlags)
	if err != nil {
		return err
	}
	progress := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	defer progress.Done()
	r := &update.ApplySets{Dossier: t, Where: where, Options: f.Options, Progress: progress.Step, Opened: func(name string, t target.Traits) { a.warnOf(name, t, f.Touched) }, Resumed: func(all []*update.SetReport) {
		progress.Done()
		a.hint("the last runs were interrupted; they are finished now, and it goes on with the rest")
		a.appliedSets(all)
	}}
	if !f.yes && !f.Rehearse {
		r.Confirm = func(sets []string, plans []*run.Plan, write []int, names []string) bool {
			return a.confirmSets(ctx, sets, plans, write, names)
		}
	}
	all, err := a.office().ApplySets(ctx, r)
	progress.Done()
	if err != nil {
		return err
	}
	if len(all) > 0 && all[0].Declined {
		a.hint("nothing was written")
		return exit(exitLook)
	}
	if a.json {
		var sets []any
		for _, s := range all {
			sets = append(sets, applyJSON(s.Dossier, s.Report))
		}
		if err := a.printJSON(setsOf(t, sets)); err != nil {
			return err
		}
	} else {
		a.appliedSets(all)
	}
	code, refused, ran := 0, false, false
	for _, s := range all {
		code = max(code, applyCode(s.Report, f.LeaveOpen))
		refused, ran = refused || s.Steps.Refused+s.Steps.Conflict+s.Left.Open+s.Left.Held > 0, ran || s.Run > 0
	}
	n := t.Meta.Number
	switch {
	case f.Rehearse:
		a.next("paletwin apply " + n)
	case refused && ran:
		a.next("paletwin show "+n, "paletwin rollback "+n)
	case ran:
		a.next("paletwin rollback " + n + "   (to undo it)")
	default:
		a.next("paletwin show " + n)
	}
	return exit(code)
}

// appliedSets says what the runs of several record sets did.
func (a *app) appliedSets(all []*update.SetReport) {
	if a.json {
		return
	}
	said := false
	var left run.Left
	for _, s := range all {
		left.Open, left.Held, left.Approved = left.Open+s.Left.Open, left.Held+s.Left.Held, left.Approved+s.Left.Approved
		if len(s.Attempted)+len(s.Waiting) == 0 && s.Run == 0 {
			continue
		}
		if said {
			a.out.Line("")
		}
		said = true
		_ = a.quietly(func() error { a.applied(s.Dossier, s.Report); return nil }) // it gives none
	}
	if !said {
		a.out.Line("nothing to carry out%s", leftWords(left))
	}
}

// confirmSets asks once, with the true numbers of all record sets.
func (a *app) confirmSets(ctx context.Context, sets []string, plans []*run.Plan, write []int, names []string) bool {
	tab := screen.Table{Indent: "  ", Right: []bool{false, true}}
	all := 0
	for i, p := range plans {
		if len(p.Steps) == 0 {
			continue
		}
		all += write[i]
		tab.Row(screen.Safe(sets[i]), screen.Strong(screen.Count(write[i])), "of "+screen.Count(len(p.Steps))+" approved", screen.Dim("to ")+a.shown(names[i]))
	}
	tab.Print(a.say)
	a.say.Line("%s will be written, after a backup of each", screen.Strong(screen.Plural(all, "record")))
	return a.goOn(ctx)
}

// rollbackSets makes a dossier that undoes the runs of several record sets.
func (a *app) rollbackSets(ctx context.Context, t *desk.Dossier, f *rollbackFlags) error {
	if err := f.check(a); err != nil {
		return err
	}
	if f.run > 0 || len(f.records)+len(f.fields) > 0 {
		return &whichSet{t}
	}
	where, err := a.wheres(t, f.targetFlags)
	if err != nil {
		return err
	}
	if f.current != "" {
		if where, err = a.exportsOf(t, f.current); err != nil {
			return err
		}
	}
	made, err := a.office().RollbackSets(ctx, t, where, run.Undo{OtherTarget: f.other})
	a.made = err == nil
	if err != nil {
		return err
	}
	parts, err := made.Parts()
	if err != nil {
		return err
	}
	n := made.Meta.Number
	if a.json && !f.apply {
		var sets []any
		for _, p := range parts {
			sets = append(sets, map[string]any{"dossier": p.Meta.Number, "path": p.Rel(p.Dir), "undoes": p.Meta.Undoes, "changes": p.Set().Changes})
		}
		return a.printJSON(setsOf(made, sets))
	}
	if !a.json {
		if err := a.summarySets(made, parts); err != nil {
			return err
		}
	}
	if !f.apply {
		a.next("paletwin show "+n, "paletwin approve "+n+" --all && paletwin "+f.carries()+" "+n)
		return nil
	}
	touched := false
	for _, p := range parts {
		if _, err := p.Decide(&desk.Order{Decision: changeset.Approve, By: a.user, When: a.now(), Note: "rollback --apply", How: "rollback --apply"}); err != nil {
			return err
		}
		last, err := run.LastTarget(p)
		if err != nil {
			return err
		}
		touched = touched || last != nil && last.Touched
	}
	if !a.json {
		a.out.Line("")
	}
	return a.applySets(ctx, made, &applyFlags{targetFlags: f.targetFlags, yes: f.yes, Options: run.Options{OtherTarget: f.other, Touched: touched}})
}

// exportsOf are the fresh exports of several record sets, in a folder.
func (a *app) exportsOf(t *desk.Dossier, folder string) (map[string]update.Where, error) {
	all := map[string]update.Where{}
	for _, set := range t.SetNames() {
		file, err := a.within(t, folder, set)
		if err != nil {
			return nil, err
		}
		if file != "" {
			all[set] = update.Where{Current: file}
		}
	}
	return all, nil
}

// verifySets proves the record sets that have runs, by their targets or by a folder with fresh exports.
func (a *app) verifySets(ctx context.Context, t *desk.Dossier, fresh []string, to string, expect []string) error {
	if len(expect) > 0 || to != "" {
		return &whichSet{t}
	}
	exports := map[string]update.Where{}
	if len(fresh) > 0 {
		var err error
		if exports, err = a.exportsOf(t, fresh[0]); err != nil {
			return err
		}
	}
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	var proven []*desk.Dossier
	for _, p := range parts {
		last, err := run.LastTarget(p)
		if err != nil {
			return err
		}
		if last != nil && (len(fresh) == 0 || exports[p.Set().Name].Current != "") {
			proven = append(proven, p)
		}
	}
	if len(proven) == 0 {
		return update.NothingDone(t)
	}
	return a.eachOf(proven, func(p *desk.Dossier) error { return a.verify(ctx, p, exports[p.Set().Name].Current, "", nil) })
}

// handoffSets makes load files of several record sets.
func (a *app) handoffSets(ctx context.Context, t *desk.Dossier, f *handoffFlags) error {
	o, err := f.options()
	switch {
	case err != nil:
		return err
	case f.First > 0:
		return usage("--first is of one record set: name it with --record-set")
	}
	r := &update.HandOffSets{Dossier: t, Files: o, Options: f.Options, Current: map[string]string{}}
	if f.current != "" {
		exports, err := a.exportsOf(t, f.current)
		if err != nil {
			return err
		}
		for set, w := range exports {
			r.Current[set] = w.Current
		}
	}
	if f.out != "" {
		r.Out = a.path(f.out)
	}
	progress := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	defer progress.Done()
	r.Progress = progress.Step
	all, parts, dir, err := a.office().HandOffSets(ctx, r)
	progress.Done()
	if err != nil {
		return err
	}
	code := 0
	var sets []any
	for i, rep := range all {
		code = max(code, applyCode(rep.Report, f.LeaveOpen))
		if a.json {
			j := applyJSON(parts[i], rep.Report).(map[string]any)
			delete(j, "verify")
			j["loads"], j["by_hand"] = orNone(rep.Loads), rep.ByHand
			sets = append(sets, j)
			continue
		}
		if i > 0 {
			a.out.Line("")
		}
		a.out.Line("%s", screen.Strong(screen.Safe(parts[i].Set().Name)))
		a.handedOff(parts[i], rep)
		a.waiting(rep.Waiting)
	}
	if a.json {
		return cmp.Or(a.printJSON(map[string]any{"dossier": t.Meta.Number, "folder": dir, "sets": sets}), exit(code))
	}
	if dir != "" {
		a.out.Line("")
		a.out.Line("%s  %s", screen.Strong(a.shown(dir)), screen.Dim("all of them, with the order in README.txt"))
		a.next("load the files in the order of its README.txt, then: paletwin handoff collect " + parts[len(parts)-1].Meta.Number + " RESULT")
	}
	return exit(code)
}

// deriveSets derives several record sets by one routine, into one dossier.
func (a *app) deriveSets(ctx context.Context, f *deriveFlags) error {
	switch {
	case f.routine == "":
		return usage("paletwin derive needs SNAPSHOT, or a routine of several record sets and their snapshots: --routine NAME --snapshot SET=FILE")
	case len(f.set)+len(f.fill)+len(f.clear)+len(f.move)+len(f.record)+len(f.key) > 0 || f.where+f.records+f.setFrom+f.add+f.out+f.layout+f.recordSet != "" || f.del:
		return usage("what is done in several record sets says the routine alone: leave all but --param, --title and --approve-within-limits out")
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
		f.files.reading(&c.Snapshot, 0, a.password())
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
