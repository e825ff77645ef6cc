package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/layout"
	"paletwin/core/schema"
	"paletwin/internal/desk"
	"paletwin/internal/handoff"
	"paletwin/internal/run"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

type handoffFlags struct {
	form, shape, dialect, into   string
	delimiter, encoding, endings string
	outward                      layout.Outward
	deletes                      string
	maxRecords                   int
	maxBytes                     string
	current, out                 string
	run.Options
}

func newHandoff(a *app) *cobra.Command {
	var f handoffFlags
	cmd := &cobra.Command{
		Use:   "handoff NNNN",
		Short: "Write load files for a system that only takes files, and those that undo them",
		Long: `Write load files of the approved changes for a system that only takes files.

Beside the files that carry the changes out (forward) it writes those that undo
exactly them (back), and a README that says in which order to load what and how many
records each file should report. handoff collect reads what the system answered;
verify holds a fresh export against what was meant.

With --current, a fresh export, what others changed since the snapshot is left out
and listed. Deletes need it, so that the records can come back whole.`,
		Example: `  paletwin handoff 0001 --first 5
  paletwin handoff 0001 --current export-of-today.csv -o to-load
  paletwin handoff 0001 --form sql --with dialect=postgresql --with into=register.aids`,
		Args: exactly(1, 1, "a dossier: its number, its slug, or - for your newest"),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.whole(args[0])
			if err != nil {
				return err
			}
			if err := a.asDeskSays(cmd, t.Desk().Settings.Handoff, "handoff"); err != nil {
				return err
			}
			if t.Several() {
				return a.handoffSets(cmd.Context(), t, &f)
			}
			return a.handoff(cmd.Context(), t, &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.form, "form", "csv", "the files' `form`: "+list(handoff.Forms))
	fl.StringVar(&f.shape, "shape", "", "the `shape` of what is sent of amended records: "+list(handoff.Shapes)+" (default grouped)")
	fl.StringVar(&f.current, "current", "", "a fresh `export` of the system, or the table or set where its records can be read (default: it is as the snapshot)")
	fl.StringVarP(&f.out, "output", "o", "", "a new `folder` for the files, too (default: only the dossier's load folder)")
	fl.IntVar(&f.First, "first", 0, "a trial: at most so many records")
	fl.BoolVar(&f.Retry, "retry", false, "only what the system refused")
	fl.BoolVar(&f.Again, "again", false, "hand over again what was handed over before")
	fl.BoolVar(&f.PerField, "per-field", false, "with --current: write the fields of a record that are as the snapshot had them, though others are not")
	fl.BoolVar(&f.Overwrite, "overwrite-conflicts", false, "write over conflicts approved with the same flag, if the export is still as it was then")
	fl.BoolVar(&f.Rehearse, "rehearse", false, "check everything, and write no files")
	fl.IntVar(&f.maxRecords, "max-records", 0, "at most so many records a file")
	fl.StringVar(&f.maxBytes, "max-bytes", "", "at most this `size` a file: 5MB, 500kB")
	fl.StringVar(&f.deletes, "deletes", "keys", "what is sent of a delete: `keys` or full")
	fl.StringVar(&f.delimiter, "delimiter", "", "the `delimiter` of CSV files: comma, semicolon, tab, pipe (default: the snapshot's)")
	fl.StringVar(&f.encoding, "encoding", "", "the `encoding` of CSV files (default: the snapshot's)")
	fl.StringVar(&f.endings, "line-ends", "", "the line ends of CSV files: `lf` or crlf (default: the snapshot's)")
	fl.StringVar(&f.outward.Clear, "clear", "", "the `text` that empties a field there (default: the layout's outward clear)")
	fl.StringVar(&f.outward.Blank, "blank", "", "what an empty cell does there: `keeps|clears` (default: the layout's outward blank)")
	fl.StringVar(&f.outward.Date, "date", "", "the `form` of dates there: dd.mm.yyyy (default: the layout's outward date)")
	fl.StringVar(&f.outward.True, "true", "", "the `word` for true there (default: the layout's outward true; in SQL what the dialect has)")
	fl.StringVar(&f.outward.False, "false", "", "the `word` for false there")
	fl.StringVar(&f.dialect, "dialect", "", "the `database` of --form sql: "+list(handoff.Dialects))
	fl.StringVar(&f.into, "into", "", "the `table` of --form sql, perhaps with its schema: register.aids (default: the record set's name)")
	fl.BoolVar(&f.LeaveOpen, "leave-open", false, "end with 0 although changes are left open or held")
	fl.BoolVar(&f.OtherTarget, "other-target", false, "go on although the last run wrote to a target directly, or the export knows few of the records")
	cmd.AddCommand(newHandoffCollect(a))
	return cmd
}

// list writes words with commas.
func list[T ~string](words []T) string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = string(w)
	}
	return strings.Join(all, ", ")
}

// one reads one of the given words.
func one[T ~string](flag, said string, words []T) (T, error) {
	if !slices.Contains(words, T(said)) {
		return "", usage("--%s takes %s, not %q", flag, list(words), said)
	}
	return T(said), nil
}

// options reads the flags.
func (f *handoffFlags) options() (o handoff.Options, err error) {
	if f.First < 0 || f.maxRecords < 0 {
		return o, usage("--first and --with max-records take no negative number")
	}
	if f.Retry && f.Again {
		return o, usage("--retry hands over what was refused, --again everything: say one of them")
	}
	if err := f.forms(&o); err != nil {
		return o, err
	}
	if err := f.words(&o); err != nil {
		return o, err
	}
	o.Full, o.MaxRecords = f.deletes == "full", f.maxRecords
	if o.MaxBytes, err = size(f.maxBytes); err == nil && o.MaxBytes > 0 && o.Form.Workbook() {
		err = usage("--with max-bytes cannot be kept for workbooks, whose size shows when they are written: use --with max-records")
	}
	return o, err
}

// forms reads what the files are.
func (f *handoffFlags) forms(o *handoff.Options) (err error) {
	if o.Form, err = one("form", f.form, handoff.Forms); err != nil {
		return err
	}
	switch {
	case f.shape == "":
		o.Shape = handoff.Grouped
	case !o.Form.Rows():
		return usage("--with shape is for files that are tables; --form %s says of every record what changes", o.Form)
	default:
		if o.Shape, err = one("shape", f.shape, handoff.Shapes); err != nil {
			return err
		}
	}
	switch {
	case o.Form != handoff.SQL && f.dialect+f.into != "":
		return usage("--with dialect and --into are for --form sql")
	case o.Form == handoff.SQL && f.dialect == "":
		return usage("--form sql needs --with dialect: %s", list(handoff.Dialects))
	case o.Form == handoff.SQL:
		o.Into = f.into
		o.Dialect, err = one("dialect", f.dialect, handoff.Dialects)
	}
	return err
}

// words reads how the system writes files and values.
func (f *handoffFlags) words(o *handoff.Options) error {
	if o.Form != handoff.CSV && f.delimiter+f.encoding+f.endings != "" {
		return usage("--with delimiter, encoding and line-ends are for --form csv")
	}
	switch d, ok := delimiters[f.delimiter]; {
	case !ok:
		return usage("--delimiter is comma, semicolon, tab or pipe, not %q", f.delimiter)
	case d != "":
		o.Delimiter = d[0]
	}
	for _, w := range []struct{ flag, said, a, b string }{{"line-ends", f.endings, "lf", "crlf"}, {"deletes", f.deletes, "keys", "full"}, {"blank", f.outward.Blank, layout.BlankKeeps, layout.BlankClears}} {
		if w.said != "" && w.said != w.a && w.said != w.b {
			return usage("--%s takes %s or %s, not %q", w.flag, w.a, w.b, w.said)
		}
	}
	if (f.outward.True == "") != (f.outward.False == "") {
		return usage("--with true and --with false are said together")
	}
	if f.outward.Date != "" {
		if _, err := schema.ParseForm(f.outward.Date); err != nil {
			return usage("--date: %v", err)
		}
	}
	o.Encoding, o.LineEnds, o.Outward = strings.ToLower(f.encoding), f.endings, f.outward
	return nil
}

// size reads a number of bytes: 5MB, 500kB, 12000.
func size(said string) (int64, error) {
	if said == "" {
		return 0, nil
	}
	text, factor := strings.ToLower(strings.ReplaceAll(said, " ", "")), int64(1)
	for _, u := range []struct {
		unit   string
		factor int64
	}{{"kb", 1000}, {"mb", 1_000_000}, {"gb", 1_000_000_000}, {"b", 1}} {
		if n, ok := strings.CutSuffix(text, u.unit); ok {
			text, factor = n, u.factor
			break
		}
	}
	n, err := strconv.ParseInt(text, 10, 40)
	if err != nil || n <= 0 {
		return 0, usage("--with max-bytes takes a size such as 5MB or 500kB, not %q", said)
	}
	return n * factor, nil
}

func (a *app) handoff(ctx context.Context, t *desk.Dossier, f *handoffFlags) error {
	o, err := f.options()
	if err != nil {
		return err
	}
	r := &update.HandOff{Dossier: t, Files: o, Options: f.Options}
	if f.current != "" {
		if r.Current, err = a.export(f.current); err != nil {
			return err
		}
	}
	if f.out != "" {
		r.Out = a.path(f.out)
	}
	progress := screen.NewProgress(a.say, a.asks && !a.quiet && !a.json, a.now)
	defer progress.Done()
	r.Progress = progress.Step
	rep, err := a.office().HandOff(ctx, r)
	progress.Done()
	var misused *update.Misuse
	if errors.As(err, &misused) && misused.Code == update.OutThere {
		misused.Args = []any{f.out} // as it was typed
	}
	var uncopied *update.CopyError
	if errors.As(err, &uncopied) {
		a.hint("the files are made, in %s; they could not be copied", a.shown(uncopied.Dir))
	}
	if err != nil {
		return err
	}
	if rep.Resumed {
		a.hint("run %d was interrupted; its files are made now. Another handoff goes on with the rest", rep.Run)
	}
	if a.json {
		j := applyJSON(t, rep.Report).(map[string]any)
		delete(j, "verify")
		j["folder"], j["loads"], j["by_hand"] = nil, orNone(rep.Loads), rep.ByHand
		if rep.Dir != "" {
			j["folder"] = rep.Dir
		}
		if err := a.printJSON(j); err != nil {
			return err
		}
	} else {
		a.handedOff(t, rep)
	}
	return exit(applyCode(rep.Report, f.LeaveOpen))
}

// handedOff says what a hand-off made.
func (a *app) handedOff(t *desk.Dossier, rep *update.HandedOff) {
	p, n, byHand := a.out, t.Meta.Number, rep.ByHand
	if len(rep.Attempted) == 0 && rep.Run == 0 {
		p.Line("nothing to hand over%s", leftWords(rep.Left))
		return
	}
	what := fmt.Sprintf("handed off, run %d", rep.Run)
	if rep.Rehearsed {
		what = "rehearsed: no files were written"
		rep.Steps.Unknown, rep.Steps.Done = rep.Steps.Done, 0
	}
	p.Line("%s %s", screen.Strong(n), what)
	p.Line("")
	a.outcomes(append([]outcome{{"to load", rep.Steps.Unknown, "", true}},
		left(rep.Steps, "the export has it already", "changed there since the snapshot; left out", "cannot be handed over")...)...)
	a.troubles(rep.Attempted)
	if s := leftWords(rep.Left); s != "" {
		p.Line("  %s", screen.Dim("left"+s))
	}
	if rep.Dir == "" {
		return
	}
	p.Line("")
	p.Line("  %s", screen.Strong(a.shown(rep.Dir)))
	a.loads(rep.Loads)
	if byHand > 0 {
		p.Line("  %s  %s cannot be put back by a file: %s/%s says which, and why", screen.Level("warn"), screen.Plural(byHand, "value"), handoff.Back, handoff.ByHandName)
	}
	if how := rep.RunScript; how != "" {
		p.Line("  %s  %s", screen.Dim("run each with"), how)
	}
	if !t.IsPart() {
		a.next("load the files of forward in this order, then: paletwin handoff collect " + n + " RESULT")
	}
}

// loads lists load files: those that carry the changes out by name, and how
// many undo them.
func (a *app) loads(made []target.Load) {
	tab := screen.Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"file", "records", "acts"}}
	const most = 24
	var all []target.Load
	for _, l := range made {
		if l.Forward() {
			all = append(all, l)
		}
	}
	for _, l := range all[:min(len(all), most)] {
		acts := strings.Split(l.Acts, ",")
		for i := range acts {
			acts[i] = screen.Act(acts[i])
		}
		tab.Row(screen.Safe(l.Name), screen.Count(l.Records), strings.Join(acts, " "))
	}
	tab.Print(a.out)
	if n := len(made) - len(all); n > 0 {
		a.out.Line("  %s  %s", handoff.Back+"/", screen.Dim(screen.Plural(n, "file")+" to undo exactly this"))
	}
	if len(all) > most {
		a.out.Line("  %s", screen.Dim(fmt.Sprintf("and %s more files; README.txt lists them all", screen.Count(len(all)-most))))
		a.hint("%s", screen.Dim("where so many files are too many: --with shape=per-field makes one a field, --with shape=sparse one in all"))
	}
}
