package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/lend"
	"paletwin/core/table"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

type lendFlags struct {
	replace               bool // what is kept under the name of as
	key, fields           []string
	out, where, as, again string
	layout, recordSet     string
	catchUp, snapshot     string
	joined                string   // the layout of a joined sheet
	snapshots             []string // as they were said
	files                 fileFlags
}

func newLend(a *app) *cobra.Command {
	var f lendFlags
	cmd := &cobra.Command{
		Use:   "lend [SNAPSHOT]",
		Short: "Make a copy to edit in which ids, codes and dates cannot wear",
		Long: `Make a workbook to edit from a snapshot.

Its ids and codes are text, so that no program rounds them or takes them for a date,
and the key is locked. It says inside from which snapshot it was made: compare
recognises it with certainty when it comes back. With --field or --where it holds a
part of the snapshot, and a row that is taken out of it deletes nothing.

With a layout, choices and references can be picked from a list, read-only fields
are locked, and numbers and dates are such. --as keeps the choice of fields and
records under a name on the desk; --again lends the same of another snapshot.`,
		Example: `  paletwin lend aids.csv -o edit.xlsx
  paletwin lend aids.csv -o edit.ods
  paletwin lend aids.csv --field depot,service_fee --where 'zone == "outer"' --as outer-fees
  paletwin lend october.csv --again outer-fees
  paletwin lend october.csv --catch-up edit.xlsx   # go on editing, on newer records
  paletwin lend --catch-up edit.xlsx               # the same, on those where the records live
  paletwin lend --joined round --snapshot visits=visits.csv --snapshot aids=aids.csv --snapshot depots=depots.csv`,
		Args: exactly(0, 1, "SNAPSHOT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.joined != "" {
				if len(args) > 0 {
					return usage("lend --joined takes each set's snapshot as --snapshot SET=FILE")
				}
				return a.lendJoined(cmd.Context(), &f)
			}
			if len(f.snapshots) > 1 {
				return usage("--snapshot says what the copy of --catch-up was made from, and is said once; of a joined sheet say --joined, too")
			}
			f.snapshot = strings.Join(f.snapshots, "")
			if len(args) == 0 {
				return a.lendWhereTheyLive(cmd.Context(), &f)
			}
			return a.lend(cmd.Context(), args[0], &f)
		},
	}
	fl := cmd.Flags()
	fl.StringSliceVar(&f.key, "key", nil, "the `fields` that identify a record: a or a,b (default: the layout's)")
	fl.StringSliceVar(&f.fields, "field", nil, "the `fields` to lend beside the key (default: all)")
	fl.StringVar(&f.where, "where", "", "lend only records for which this `expression` holds; needs a layout")
	fl.StringVar(&f.as, "as", "", "keep --field and --where on the desk under this `name`")
	fl.BoolVar(&f.replace, "replace", false, "with --as: in the place of what is kept under that name")
	fl.StringVar(&f.again, "again", "", "lend what was kept under this `name`")
	fl.StringVar(&f.catchUp, "catch-up", "", "lend SNAPSHOT, which is newer (default: where the records live), with the edits of this `copy` of an older one, marked")
	fl.StringArrayVar(&f.snapshots, "snapshot", nil, "the older snapshot's `file`, with --catch-up (default: found on the desk); with --joined each set's, as SET=FILE")
	fl.StringVar(&f.joined, "joined", "", "lend a sheet with records of several sets on a row: its `layout`, by name or file")
	fl.StringVarP(&f.out, "output", "o", "", "the `file` to write, .xlsx or .ods (default: the snapshot's name with -lent.xlsx)")
	fl.StringVar(&f.layout, "layout", "", "the layout's `file` (default: layouts/RECORD-SET.yaml of the desk, if there is one)")
	fl.StringVar(&f.recordSet, "record-set", "", "the record set's `name` (default: from the snapshot's file name)")
	f.files.flags(cmd)
	return cmd
}

func (a *app) lend(ctx context.Context, name string, f *lendFlags) error {
	if err := f.files.check(); err != nil {
		return err
	}
	switch {
	case f.catchUp != "" && (len(f.fields) > 0 || f.where+f.as+f.again != ""):
		return usage("--catch-up lends what the copy had: leave --field, --where, --as and --again out")
	case f.catchUp == "-" || f.snapshot == "-":
		return usage("--catch-up and --snapshot name files, which are read more than once")
	case f.catchUp == "" && f.snapshot != "":
		return usage("--snapshot says what the copy of --catch-up was made from")
	}
	out, err := a.lendTo(name, f)
	if err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	if err := a.recall(d, f); err != nil {
		return err
	}
	l, err := a.lendLayout(d, name, f)
	if err != nil {
		return err
	}
	s, err := a.source(name)
	if err != nil {
		return err
	}
	if s.Options.Password = a.password(); f.catchUp == "" {
		f.files.reading(&s, a.password())
	}
	c := &lend.Copy{Key: f.key, Fields: f.fields}
	if l != nil {
		c.Layout, s.Options = l.Layout, l.Reading(s.Options, true)
		l.Stands(&s.Options)
		if len(c.Key) == 0 {
			c.Key = l.Key
		}
		if f.where != "" {
			if c.Where, err = l.Env().CompileBool(f.where); err != nil {
				return err
			}
		}
	} else if f.where != "" {
		return usage("--where needs to know what the fields are: paletwin layout draft %s writes a first layout", name)
	}
	t, err := a.open(&s)
	if err != nil {
		return err
	}
	defer t.Close()
	if len(c.Key) == 0 {
		if c.Key, err = a.keyOf(&s)(ctx, t.Image, nil); err != nil {
			return err
		}
	}
	c.Snapshot = t.Image
	if c.SHA256, err = t.SHA256(); err != nil {
		return err
	}
	if f.catchUp != "" {
		return a.lendAgain(ctx, d, f, &update.Again{Fresh: t, Sum: c.SHA256, Key: c.Key, Set: f.recordSet, Layout: l, Year: a.now().Year(), Path: a.path(out), Name: out}, name)
	}
	keep := &desk.Selection{RecordSet: f.recordSet, Fields: f.fields, Where: f.where}
	if err := mayKeep(d, f.as, f.replace, keep); err != nil {
		return err
	}
	lent, err := a.office().Lend(ctx, d, c, a.path(out), out)
	if err != nil {
		return err
	}
	kept := ""
	if f.as != "" {
		if kept, err = d.KeepSelection(f.as, keep); err != nil {
			return err
		}
	}
	return a.sayLent(name, out, kept, lent)
}

// mayKeep refuses to keep a selection in the place of another; under no name nothing is kept.
func mayKeep(d *desk.Desk, as string, replace bool, s *desk.Selection) error {
	if as == "" || replace {
		return nil
	}
	return d.MayKeep(as, s)
}

// lendWhereTheyLive lends the records of a copy as they are now where they live.
func (a *app) lendWhereTheyLive(ctx context.Context, f *lendFlags) error {
	if f.catchUp == "" || f.catchUp == "-" {
		return usage("paletwin lend needs SNAPSHOT")
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	s, err := a.source(f.catchUp)
	if err != nil {
		return err
	}
	f.files.reading(&s, a.password())
	name, set, err := a.office().Lives(d, &s)
	if err != nil {
		return err
	}
	f.recordSet, f.out = cmp.Or(f.recordSet, set), cmp.Or(f.out, stem(f.catchUp)+"-lent.xlsx")
	return a.lend(ctx, name, f)
}

// lendAgain lends newer records with the edits of an older copy.
func (a *app) lendAgain(ctx context.Context, d *desk.Desk, f *lendFlags, r *update.Again, name string) error {
	var err error
	if r.Edited, err = a.source(f.catchUp); err != nil {
		return err
	}
	f.files.reading(&r.Edited, a.password())
	if f.snapshot != "" {
		old, err := a.source(f.snapshot)
		if err != nil {
			return err
		}
		r.Old = &old
	}
	lent, err := a.office().LendAgain(ctx, d, r)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": r.Name, "snapshot": map[string]any{"name": lent.Name, "sha256": lent.Snapshot, "records": lent.All}, "key": lent.Key, "fields": lent.Fields,
			"records": lent.Lent.Records, "narrow": lent.Narrow(), "edited": lent.Kept.Records, "taken_out": len(lent.Gone), "moved": lent.Moved, "settled": lent.Settled, "left": orEmpty(lent.Left), "findings": orEmpty(lent.Stopped)})
	}
	a.out.Line("%s  %s of %s, with the edits of %s", screen.Strong(screen.Safe(r.Name)), screen.Plural(lent.Lent.Records, "record"), screen.Safe(lent.Name), screen.Safe(r.Edited.Name))
	t := screen.Table{Indent: "  ", Right: []bool{true}}
	for _, x := range []struct {
		n    int
		what string
	}{{lent.Kept.Records, "edited, or new; the columns \"edited\" and \"meanwhile\" say how"}, {lent.Moved, "of these changed by others in the same fields"},
		{len(lent.Gone), "taken out again"}, {lent.Settled, "there already as they were to be"}, {len(lent.Left), "left out"}} {
		if x.n > 0 {
			t.Row(screen.Count(x.n), x.what)
		}
	}
	t.Print(a.out)
	const most = 10
	for _, text := range lent.Left[:min(len(lent.Left), most)] {
		a.out.Line("  %s  %s", screen.Level("warn"), screen.Safe(text))
	}
	if n := len(lent.Left) - most; n > 0 {
		a.out.Line("  %s", screen.Dim(fmt.Sprintf("and %d more: the sheet \"left out\" has them all", n)))
	}
	a.findings("", lent.Stopped, true)
	a.next("edit " + r.Name + ", then: paletwin compare " + name + " " + r.Name)
	return nil
}

// lendTo is the file to write: a new one.
func (a *app) lendTo(name string, f *lendFlags) (string, error) {
	out := f.out
	if out == "" {
		if name == "-" {
			return "", usage("lend needs -o FILE where the snapshot is standard input")
		}
		out = stem(name) + "-lent.xlsx"
	}
	if ext := strings.ToLower(filepath.Ext(out)); ext != ".xlsx" && ext != ".ods" {
		return "", usage("lend writes an .xlsx or .ods workbook, which keeps texts as texts; %q is none", out)
	}
	if _, err := a.fs.Lstat(a.path(out)); err == nil {
		return "", usage("%s is there already; name another file with -o", out)
	}
	return out, nil
}

// recall takes what was kept under a name.
func (a *app) recall(d *desk.Desk, f *lendFlags) error {
	if f.again == "" {
		return nil
	}
	s, err := a.recalled(d, f.again, f.fields, f.where)
	if err != nil {
		return err
	}
	f.fields, f.where, f.recordSet = s.Fields, s.Where, cmp.Or(f.recordSet, s.RecordSet)
	return nil
}

// recalled is what was kept under a name; what is said besides would be lost.
func (a *app) recalled(d *desk.Desk, name string, fields []string, where string) (*desk.Selection, error) {
	if len(fields) > 0 || where != "" {
		return nil, usage("--again takes the fields and records that were kept: leave --field and --where out")
	}
	s, err := d.Selection(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, usage("nothing is kept under the name %q; there are %s", name, cmp.Or(strings.Join(d.SelectionNames(), ", "), "none: --as NAME keeps one"))
	}
	return s, err
}

// lendLayout is the layout of what is lent, or nil.
func (a *app) lendLayout(d *desk.Desk, name string, f *lendFlags) (*desk.Layout, error) {
	if f.recordSet == "" {
		f.recordSet = recordSetName(a.named(name))
	}
	if f.layout == "" {
		return d.FindLayout(f.recordSet)
	}
	return a.namedLayout(f.layout)
}

func (a *app) sayLent(name, out, kept string, lent *table.Lent) error {
	if a.json {
		return a.printJSON(map[string]any{"file": out, "snapshot": map[string]any{"name": lent.Name, "sha256": lent.Snapshot, "records": lent.All},
			"key": lent.Key, "fields": lent.Fields, "locked": lent.Locked, "records": lent.Records, "narrow": lent.Narrow()})
	}
	a.out.Line("%s  %s of %s, %s of %d", screen.Strong(screen.Safe(out)), screen.Plural(lent.Records, "record"), screen.Safe(lent.Name),
		screen.Plural(len(lent.Fields), "field"), lent.Of)
	if lent.Narrow() {
		a.hint("%s", screen.Dim("a narrow copy: what it lacks stays as it is, and a row taken out of it deletes nothing"))
	}
	if kept != "" {
		a.hint("%s", screen.Dim("kept in "+a.shown(kept)))
	}
	a.next("edit " + out + ", then: paletwin compare " + name + " " + out)
	return nil
}
