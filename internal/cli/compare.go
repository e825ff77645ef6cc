package cli

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/wear"
	"paletwin/core/words"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

type compareFlags struct {
	key                      []string
	missing, blank, allow    string
	deleteList, into, title  string
	keepList                 string
	recordSet, memory        string
	noDossier, otherRegister bool
	verbose, checkAll        bool
	wear, savedIn, dayOrder  string
	layout, slips            string
	joined                   string   // the layout of a joined sheet
	snapshots                []string // SET=FILE, of a joined sheet
	files                    fileFlags
	from                     sourceFlags
	blankSaid, missingSaid   bool // the flags were given: they go over the source and the layout
	allowSaid                bool
	exact                    bool // two tables are read whole
	wearSaid, slipsSaid      bool
}

func newCompare(a *app) *cobra.Command {
	var f compareFlags
	cmd := &cobra.Command{
		Use:   "compare SNAPSHOT [EDITED …]",
		Short: "Compare a snapshot with its edited copy, or several, and make a dossier of the differences",
		Long: `Compare a snapshot with its edited copy, or several, and make a dossier of the differences.

Two tables of databases are compared where they are: only the records that differ are
read, byte by byte, without a look for wear and slips. --exact reads both whole.`,
		Example: `  paletwin compare aids.csv aids-edited.csv --key aid_no
  paletwin compare aids.csv mairead.xlsx tomas.ods   # two people edited a copy each
  paletwin compare visits.csv visits-edited.csv --key aid_no,due --missing delete
  paletwin compare aids.csv --key aid_no --delete-list struck-off.txt
  paletwin compare 'sqlite:register.db#aids_october' 'sqlite:register.db#aids'
  paletwin compare aids-of-today.csv --into 0003   # the same changes, on newer records
  paletwin compare --joined round --snapshot visits=visits.csv --snapshot aids=aids.csv --snapshot depots=depots.csv round.xlsx`,
		Args: exactly(1, -1, "SNAPSHOT [EDITED …]"),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.wearSaid, f.slipsSaid = a.tuned[cmd].set.Changed("wear"), a.tuned[cmd].set.Changed("slips")
			f.blankSaid, f.missingSaid, f.allowSaid = cmd.Flags().Changed("blank"), cmd.Flags().Changed("missing"), cmd.Flags().Changed("allow")
			if f.joined != "" {
				if f.from.source+f.from.as != "" || len(f.from.columns) > 0 {
					return usage("the layout of a joined sheet says what its headings are: leave --source, --as and --map out")
				}
				return a.compareJoined(cmd.Context(), args, &f)
			}
			if len(f.snapshots) > 0 {
				return usage("--snapshot names the records of a joined sheet: say --joined LAYOUT, or name the snapshot first")
			}
			return a.compare(cmd.Context(), args, &f)
		},
	}
	fl := cmd.Flags()
	fl.StringSliceVar(&f.key, "key", nil, "the `fields` that identify a record: a or a,b")
	fl.StringVar(&f.missing, "missing", compare.Held, "`hold|delete|keep` a record that the copy lacks")
	fl.StringVar(&f.blank, "blank", compare.Held, "`hold|clear|keep` a cell that the copy empties")
	fl.StringVar(&f.allow, "allow", "amend,add,delete", "the `acts` that may be proposed")
	fl.StringVar(&f.deleteList, "delete-list", "", "a `file` with the keys of records to delete")
	fl.StringVar(&f.keepList, "keep-list", "", "a `file` with the keys of the records that stay: all others are to be deleted")
	fl.BoolVar(&f.exact, "exact", false, "of two tables of databases: read both whole, and do not compare them where they are")
	fl.BoolVar(&f.otherRegister, "other-register", false, "go on although few rows of the copy match the snapshot")
	fl.StringVar(&f.joined, "joined", "", "the copy is a sheet with records of several sets on a row: its `layout`, by name or file")
	fl.StringArrayVar(&f.snapshots, "snapshot", nil, "of a joined sheet: what a set was before, as `SET=FILE`; repeatable")
	fl.StringVar(&f.into, "into", "", "compare anew into the `dossier`, which must not have run yet; without a copy, lay what it changes on a newer SNAPSHOT")
	fl.BoolVar(&f.noDossier, "rehearse", false, "only print the summary; keep nothing")
	fl.StringVar(&f.title, "title", "", "what the dossier is called (default: the edited file's name)")
	fl.BoolVar(&f.verbose, "columns", false, "say what was found out about the files, and which column is which field")
	fl.StringVar(&f.layout, "layout", "", "the layout's `file` (default: layouts/RECORD-SET.yaml of the desk, if there is one)")
	fl.BoolVar(&f.checkAll, "check-all", false, "check all of the copy's values against the layout, not only new and changed ones")
	fl.StringVar(&f.wear, "wear", "on", "`on|off`: tell what software did to the copy from edits, or compare bytes")
	fl.StringVar(&f.savedIn, "saved-in", "", "the `locale` of the program that saved the copy, if it is known: de-DE")
	fl.StringVar(&f.dayOrder, "day-order", "", "the order of day and month there, if it is known: `dmy|mdy`")
	fl.StringVar(&f.slips, "slips", compare.SlipsHold, "`hold|warn|off` what looks like a slip of the hand")
	fl.StringVar(&f.from.source, "source", "", "read the copy as those of this `source` are read: columns, sheet, codes, what a missing row is")
	fl.StringArrayVar(&f.from.columns, "map", nil, "`'Their heading=field'`: which field a heading of the copy is; repeatable")
	fl.StringVar(&f.from.as, "as", "", "keep how the copy was read as a source of this `name`, for --source")
	fl.BoolVar(&f.from.replace, "replace", false, "with --as: in the place of what is kept under that name")
	f.files.flags(cmd)
	fl.StringVar(&f.memory, "memory", "", "use no more memory than this beside the files' own pages: 512MiB")
	fl.StringVar(&f.recordSet, "record-set", "", "the record set's `name` (default: from the snapshot's file name)")
	return cmd
}

func (a *app) compare(ctx context.Context, args []string, f *compareFlags) error {
	t, err := a.tables(args)
	if err != nil {
		return err
	}
	if t == nil && f.exact {
		return usage("--exact is about two tables of databases; files are always read whole")
	}
	c, err := a.comparison(args, f, t)
	if err != nil {
		return err
	}
	var old *desk.Dossier // whose changes are laid on newer records
	if f.into != "" && len(args) == 1 && f.deleteList+f.keepList == "" {
		if old, err = a.into(f.into); err != nil {
			return err
		}
		if c.Options.RecordSet = old.Set().Name; f.noDossier {
			return usage("--into says into which dossier, and --rehearse that there is none")
		}
	}
	if err := a.useLayout(c, f); err != nil {
		return err
	}
	if c.Options.Memory > 0 {
		spill := disk.NewSpill("")
		defer spill.Close()
		c.Options.Spill = spill.Bytes
		defer debug.SetMemoryLimit(debug.SetMemoryLimit(heapFor(c.Options.Memory))) // what is free is given back in time
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	if t != nil {
		if err := a.between(ctx, d, c, t, f); err != nil {
			return err
		}
	}
	switch {
	case f.noDossier:
		if err := a.retried(ctx, d, c, t, func() error { return a.preview(ctx, d, c) }); err != nil {
			return err
		}
		return a.keepSender(d, c, f.from.as)
	case old != nil:
		c.Title = f.title
		x, res, err := a.office().CatchUp(ctx, old, c)
		a.made = err == nil
		if err != nil {
			return err
		}
		return a.compared(ctx, x, res, f, false)
	case f.into != "":
		unlock, err := a.compareInto(c, f.into)
		if err != nil {
			return err
		}
		defer unlock()
	}
	return a.intoDossier(ctx, d, c, t, f)
}

// intoDossier compares, and makes a dossier of what differs.
func (a *app) intoDossier(ctx context.Context, d *desk.Desk, c *desk.Comparison, t *betweenTables, f *compareFlags) error {
	first := d.New()
	c.DropEmpty = f.title == ""
	var x *desk.Dossier
	var res *compare.Result
	err := a.retried(ctx, d, c, t, func() (err error) {
		x, res, err = d.Compare(ctx, c)
		return err
	})
	a.made = err == nil
	if err != nil {
		return err
	}
	if err := a.keepSender(d, c, f.from.as); err != nil {
		return err
	}
	if x == nil {
		a.read(c.Inputs, res, f)
		return a.nothing(c, res)
	}
	return a.compared(ctx, x, res, f, first)
}

// read says what was found out about the files, if that is asked for.
func (a *app) read(inputs []*desk.Input, res *compare.Result, f *compareFlags) {
	if !f.verbose {
		return
	}
	for _, in := range inputs {
		a.hint("%s: %s", screen.Safe(in.Name), foundWords(in.Found))
	}
	a.columns(res)
}

// compared says what a comparison found.
func (a *app) compared(ctx context.Context, t *desk.Dossier, res *compare.Result, f *compareFlags, first bool) error {
	if first {
		a.hint("%s", screen.Dim("this folder is a desk now: "+a.shown(filepath.Join(t.Desk().Dir, desk.SettingsName))+" says so"))
	}
	since := a.since(ctx, t)
	if a.json {
		return a.printJSON(compareJSON(t, res, since))
	}
	a.summary(summaryOf(t), res.Findings)
	a.sinceWords(t, since)
	a.read(t.Inputs(), res, f)
	n := t.Meta.Number
	if res.Changes.Changes() == 0 {
		a.hint("the copy changes nothing")
		return nil
	}
	a.nextDecision(n, &res.Changes, res.Findings)
	return nil
}

// nothing says that nothing differs, and that therefore no dossier was made.
func (a *app) nothing(c *desk.Comparison, res *compare.Result) error {
	if a.json {
		return a.printJSON(compareJSON(nil, res, nil))
	}
	a.summary(&summary{title: c.Title, set: desk.RecordSet{Name: res.RecordSet, Key: c.Options.Key, Records: res.Records, Copies: res.Copies,
		Changes: res.Changes, Fields: res.Changes.ByField, Totals: res.Totals}, compared: true}, res.Findings)
	a.hint("nothing changes, and no dossier is made of that; --title NAME makes one")
	return nil
}

// nextDecision says what can be done with a change set that is new.
func (a *app) nextDecision(number string, t *changeset.Tally, findings []changeset.Finding) {
	if !t.AllHeld() {
		a.next("paletwin show "+number, "paletwin approve "+number+" --all")
		return
	}
	or := "paletwin approve " + number + " --all --held"
	groups := changeset.Groups(findings)
	if i := slices.IndexFunc(groups, func(g changeset.Group) bool { return g.Settle != "" }); i >= 0 {
		or = settling(number, &groups[i]) + otherwise(&groups[i])
	}
	a.next("paletwin show "+number+" --findings", or)
}

// check says what is wrong with the command line.
func (f *compareFlags) check(args []string) error {
	if err := f.checkValues(); err != nil {
		return err
	}
	if len(args) == 1 && f.deleteList+f.keepList == "" && f.into == "" {
		return usage("paletwin compare needs an edited copy, or a list of records to delete with --delete-list")
	}
	if f.keepList != "" && (f.deleteList != "" || len(args) > 1) {
		return usage("--with keep-list says by itself what is to be deleted: leave the edited copy and --delete-list out")
	}
	inputs := 0
	for _, name := range append(slices.Clone(args), f.deleteList, f.keepList) {
		if name == "-" {
			inputs++
		}
	}
	if inputs > 1 {
		return usage("only one file can be standard input")
	}
	return nil
}

// checkValues says what is wrong with what the flags say.
func (f *compareFlags) checkValues() error {
	if !slices.Contains([]string{compare.Held, compare.Asked, compare.Ignore}, f.missing) {
		return usage("--missing is hold, delete or keep, not %q", f.missing)
	}
	if !slices.Contains([]string{compare.Held, compare.Clear, compare.Ignore}, f.blank) {
		return usage("--blank is hold, clear or keep, not %q", f.blank)
	}
	switch {
	case f.wear != "on" && f.wear != "off":
		return usage("--with wear is on or off, not %q", f.wear)
	case f.savedIn != "" && wear.FindLocale(f.savedIn) == nil:
		return usage("--with saved-in knows en-US, en-GB, de-DE and fr-FR, not %q", f.savedIn)
	case f.dayOrder != "" && f.dayOrder != "dmy" && f.dayOrder != "mdy":
		return usage("--with day-order is dmy or mdy, not %q", f.dayOrder)
	}
	if !slices.Contains([]string{compare.SlipsHold, compare.SlipsWarn, compare.SlipsOff}, f.slips) {
		return usage("--with slips is hold, warn or off, not %q", f.slips)
	}
	return f.files.check()
}

// told is a comparison with what the flags say of it, and no files yet.
func (a *app) told(f *compareFlags) (*desk.Comparison, error) {
	c := &desk.Comparison{By: a.user, Tool: Version, Now: a.now(), Options: compare.Options{
		Key: f.key, OtherRegister: f.otherRegister, CheckAll: f.checkAll}}
	c.ChooseKey = a.keyOf(&c.Snapshot)
	c.Options.Slips = f.slips
	c.Options.Wear, c.Options.Year, c.Options.SavedIn, c.Options.DayOrder = f.wear == "on", a.now().Year(), f.savedIn, f.dayOrder
	if f.missingSaid {
		c.Options.Missing = f.missing
	}
	if f.blankSaid {
		c.Options.Blank = f.blank
	}
	var err error
	if c.Options.Memory, err = parseSize(f.memory); err != nil {
		return nil, err
	}
	c.Options.Allow, err = parseActs(strings.Split(f.allow, ","))
	return c, err
}

// heapFor is how much of the memory that is allowed the heap may take: a part of it is the program's own. Below 64 MiB the collector
// would have little else to do.
func heapFor(allowed int64) int64 { return max(allowed-allowed/16, 64<<20) }

// parseActs reads acts that are allowed.
func parseActs(words []string) (acts []changeset.Act, err error) {
	for _, w := range words {
		act, err := changeset.ParseAct(strings.TrimSpace(w))
		if err != nil {
			return nil, usage("--allow: %v", err)
		}
		acts = append(acts, act)
	}
	return acts, nil
}

// comparison turns the command line into a comparison.
// Tables that are named are not read yet.
func (a *app) comparison(args []string, f *compareFlags, t *betweenTables) (*desk.Comparison, error) {
	if err := f.check(args); err != nil {
		return nil, err
	}
	c, err := a.told(f)
	if err != nil {
		return nil, err
	}
	source := a.source
	if t != nil {
		source = func(name string) (desk.Source, error) {
			return desk.Source{Name: target.Public(a.named(name)), Taken: true}, nil
		}
	}
	if c.Snapshot, err = source(args[0]); err != nil {
		return nil, err
	}
	c.Snapshot.Options.Password = a.password()
	title := stem(args[0])
	var titles []string
	for i, name := range args[1:] {
		s, err := source(name)
		if err != nil {
			return nil, err
		}
		if name = cmp.Or(map[string]string{"-": "standard input"}[name], name); !slices.Contains(titles, stem(name)) {
			titles = append(titles, stem(name))
		}
		if title = words.List(titles); len(titles) > 3 {
			title = fmt.Sprintf("%s, %d copies", stem(args[0]), len(titles))
		}
		if i == 0 {
			c.Edited = &s
		} else {
			c.More = append(c.More, &s)
		}
	}
	tellApart(c)
	if list := cmp.Or(f.deleteList, f.keepList); list != "" {
		s, err := a.source(list)
		if err != nil {
			return nil, err
		}
		c.DeleteList, c.Keep = &s, f.keepList != ""
		if len(args) == 1 {
			title = stem(list)
		}
	}
	d, err := a.desk()
	if err != nil {
		return nil, err
	}
	sent, err := a.sender(d, f)
	if err != nil {
		return nil, err
	}
	if err := a.sends(c, sent); err != nil {
		return nil, err
	}
	c.Title = cmp.Or(f.title, title)
	if c.Options.RecordSet = f.recordSet; c.Options.RecordSet == "" {
		c.Options.RecordSet = recordSetName(a.named(args[0]))
		if t != nil { // of two tables, aids_before and aids, it is the one that the desk knows
			for _, name := range args {
				set := recordSetName(a.named(name))
				if l, err := d.FindLayout(set); err != nil || l != nil {
					c.Options.RecordSet = set
					break
				}
			}
		}
	}
	return c, nil
}

// tellApart gives copies of one name as much of their paths as tells them apart.
func tellApart(c *desk.Comparison) {
	all := c.Copies()
	path := func(s *desk.Source, parts int) string {
		at := strings.Split(filepath.ToSlash(s.Path), "/")
		return strings.Join(at[max(0, len(at)-parts):], "/")
	}
	for _, s := range all {
		if s.Path == "" {
			continue
		}
		same := func(parts int) bool {
			return slices.ContainsFunc(all, func(o *desk.Source) bool { return o.Path != s.Path && path(o, parts) == path(s, parts) })
		}
		parts := 1
		for same(parts) {
			parts++
		}
		if parts > 1 {
			s.Name = path(s, parts)
		}
	}
}

var sizeForm = regexp.MustCompile(`^([0-9]+)\s*([KMG]?)i?B?$`)

// parseSize reads a number of bytes: 512MiB, 2G.
func parseSize(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	m := sizeForm.FindStringSubmatch(text)
	if m == nil {
		return 0, usage("--with memory takes a size such as 512MiB or 2G, not %q", text)
	}
	n, err := strconv.ParseInt(m[1], 10, 32)
	if err != nil || n == 0 {
		return 0, usage("--with memory takes a size such as 512MiB or 2G, not %q", text)
	}
	return n << (10 * strings.Index("BKMG", cmp.Or(m[2], "B"))), nil
}

// source is what the command line names to be read: a file, standard input, or a table
// of a database, by a URL or a name on the desk.
func (a *app) source(name string) (desk.Source, error) {
	if name == "-" {
		return desk.Source{Name: "standard input", Stream: a.stdin}, nil
	}
	d, err := a.desk()
	if err != nil {
		return desk.Source{}, err
	}
	if a.isTable(d, name) {
		s, end, err := a.office().Source(a.ctx, d, target.In(a.wd, a.named(name)), nil, nil)
		if err == nil {
			a.ends = append(a.ends, end)
		}
		return s, err
	}
	file, sheet := a.sheetOf(name)
	s := desk.Source{Path: a.path(file), Name: filepath.Base(file)}
	s.Options.Sheet = sheet
	if k := d.TakenAs(s.Path); k != nil {
		s.Taken, s.Key = true, k.Key
	}
	return s, nil
}

// sheetOf cuts FILE#SHEET where that file is there, and none of a longer name.
func (a *app) sheetOf(name string) (file, sheet string) {
	for i := len(name); i > 0; i = strings.LastIndexByte(name[:i], '#') {
		if _, err := a.fs.Lstat(a.path(name[:i])); err == nil {
			return name[:i], strings.TrimPrefix(name[i:], "#")
		}
	}
	return name, ""
}

// named is the URL of a table that has a name on the desk; other names stay.
func (a *app) named(name string) string {
	d, err := a.desk()
	if err != nil || !a.isTable(d, name) {
		return name
	}
	name, _ = update.TargetOf(d, name)
	return name
}

// isTable reports whether a name is that of a table of a database. A file that is there
// goes over a name on the desk.
func (a *app) isTable(d *desk.Desk, name string) bool {
	if _, is := update.TargetOf(d, name); !is {
		return false
	}
	_, err := a.fs.Stat(a.path(name))
	return err != nil
}

// stem is what a file, or a table, is called without what stands around it.
func stem(name string) string {
	if at, err := target.ParseAddress(name); err == nil {
		return at.Table
	}
	base := filepath.Base(name)
	if i := strings.LastIndexByte(base, '#'); i > 0 && strings.Contains(base[:i], ".") {
		base = base[:i]
	}
	return strings.TrimSuffix(base, filepath.Ext(base))
}

var dated = regexp.MustCompile(`[-_. ]*[0-9][-_.0-9]*$`)

// recordSetName takes a file's name for the name of its record set, without
// a date or number at its end.
func recordSetName(file string) string {
	s := stem(file)
	if short := dated.ReplaceAllString(s, ""); short != "" {
		s = short
	}
	if s == "-" || s == "" {
		return "records"
	}
	return s
}

// into opens the dossier that something is compared anew into.
func (a *app) into(name string) (*desk.Dossier, error) {
	t, err := a.whole(name)
	if err == nil && (t.Several() || t.IsPart()) {
		err = usage("dossier %s is a part of dossier %s, whose record sets belong together: compare all of them again, and reject what the old one has", t.Meta.Number, t.Whole().Meta.Number)
		if t.Several() {
			err = usage("dossier %s has several record sets, and is not compared anew: compare all of them again, and reject what the old one has", t.Meta.Number)
		}
	}
	return t, err
}

// compareInto takes the dossier whose place the new one takes, locked.
func (a *app) compareInto(c *desk.Comparison, name string) (func(), error) {
	t, err := a.into(name)
	if err != nil {
		return nil, err
	}
	lock, err := t.Lock()
	if err != nil {
		return nil, err
	}
	unlock := func() { _ = lock.Unlock() } // the process ends with it
	runs, err := run.Runs(t)
	if err == nil && len(runs) > 0 {
		err = &run.Refusal{Code: "has-run", Text: fmt.Sprintf("dossier %s has been carried out and is not compared anew", t.Meta.Number)}
	}
	if err != nil {
		unlock()
		return nil, err
	}
	c.Into = t
	c.Options.RecordSet = t.Set().Name
	return unlock, nil
}

// preview compares without making a dossier.
func (a *app) preview(ctx context.Context, d *desk.Desk, c *desk.Comparison) error {
	res, err := d.Preview(ctx, c)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(compareJSON(nil, res, nil))
	}
	a.summary(&summary{title: c.Title, set: desk.RecordSet{Name: c.Options.RecordSet, Key: c.Options.Key, Records: res.Records, Copies: res.Copies,
		Changes: res.Changes, Fields: res.Changes.ByField, Totals: res.Totals, DeletesHeld: res.DeletesHeld}, compared: true}, res.Findings)
	return nil
}

// open opens a source without keeping it.
func (a *app) open(s *desk.Source) (*desk.Table, error) { return desk.OpenSource(a.fs, s) }
