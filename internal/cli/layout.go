package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/compare"
	"paletwin/core/joined"
	"paletwin/core/layout"
	kinds "paletwin/core/schema"
	"paletwin/core/shape"
	"paletwin/core/table"
	"paletwin/docs/schema"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

func newLayout(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "layout",
		Short: "Say once what the records are: draft, test and show a layout",
		Long: `A layout says what the records of a record set are: the key, the kinds of values,
which are allowed, what has to hold. It stands in the desk's layouts folder and is
found by the record set's name. docs/layouts.md is its guide.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("layout has draft, test, show and schema, not %q", args[0])
			}
			return cmd.Help()
		},
	}
	cmd.AddCommand(newLayoutDraft(a), newLayoutTest(a), newLayoutShow(a), newLayoutSchema(a))
	return cmd
}

func newLayoutDraft(a *app) *cobra.Command {
	var out, set, sheet string
	var snapshots []string
	var files fileFlags
	cmd := &cobra.Command{
		Use:   "draft SNAPSHOT [COPY]",
		Short: "Write a first layout from a snapshot, with what was seen in comments",
		Example: `  paletwin layout draft aids.csv
  paletwin layout draft aids.csv changes.xlsx   # what came back has another shape than a row a record
  paletwin layout draft --joined round --snapshot visits=visits.csv --snapshot aids=aids.csv round.xlsx   # of several sets
  paletwin layout draft aids.csv -o -`,
		Args: exactly(0, 2, "SNAPSHOT [COPY]"),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case sheet != "" && len(args) < 2:
				return a.draftJoined(cmd.Context(), sheet, snapshots, args, out, &files)
			case sheet != "":
				return usage("layout draft --joined takes each set's snapshot as --snapshot SET=FILE, and the sheet")
			case len(args) == 0:
				return usage("paletwin layout draft needs SNAPSHOT [COPY]")
			}
			return a.layoutDraft(cmd.Context(), args, out, set, &files)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` to write; - prints it (default: layouts/RECORD-SET.yaml of the desk)")
	cmd.Flags().StringVar(&set, "record-set", "", "the record set's `name` (default: from the snapshot's file name)")
	cmd.Flags().StringVar(&sheet, "joined", "", "draft the layout of a sheet with records of several sets on a row, under this `name`")
	cmd.Flags().StringArrayVar(&snapshots, "snapshot", nil, "with --joined: each of the sets, as `SET=FILE`; repeatable")
	files.flags(cmd)
	return cmd
}

func (a *app) layoutDraft(ctx context.Context, args []string, out, set string, files *fileFlags) error {
	name := args[0]
	if err := files.check(); err != nil {
		return err
	}
	s, err := a.source(name)
	if err != nil {
		return err
	}
	if s.Options.Password = a.password(); len(args) == 1 {
		files.reading(&s, a.password())
	}
	t, err := a.open(&s)
	if err != nil {
		return err
	}
	defer t.Close()
	if set == "" {
		set = recordSetName(a.named(name))
	}
	keys, err := compare.Candidates(ctx, t.Image, nil)
	if err != nil {
		return err
	}
	var together []string
	togetherOf := func(avoid []string) ([]string, error) {
		var err error
		together, err = compare.Together(ctx, t.Image, avoid...)
		return together, err
	}
	lists, closing, err := a.listsBeside(ctx, s.Path)
	if err != nil {
		return err
	}
	defer closing()
	text, err := layout.Draft(ctx, t.Image, set, keys, togetherOf, s.Options, lists)
	if err != nil {
		return err
	}
	if len(args) == 2 {
		key := together
		if len(keys) > 0 {
			key = keys[:1]
		}
		more, err := a.draftShape(t, args[1], key, files)
		if err != nil {
			return err
		}
		text = append(text, more...)
	}
	path, err := a.writeDraft(text, out, set)
	if err != nil || path == "" {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": a.shown(path), "record_set": set, "fields": len(t.Heading), "keys": keys, "together": orEmpty(together)})
	}
	a.out.Line("%s  a first layout of %s, %s", screen.Strong(a.shown(path)), screen.Safe(set), screen.Plural(len(t.Heading), "field"))
	a.next("read and correct it: every line says what was seen", "paletwin layout test "+a.shown(path)+" "+name)
	return nil
}

// mostBeside and largeBeside are how many files beside a snapshot are looked at as lists, and how large they may be.
const (
	mostBeside  = 50
	largeBeside = 4 << 20
)

// listsBeside opens the tables that lie beside a file and may be lists. What cannot be read is none.
func (a *app) listsBeside(ctx context.Context, path string) (lists []*layout.Beside, closing func(), err error) {
	var open []*desk.Table
	closing = func() {
		for _, t := range open {
			_ = t.Close() // only read
		}
	}
	if path == "" {
		return nil, closing, nil
	}
	entries, err := a.fs.ReadDir(filepath.Dir(path))
	if err != nil {
		return nil, closing, nil // the snapshot was read; who may not list its folder has no lists
	}
	for _, e := range entries {
		name := filepath.Join(filepath.Dir(path), e.Name())
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Size() > largeBeside || name == path || len(open) == mostBeside || !slices.Contains([]string{".csv", ".xlsx"}, strings.ToLower(filepath.Ext(name))) {
			continue
		}
		t, err := desk.OpenTable(a.fs, name, e.Name(), table.Options{})
		if err != nil {
			continue
		}
		open = append(open, t)
		l := &layout.Beside{File: e.Name(), Table: t.Image}
		if is, err := l.Read(ctx); err == nil && is {
			lists = append(lists, l)
		} else if ctx.Err() != nil {
			return nil, closing, ctx.Err()
		}
	}
	return lists, closing, nil
}

// writeDraft writes a draft, or prints it; then path is "".
func (a *app) writeDraft(text []byte, out, name string) (path string, err error) {
	if out == "-" {
		_, err := a.data().Write(text)
		return "", err
	}
	path = a.path(out)
	if out == "" {
		d, err := a.desk()
		if err != nil {
			return "", err
		}
		path = d.LayoutPath(name)
	}
	err = desk.WriteNew(a.fs, path, text)
	if errors.Is(err, fs.ErrExist) {
		err = usage("%s is there already; name another file with -o, or print the draft with -o -", a.shown(path))
	}
	return path, err
}

// draftJoined writes a first layout of a joined sheet.
func (a *app) draftJoined(ctx context.Context, name string, said, args []string, out string, files *fileFlags) error {
	if err := files.check(); err != nil {
		return err
	}
	if len(said) < 2 {
		return usage("layout draft --joined needs the sets that a row holds, each as --snapshot SET=FILE")
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	var sets []*joined.Known
	for _, text := range said {
		set, file, ok := strings.Cut(text, "=")
		if !ok || slices.ContainsFunc(sets, func(k *joined.Known) bool { return k.Name == set }) {
			return usage("--snapshot takes a record set and its file, each once: visits=visits.csv, not %q", text)
		}
		k, t, err := a.knownSet(ctx, d, set, file, files)
		if err != nil {
			return err
		}
		defer t.Close()
		sets = append(sets, k)
	}
	var sheet *table.Image
	for _, arg := range args {
		s, err := a.source(arg)
		if err != nil {
			return err
		}
		files.reading(&s, a.password())
		t, err := a.open(&s)
		if err != nil {
			return err
		}
		defer t.Close()
		sheet = t.Image
	}
	text, err := joined.Draft(ctx, name, sets, sheet)
	if err != nil {
		return err
	}
	path, err := a.writeDraft(text, out, name)
	if err != nil || path == "" {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"file": a.shown(path), "joined": name, "sets": len(sets)})
	}
	a.out.Line("%s  a first layout of %s, %s", screen.Strong(a.shown(path)), screen.Safe(name), screen.Plural(len(sets), "record set"))
	a.next("read and correct it", "paletwin compare --joined "+name+" "+strings.Join(snapshotWords(said), " ")+" "+cmp.Or(strings.Join(args, ""), "SHEET"))
	return nil
}

// knownSet opens a set of which a joined sheet is drafted: its key is the layout's, or else the first that
// may be.
func (a *app) knownSet(ctx context.Context, d *desk.Desk, set, file string, files *fileFlags) (*joined.Known, *desk.Table, error) {
	l, err := d.FindLayout(set)
	if err != nil {
		return nil, nil, err
	}
	s, err := a.source(file)
	if err != nil {
		return nil, nil, err
	}
	files.reading(&s, a.password())
	s.Options = l.Reading(s.Options, true)
	t, err := a.open(&s)
	if err != nil {
		return nil, nil, err
	}
	k := &joined.Known{Name: set, Table: t.Image}
	if l != nil {
		k.Layout, k.Key = l.Layout, l.Key
		return k, t, nil
	}
	keys, err := compare.Candidates(ctx, t.Image, nil)
	if err == nil && len(keys) > 0 {
		k.Key = keys[:1]
	} else if err == nil {
		k.Key, err = compare.Together(ctx, t.Image)
	}
	if err == nil && len(k.Key) == 0 {
		err = usage("no column of %s is filled and different on every row, and no few are together: say its key in a layout first (paletwin layout draft %s --record-set %s)", file, file, set)
	}
	return k, t, err
}

// draftShape proposes the shape of a copy.
func (a *app) draftShape(snapshot *desk.Table, name string, key []string, files *fileFlags) ([]byte, error) {
	s, err := a.source(name)
	if err != nil {
		return nil, err
	}
	files.reading(&s, a.password())
	t, err := a.open(&s)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	text, err := shape.Draft(snapshot.Image, t.Image, key)
	if err == nil && text == nil {
		a.hint("%s", screen.Dim(screen.Safe(t.Name)+" has no other shape than a row for each record"))
	}
	return text, err
}

func newLayoutTest(a *app) *cobra.Command {
	var files fileFlags
	cmd := &cobra.Command{
		Use:     "test LAYOUT FILE",
		Short:   "Try a layout against a file: findings and a summary by field",
		Example: `  paletwin layout test layouts/aids.yaml aids.csv`,
		Args:    exactly(2, 2, "LAYOUT FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.layoutTest(cmd.Context(), args[0], args[1], &files)
		},
	}
	files.flags(cmd)
	return cmd
}

func (a *app) layoutTest(ctx context.Context, name, file string, files *fileFlags) error {
	if err := files.check(); err != nil {
		return err
	}
	l, err := a.namedLayout(name)
	if err != nil {
		return err
	}
	s, err := a.source(file)
	if err != nil {
		return err
	}
	files.reading(&s, a.password())
	s.Options = l.Reading(s.Options, true)
	l.Stands(&s.Options)
	t, err := a.open(&s)
	if err != nil {
		return err
	}
	defer t.Close()
	r, err := l.Check(ctx, t.Image)
	if err != nil {
		return err
	}
	for i := range r.Found {
		if r.Found[i].Where != "" { // rows of several sheets are no numbers
			r.Found[i].Rows = nil
		}
	}
	if a.json {
		if err := a.printJSON(map[string]any{"layout": l.RecordSet, "file": file, "records": r.Records, "fields": r.Fields, "findings": orEmpty(r.Found),
			"unknown": orEmpty(r.Unknown), "absent": orEmpty(r.Absent)}); err != nil {
			return err
		}
	} else {
		a.layoutReport(l, file, t.Image, r)
	}
	if len(r.Found) > 0 {
		return exit(exitLook)
	}
	return nil
}

func (a *app) layoutReport(l *desk.Layout, file string, m *table.Image, r *layout.Report) {
	p := a.out
	p.Line("%s", screen.Strong(screen.Safe(cmp.Or(l.Title, l.RecordSet))))
	p.Line("%s: %s", screen.Safe(file), screen.Plural(r.Records, "record"))
	p.Line("")
	t := screen.Table{Indent: "  ", Heading: []string{"field", "kind", "filled", "distinct", "lowest", "highest", "longest", "wrong"}, Right: []bool{false, false, true, true, false, false, true, true}}
	low, high := 0, 0 // how wide numbers are, which stand under each other
	ends := func(f *layout.Summary) (string, string) {
		return screen.Cut(screen.Safe(f.Min), 20), screen.Cut(screen.Safe(f.Max), 20)
	}
	for i := range r.Fields {
		if f := &r.Fields[i]; isNumber(f.Kind) {
			a, b := ends(f)
			low, high = max(low, len([]rune(a))), max(high, len([]rune(b)))
		}
	}
	for i := range r.Fields {
		f, wrong := &r.Fields[i], ""
		if n := wrongValues(r, f.Field); n > 0 {
			wrong = screen.Count(n)
		}
		least, most := ends(f)
		if isNumber(f.Kind) {
			least, most = fmt.Sprintf("%*s", low, least), fmt.Sprintf("%*s", high, most)
		}
		t.Row(screen.Safe(f.Field), string(f.Kind), screen.Count(f.Filled), screen.Count(f.Distinct), least, most, screen.Count(f.Longest), wrong)
	}
	t.Print(p)
	for _, x := range []struct {
		names []string
		words string
	}{{r.Unknown, "columns that the layout does not know: "}, {r.Absent, "fields without a column: "}} {
		if len(x.names) > 0 {
			p.Line("")
			p.Line("  %s%s", x.words, columnList(x.names))
		}
	}
	if len(r.Found) > 0 {
		p.Line("")
	}
	found := screen.Table{Indent: "  "}
	const most = 40
	for _, f := range r.Found[:min(len(r.Found), most)] {
		where := screen.Safe(f.Where)
		if where == "" {
			where = rowList(f.Rows)
		}
		found.Row(screen.Level(f.Level), screen.Dim(f.Code), screen.Safe(f.Field), screen.Safe(f.Text), screen.Dim(where))
	}
	found.Print(p)
	if n := len(r.Found) - most; n > 0 {
		p.Line("  and %d more (all with --json)", n)
	}
	if len(r.Found) == 0 {
		p.Line("")
		p.Line("  all values are as the layout says")
	}
}

// isNumber reports whether values of a kind are numbers.
func isNumber(k kinds.Kind) bool {
	return slices.Contains([]kinds.Kind{kinds.Integer, kinds.Decimal, kinds.Percent, kinds.Money}, k)
}

func wrongValues(r *layout.Report, field string) int {
	n := 0
	for _, f := range r.Found {
		if f.Field == field {
			n += f.Count
		}
	}
	return n
}

func newLayoutShow(a *app) *cobra.Command {
	return &cobra.Command{
		Use:     "show LAYOUT",
		Short:   "Print what a layout says, as it is understood",
		Example: `  paletwin layout show aids`,
		Args:    exactly(1, 1, "LAYOUT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := a.namedLayout(args[0])
			if err != nil {
				return err
			}
			return a.layoutShow(l)
		},
	}
}

func (a *app) layoutShow(l *desk.Layout) error {
	type fieldJSON struct {
		Field   string   `json:"field"`
		Kind    string   `json:"kind"`
		Says    string   `json:"says"`
		Aliases []string `json:"aliases"`
	}
	if a.json {
		var all []fieldJSON
		for i := range l.Fields {
			f := &l.Fields[i]
			all = append(all, fieldJSON{f.Name, string(f.Kind), f.Says(), orEmpty(f.Aliases)})
		}
		rules := []map[string]string{}
		for _, r := range l.Rules {
			rules = append(rules, map[string]string{"name": r.Name, "check": r.Check.Source, "level": r.Level, "message": r.Message})
		}
		return a.printJSON(map[string]any{"record_set": l.RecordSet, "title": l.Title, "key": l.Key, "fields": all, "rules": rules})
	}
	p := a.out
	p.Line("%s  record set %s, key %s", screen.Strong(screen.Safe(cmp.Or(l.Title, l.RecordSet))), screen.Safe(l.RecordSet), screen.Safe(strings.Join(l.Key, ", ")))
	for _, s := range l.Says() {
		p.Line("  %s", screen.Safe(s))
	}
	p.Line("")
	t := screen.Table{Indent: "  ", Heading: []string{"field", "kind", "what is asked of it"}}
	for i := range l.Fields {
		f := &l.Fields[i]
		t.Row(screen.Safe(f.Name), string(f.Kind), screen.Safe(f.Says()))
	}
	t.Print(p)
	if len(l.Rules) == 0 {
		return nil
	}
	p.Line("")
	for _, r := range l.Rules {
		p.Line("  %s  %s", screen.Level(r.Level), screen.Strong(screen.Safe(r.Name)))
		p.Line("        %s", screen.Safe(r.Check.Source))
		p.Line("        %s", screen.Dim(screen.Safe(r.Message)))
	}
	return nil
}

func newLayoutSchema(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of layouts, for an editor that completes and checks",
		Args:  exactly(0, 0, "no argument"),
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(a.stdout, schema.Layout)
			return err
		},
	}
}

// namedLayout opens a layout by its file's name, or by a record set's.
func (a *app) namedLayout(name string) (*desk.Layout, error) {
	d, err := a.desk()
	if err != nil {
		return nil, err
	}
	if _, err := a.fs.Stat(a.path(name)); err != nil && !strings.ContainsAny(name, `./\`) {
		l, err := d.FindLayout(name)
		if err != nil || l != nil {
			return l, err
		}
		return nil, usage("there is no layout %q; there are %s", name, cmp.Or(strings.Join(d.LayoutNames(), ", "), "none: paletwin layout draft SNAPSHOT writes a first one"))
	}
	return d.OpenLayout(a.path(name))
}

// useLayout gives a comparison the layout that was named, or the record set's.
func (a *app) useLayout(c *desk.Comparison, f *compareFlags) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	var l *desk.Layout
	if f.layout != "" {
		if l, err = a.namedLayout(f.layout); err == nil && f.recordSet == "" {
			c.Options.RecordSet = l.RecordSet
		}
	} else {
		l, err = d.FindLayout(c.Options.RecordSet)
	}
	switch {
	case err != nil:
		return err
	case l == nil && f.checkAll:
		return usage("--with check-all checks against a layout, and %s has none; name one with --with layout", c.Options.RecordSet)
	}
	if l, err = c.Sender.Over(l); err != nil {
		return usage("%v", err)
	}
	if l == nil {
		return nil
	}
	c.Layout = l
	if len(c.Options.Key) == 0 {
		c.Options.Key = l.Key
	}
	l.Stands(&c.Snapshot.Options)
	for _, s := range c.Copies() {
		s.Options.HeadingRow = cmp.Or(s.Options.HeadingRow, l.HeadingRow)
		s.Options.Sheet = cmp.Or(s.Options.Sheet, l.Sheet)
	}
	a.hint("%s", screen.Dim("layout "+a.shown(l.Path)))
	return nil
}

// columns prints which column was taken for which field.
func (a *app) columns(res *compare.Result) {
	for _, c := range res.Copies {
		a.hint("%s", screen.Safe(c.Name))
		a.headings(c.Headings)
	}
	if len(res.Copies) == 0 {
		a.headings(res.Headings)
	}
}

func (a *app) headings(all []compare.Heading) {
	if len(all) == 0 || a.quiet || a.json {
		return
	}
	t := screen.Table{Indent: "  ", Heading: []string{"heading", "field", "how"}}
	for _, h := range all {
		t.Row(screen.Safe(h.Heading), screen.Safe(h.Field), string(h.How))
	}
	t.Print(a.say)
}
