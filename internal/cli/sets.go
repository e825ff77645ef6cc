package cli

import (
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/words"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
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
		a.setFindings(p.Meta.Number, p.Set(), findings)
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

// setFindings prints the sums and the findings of one of several record sets.
func (a *app) setFindings(number string, set *desk.RecordSet, findings []changeset.Finding) {
	if len(findings)+len(set.Totals) == 0 {
		return
	}
	a.out.Line("")
	a.out.Line("%s", screen.Strong(screen.Safe(set.Name)))
	a.totals(set)
	a.findings(number, findings, false)
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
			apply = "say where the records live: " + apply + " --to FOLDER"
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

// count counts the changes of a record set that are selected; -1 says that it lacks a field that is named.
func (s *selection) count(t *desk.Dossier) (int, error) {
	if fits, err := s.fits(t); err != nil || !fits {
		return -1, err
	}
	c, err := t.Changes()
	if err != nil {
		return 0, err
	}
	defer c.Close()
	filter, err := s.filter(t, c)
	if err != nil {
		return 0, err
	}
	n := 0
	err = pick(c, &filter, func(*picked) error { n++; return nil })
	return n, err
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
