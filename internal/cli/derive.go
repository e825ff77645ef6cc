package cli

import (
	"cmp"
	"context"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	screen "paletwin/internal/term"
)

type deriveFlags struct {
	key, record, set, fill, clear, move []string
	records, where, add, setFrom        string
	out, title, layout, recordSet       string
	routine                             string
	param                               []string
	del, within                         bool
	snapshots                           []string // SET=FILE, of a routine of several record sets
	files                               fileFlags
}

func newDerive(a *app) *cobra.Command {
	var f deriveFlags
	cmd := &cobra.Command{
		Use:   "derive SNAPSHOT",
		Short: "Make an update from expressions, without a spreadsheet",
		Long: `Make a dossier, or with -o an edited copy, from expressions over the snapshot's records.
All of them see the record as it was: --set 'a = b' --set 'b = a' exchanges the two.
Without --where and --records all records are meant; both together mean both.
docs/derive.md has a table: in words, and as a command.`,
		Example: `  paletwin derive aids.csv --where 'zone == "outer"' --set 'service_fee = round(service_fee * 1.04, 2)'
  paletwin derive aids.csv --records withdrawn.txt --set 'status = "withdrawn"'
  paletwin derive aids.csv --routine autumn-fees --with rate=1.04
  paletwin derive --routine block-party --with party=S017 --snapshot aids=aids.csv --snapshot staff=staff.csv`,
		Args: exactly(0, 1, "SNAPSHOT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.param = a.params; len(args) == 0 {
				return a.deriveSets(cmd.Context(), &f)
			}
			if len(f.snapshots) > 0 {
				return usage("--snapshot names the record sets of a routine of several: leave %s out, or name it so", args[0])
			}
			return a.derive(cmd.Context(), args[0], &f)
		},
	}
	fl := cmd.Flags()
	fl.StringSliceVar(&f.key, "key", nil, "the `fields` that identify a record: a or a,b (default: the layout's)")
	fl.StringVar(&f.where, "where", "", "only records for which this `expression` holds")
	fl.StringVar(&f.records, "records", "", "only records that this `file` lists: keys, or a table with the key's columns; - is standard input")
	fl.StringArrayVar(&f.record, "record", nil, "only this `key`: 00417, or aid_no=00417,due=2026-03-01")
	fl.StringArrayVar(&f.set, "set", nil, "`'field = expression'`")
	fl.StringArrayVar(&f.fill, "fill", nil, "the same, only where the field is empty: `'field = expression'`")
	fl.StringSliceVar(&f.clear, "clear", nil, "empty these `fields`")
	fl.StringArrayVar(&f.move, "move", nil, "move a field's value to another and empty it: `from=to`")
	fl.StringVar(&f.setFrom, "set-from", "", "take values from a `file` with the key and some fields")
	fl.StringVar(&f.add, "add", "", "add the records of this `file`")
	fl.BoolVar(&f.del, "delete", false, "delete the records; needs --where or --records")
	fl.StringVarP(&f.out, "output", "o", "", "write an edited copy to this .csv `file` instead of making a dossier")
	fl.StringVar(&f.title, "title", "", "what the dossier is called")
	fl.StringArrayVar(&f.snapshots, "snapshot", nil, "of a routine of several record sets: each of these, as `SET=FILE`; repeatable")
	fl.StringVar(&f.routine, "routine", "", "what is kept in routines/`NAME`.yaml")
	fl.BoolVar(&f.within, "approve-within-limits", false, "approve the acts that stay within the routine's limits")
	fl.StringVar(&f.layout, "layout", "", "the layout's `file` (default: layouts/RECORD-SET.yaml of the desk, if there is one)")
	fl.StringVar(&f.recordSet, "record-set", "", "the record set's `name` (default: from the snapshot's file name)")
	f.files.flags(cmd)
	cmd.AddCommand(newRoutines(a))
	return cmd
}

func newRoutines(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "routines",
		Short: "List the routines of the desk",
		Args:  exactly(0, 0, "nothing"),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			var tab screen.Table
			tab.Heading = []string{"routine", "does", "parameters"}
			all := []ordered{}
			for _, name := range d.RoutineNames() {
				r, err := d.Routine(name)
				if err != nil {
					return err
				}
				all = append(all, ordered{{"name", name}, {"description", r.Description}, {"parameters", r.Params}})
				tab.Row(screen.Strong(screen.Safe(name)), screen.Safe(r.Description), screen.Dim(screen.Safe(r.ParamWords())))
			}
			if a.json {
				return a.printJSON(all)
			}
			if tab.Len() == 0 {
				a.out.Line("no routines: routines/NAME.yaml keeps one")
				return nil
			}
			tab.Print(a.out)
			return nil
		},
	}
}

func (a *app) derive(ctx context.Context, name string, f *deriveFlags) error {
	if err := f.files.check(); err != nil {
		return err
	}
	if name == "-" && f.records == "-" {
		return usage("only one file can be standard input")
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	var routine *desk.Routine
	if f.routine != "" {
		if routine, err = d.Routine(f.routine); err != nil {
			return err
		}
		if len(routine.Sets) > 0 {
			return usage("the routine %s is of several record sets: name each as --snapshot SET=FILE (%s)", f.routine, strings.Join(routine.SetNames(), ", "))
		}
		if err := f.recall(routine); err != nil {
			return err
		}
	}
	if err := f.check(); err != nil {
		return err
	}
	c, err := a.derivation(d, name, f)
	if err != nil {
		return err
	}
	if f.out != "" {
		return a.deriveTo(ctx, c, f)
	}
	if routine != nil {
		c.Options.Limits, c.Options.LimitsOf = &routine.Limits, "the routine "+f.routine
	}
	first := d.New()
	c.DropEmpty = f.title == "" && !f.within
	t, res, err := d.Compare(ctx, c)
	a.made = err == nil
	if err != nil {
		return err
	}
	if t == nil {
		return a.nothing(c, res)
	}
	if first {
		a.hint("%s", screen.Dim("this folder is a desk now: "+a.shown(filepath.Join(d.Dir, desk.SettingsName))+" says so"))
	}
	return a.derived(ctx, t, res, f, routine)
}

// derived says what a derivation came to, and approves what a routine's limits allow.
func (a *app) derived(ctx context.Context, t *desk.Dossier, res *compare.Result, f *deriveFlags, routine *desk.Routine) (err error) {
	var approved changeset.Touched
	if f.within {
		if approved, err = a.approveWithin(t, routine); err != nil {
			return err
		}
	}
	code := 0
	if f.within && approved.Changes < res.Changes.Changes() {
		code = exitLook // nobody is there to look, and something has to be looked at
	}
	since := a.since(ctx, t)
	if a.json {
		if err := a.printJSON(compareJSON(t, res, since)); err != nil {
			return err
		}
		return exit(code)
	}
	a.summary(summaryOf(t), res.Findings)
	a.sinceWords(t, since)
	if res.Changes.Changes() == 0 {
		a.hint("nothing changes")
		return nil
	}
	if approved.Changes > 0 {
		a.out.Line("")
		return cmp.Or(a.sayDecided(t, &desk.Order{Decision: changeset.Approve}, approved), exit(code))
	}
	if f.within {
		a.out.Line("")
		a.out.Line("nothing approved: what is beyond the routine's limits, or has none, waits for a decision")
	}
	a.nextDecision(t.Meta.Number, &res.Changes, res.Findings)
	return exit(code)
}

// check says what of the command line cannot be.
func (f *deriveFlags) check() error {
	works := len(f.set)+len(f.fill)+len(f.clear)+len(f.move) > 0 || f.setFrom != ""
	selects := f.where != "" || f.records != "" || len(f.record) > 0
	switch {
	case !works && !f.del && f.add == "":
		return usage("what is to be derived? --set 'field = expression', --fill, --clear, --move, --set-from, --add or --delete")
	case f.del && works:
		return usage("records are deleted or amended, not both: leave --delete or the others out")
	case f.del && !selects:
		return usage("--delete needs --where, --records or --record: it does not delete everything")
	case f.out != "" && !strings.EqualFold(filepath.Ext(f.out), ".csv"):
		return usage("an edited copy is written as .csv; %q is none", f.out)
	case f.within && f.routine == "":
		return usage("--with approve-within-limits goes by a routine's limits: --routine NAME")
	case len(f.param) > 0 && f.routine == "":
		return usage("derive has no setting %q, and a parameter is a routine's: --routine NAME", f.param[0])
	}
	return nil
}

// derivation turns the command line into a comparison whose edited state is
// derived.
func (a *app) derivation(d *desk.Desk, name string, f *deriveFlags) (*desk.Comparison, error) {
	c := &desk.Comparison{By: a.user, Tool: Version, Now: a.now(), Title: f.title, Edited: &desk.Source{Name: "derived.csv"},
		Options: compare.Options{Key: f.key, RecordSet: f.recordSet, Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear}, SlipSearch: compare.SlipSearch{Slips: compare.SlipsOff}}}
	if c.Options.RecordSet == "" {
		c.Options.RecordSet = recordSetName(a.named(name))
	}
	if c.Title == "" {
		c.Title = f.words()
	}
	var err error
	if c.Snapshot, err = a.source(name); err != nil {
		return nil, err
	}
	c.ChooseKey = a.keyOf(&c.Snapshot)
	f.files.reading(&c.Snapshot, a.password())
	if err := a.useLayout(c, &compareFlags{layout: f.layout, recordSet: f.recordSet, missingSaid: true, blankSaid: true}); err != nil {
		return nil, err
	}
	if len(c.Options.Key) == 0 && c.Layout != nil {
		c.Options.Key = c.Layout.Key
	}
	c.Derivation = f.how()
	c.Derive = func(ctx context.Context, snapshot *table.Image, w io.Writer) ([]changeset.Finding, error) {
		if len(c.Options.Key) == 0 {
			key, err := c.ChooseKey(ctx, snapshot, nil)
			if err != nil {
				return nil, err
			}
			c.Options.Key = key
		}
		x, fields, err := a.compileDerivation(c, snapshot, f)
		if err != nil {
			return nil, err
		}
		res, err := x.Write(ctx, snapshot, fields, w)
		if err != nil {
			return nil, err
		}
		return res.Findings, nil
	}
	return c, nil
}

// words are what is derived, for a title.
func (f *deriveFlags) words() string {
	switch {
	case f.routine != "":
		return f.routine
	case f.del:
		return "delete"
	case len(f.set) > 0:
		return f.set[0]
	case len(f.fill) > 0:
		return "fill " + f.fill[0]
	case len(f.move) > 0:
		return "move " + f.move[0]
	case len(f.clear) > 0:
		return "clear " + strings.Join(f.clear, " ")
	case f.setFrom != "":
		return stem(f.setFrom)
	}
	return "add " + stem(f.add)
}

// how is what the dossier keeps of the command.
func (f *deriveFlags) how() map[string]any {
	m := map[string]any{}
	for name, list := range map[string][]string{"record": f.record, "set": f.set, "fill": f.fill, "clear": f.clear, "move": f.move, "param": f.param} {
		if len(list) > 0 {
			m[name] = list
		}
	}
	for name, text := range map[string]string{"where": f.where, "records": f.records, "add": f.add, "set_from": f.setFrom, "routine": f.routine} {
		if text != "" {
			m[name] = text
		}
	}
	if f.del {
		m["delete"] = true
	}
	return m
}

// beside opens a file that goes with the snapshot, and reads it.
func (a *app) beside(name string, rename func(*table.Image), read func(m *table.Image) error) error {
	file, sheet := a.sheetOf(name)
	t, err := desk.OpenTable(a.fs, a.path(file), filepath.Base(file), table.Options{Password: a.password(), Sheet: sheet, Rename: rename})
	if err != nil {
		return err
	}
	defer t.Close()
	return read(t.Image)
}

// deriveTo writes an edited copy.
func (a *app) deriveTo(ctx context.Context, c *desk.Comparison, f *deriveFlags) error {
	path := a.path(f.out)
	if _, err := a.fs.Lstat(path); err == nil {
		return usage("%s is there already; name another file with -o", f.out)
	}
	c.Snapshot.Options = c.Layout.Reading(c.Snapshot.Options, true)
	t, err := a.open(&c.Snapshot)
	if err != nil {
		return err
	}
	defer t.Close()
	var found []changeset.Finding
	_, err = disk.WriteUnsummed(a.fs, path, 0o600, func(w io.Writer) (err error) {
		found, err = c.Derive(ctx, t.Image, w)
		return err
	})
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": path, "findings": orEmpty(found)})
	}
	a.out.Line("%s", screen.Strong(screen.Safe(f.out)))
	a.findings("", found, true)
	return nil
}

// recall takes what a routine keeps; what the command line says besides is
// added.
func (f *deriveFlags) recall(r *desk.Routine) error {
	values, err := r.Values(f.param)
	if err != nil {
		return usage("%s: %v", f.routine, err)
	}
	fill := func(text string) string { return desk.FillIn(text, values) }
	if r.Where != "" {
		if f.where != "" {
			return usage("the routine says which records: leave --where out")
		}
		f.where = fill(r.Where)
	}
	for _, x := range []struct {
		to   *[]string
		from []string
	}{{&f.set, r.Set}, {&f.fill, r.Fill}, {&f.clear, r.Clear}, {&f.move, r.Move}} {
		for _, text := range x.from {
			*x.to = append(*x.to, fill(text))
		}
	}
	f.del = f.del || r.Delete
	if f.recordSet == "" {
		f.recordSet = r.RecordSet
	}
	if len(f.key) == 0 {
		f.key = r.Key
	}
	f.param = nil
	for _, name := range slices.Sorted(maps.Keys(values)) {
		f.param = append(f.param, name+"="+values[name].Text)
	}
	return nil
}

// approveWithin approves the acts for which a routine has limits. What goes
// over them is held by the comparison, and a group leaves it alone.
func (a *app) approveWithin(t *desk.Dossier, r *desk.Routine) (changeset.Touched, error) {
	var acts []changeset.Act
	for _, x := range []struct {
		act   changeset.Act
		limit layout.Limit
	}{{changeset.Amend, r.Limits.Amend}, {changeset.Add, r.Limits.Add}, {changeset.Delete, r.Limits.Delete}} {
		if x.limit.Set {
			acts = append(acts, x.act)
		}
	}
	if len(acts) == 0 {
		return changeset.Touched{}, nil
	}
	return t.Decide(&desk.Order{Decision: changeset.Approve, Filter: changeset.Filter{Acts: acts}, By: a.user, When: a.now(),
		Note: "within the routine's limits", How: "derive --with approve-within-limits"})
}
