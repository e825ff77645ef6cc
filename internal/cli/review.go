package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/page"
	"paletwin/internal/review"
	"paletwin/internal/run"
	"paletwin/internal/sheet"
	screen "paletwin/internal/term"
)

func newReview(a *app) *cobra.Command {
	var by string
	cmd := &cobra.Command{
		Use:   "review NNNN",
		Short: "Look and decide full-screen; or pass changes on to others who decide",
		Long: `Review a dossier full-screen: groups of changes on the left, the changes of a group on
the right, the whole record below. Every decision is on disk the moment it is made.
? shows all keys.

review sheet writes a workbook for colleagues who do not have the tool, and review
collect takes their decisions back.`,
		Example: `  paletwin review 0001
  paletwin review sheet 0001
  paletwin review collect 0001 review-0001.xlsx --by 'Petr Šimek'`,
		Args: noSuchReview,
		RunE: func(cmd *cobra.Command, args []string) error { return a.review(cmd.Context(), args[0], by) },
	}
	cmd.Flags().StringVar(&by, "by", "", "who decides, if it is not you: `NAME`; where desk.yaml allows it")
	cmd.AddCommand(newReviewSheet(a), newReviewPage(a), newReviewCollect(a))
	return cmd
}

func noSuchReview(cmd *cobra.Command, args []string) error {
	if len(args) != 1 {
		return usage("paletwin review needs a dossier: review NNNN, review sheet NNNN, or review collect NNNN FILE")
	}
	return nil
}

// review shows the full-screen review.
func (a *app) review(ctx context.Context, name, by string) error {
	t, err := a.dossier(name)
	if err != nil {
		return err
	}
	if !a.asks {
		return usage("a review needs a terminal; elsewhere, show looks, approve and reject decide, and review sheet passes changes on")
	}
	o := &desk.Order{By: by}
	if err := a.decides(t.Desk(), o); err != nil {
		return err
	}
	m, err := t.Contents()
	if err != nil {
		return err
	}
	defer m.Close()
	now, err := run.Conflicts(t)
	if err != nil {
		return err
	}
	err = review.Run(m, review.Options{By: o.By, Via: o.Via, Now: a.now, Plain: a.noColor, Current: now},
		tea.WithContext(ctx), tea.WithInput(a.stdin), tea.WithOutput(a.stdout), tea.WithEnvironment(a.environ))
	if err != nil {
		return err
	}
	a.out.Line("%s  %s", screen.Strong(t.Meta.Number), tallyOf(m).String())
	a.next("paletwin show "+t.Meta.Number+" --decision approve", a.applyLine(t))
	return nil
}

func newReviewSheet(a *app) *cobra.Command {
	var out, by string
	cmd := &cobra.Command{
		Use:   "sheet NNNN",
		Short: "Write a workbook in which colleagues decide",
		Long: `Write a workbook for colleagues who do not have the tool: a first sheet that says how
to use it, then the field changes, the additions and the deletions. They choose a
decision, write a note and send it back; review collect takes it in. Nothing else
of the file is read then. With by-field each person whom a field names gets a
workbook of their own, with their records alone.`,
		Example: `  paletwin review sheet 0001
  paletwin review sheet 0001 --with by-field=keeper -o for-the-keepers
  paletwin review sheet - -o for-petr.csv`,
		Args: exactly(1, 1, "a dossier"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if by != "" {
				return a.reviewSheets(args[0], by, out)
			}
			return a.reviewSheet(args[0], out)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` to write, a workbook, or one .csv (default: review-NNNN.xlsx); with by-field a new folder")
	cmd.Flags().StringVar(&by, "by-field", "", "a workbook for each value of this `field`, with its records alone")
	return cmd
}

// mostShares is how many workbooks are written at most: a field with more values names no persons.
const mostShares = 500

// reviewSheets writes a workbook for each value of a field, into a new folder.
func (a *app) reviewSheets(name, field, out string) error {
	m, err := a.contents(name)
	if err != nil {
		return err
	}
	defer m.Close()
	t := m.Dossier
	if !slices.Contains(m.Header.Fields, field) {
		return usage("there is no field %q%s", field, orNear(field, m.Header.Fields))
	}
	shares, err := m.Shares(field)
	if err != nil {
		return err
	}
	if len(shares) == 0 {
		if a.json {
			return a.printJSON(map[string]any{"dossier": t.Meta.Number, "field": field, "files": []any{}, "set": m.Set()})
		}
		a.out.Line("no changes, and so no workbooks")
		return nil
	}
	if n := len(shares); n > mostShares {
		return usage("%s has %s values here, and so many workbooks would be written; at most %d are", field, screen.Count(n), mostShares)
	}
	out = cmp.Or(out, "review-"+t.FileNumber()+"-by-"+desk.Slug(field))
	dir := a.path(out)
	if err := a.fs.Mkdir(dir); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return usage("%s is there already; name another folder with -o", out)
		}
		return err
	}
	tab := screen.Table{Indent: "  ", Right: []bool{false, false, true}, Heading: []string{screen.Safe(field), "", "changes", "file"}}
	var written []map[string]any
	used := map[string]bool{}
	for _, x := range shares {
		file := desk.Slug(cmp.Or(strings.TrimSpace(x.Value+" "+x.Name), "nobody"))
		for n := 2; used[file]; n++ {
			file = fmt.Sprintf("%s-%d", desk.Slug(x.Value), n)
		}
		used[file] = true
		file += ".xlsx"
		path := filepath.Join(dir, file)
		if _, err := disk.WriteUnsummed(a.fs, path, 0o600, func(w io.Writer) error { return sheet.Write(w, x.Contents) }); err != nil {
			return err
		}
		tab.Row(screen.Safe(cmp.Or(x.Value, "(empty)")), screen.Safe(x.Name), screen.Count(len(x.Contents.Changes)), screen.Safe(filepath.Join(out, file)))
		written = append(written, map[string]any{"value": x.Value, "name": x.Name, "file": path, "changes": len(x.Contents.Changes)})
	}
	if a.json {
		return a.printJSON(map[string]any{"dossier": t.Meta.Number, "field": field, "files": orEmpty(written), "set": m.Set()})
	}
	tab.Print(a.out)
	a.next("send each on; when one is back: paletwin review collect "+t.Meta.Number+" FILE --by NAME", "paletwin show "+t.Meta.Number)
	return nil
}

func (a *app) reviewSheet(name, out string) error {
	ext := strings.ToLower(filepath.Ext(out))
	if out != "" && ext != ".csv" && ext != ".xlsx" {
		return usage("a review sheet is an .xlsx workbook or a .csv file; %q is neither", out)
	}
	return a.passOn(name, func(m *desk.Contents) (string, func(io.Writer, *desk.Contents) error) {
		if ext == ".csv" {
			return cmp.Or(out, "review-"+m.Dossier.FileNumber()+".csv"), sheet.WriteCSV
		}
		return cmp.Or(out, "review-"+m.Dossier.FileNumber()+".xlsx"), sheet.Write
	}, "")
}

func newReviewPage(a *app) *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "page NNNN",
		Short: "Write a page for any browser, to look and decide in",
		Long: `Write one HTML file that opens in any browser and needs no network: a summary, the
changes, the whole records. Decisions that are made in it are saved as a file, which
review collect takes in.`,
		Example: `  paletwin review page 0001 -o autumn-round.html
  paletwin review collect 0001 decisions-0001.json --by 'Lina Okoye'`,
		Args: exactly(1, 1, "a dossier"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.reviewPage(args[0], out) },
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` to write (default: review-NNNN.html)")
	return cmd
}

func (a *app) reviewPage(name, out string) error {
	return a.passOn(name, func(m *desk.Contents) (string, func(io.Writer, *desk.Contents) error) {
		return cmp.Or(out, "review-"+m.Dossier.FileNumber()+".html"), page.Write
	}, "decisions-%s.json")
}

// passOn writes a dossier's changes for others. choose says to which file, and
// how; back is what comes back, with the dossier's number in it, or "" for the
// same file.
func (a *app) passOn(name string, choose func(m *desk.Contents) (string, func(io.Writer, *desk.Contents) error), back string) error {
	m, err := a.contents(name)
	if err != nil {
		return err
	}
	defer m.Close()
	t := m.Dossier
	out, write := choose(m)
	path := a.path(out)
	if _, err := disk.WriteUnsummed(a.fs, path, 0o600, func(w io.Writer) error { return write(w, m) }); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"dossier": t.Meta.Number, "file": path, "set": m.Set(), "changes": len(m.Changes)})
	}
	a.out.Line("%s  %s; %s", screen.Strong(screen.Safe(out)), screen.Plural(len(m.Changes), "change"), tallyOf(m).String())
	if back == "" {
		back = out
	} else {
		back = fmt.Sprintf(back, t.FileNumber())
	}
	a.next("send "+out+" on; when it is back: paletwin review collect "+t.Meta.Number+" "+back+" --by NAME", "paletwin show "+t.Meta.Number)
	return nil
}

// contents opens what is to be reviewed of the dossier with a name.
func (a *app) contents(name string) (*desk.Contents, error) {
	t, err := a.dossier(name)
	if err != nil {
		return nil, err
	}
	return t.Contents()
}

// tallyOf counts what stands decided.
func tallyOf(m *desk.Contents) *tally {
	n := new(tally)
	for _, s := range m.Changes {
		for i := range s.States {
			n.count(&s.States[i])
		}
	}
	return n
}

func newReviewCollect(a *app) *cobra.Command {
	var by string
	var rehearse, decided bool
	cmd := &cobra.Command{
		Use:   "collect NNNN FILE",
		Short: "Take decisions back from a review sheet",
		Long: `Read the decisions from a review sheet, as a workbook or as CSV, whatever a spreadsheet
program did to its other cells. A decision on something that is no more as it was when
the sheet was written is left out, and said.`,
		Example: `  paletwin review collect 0001 review-0001.xlsx --by 'Petr Šimek'
  paletwin review collect - review-0001.xlsx --rehearse`,
		Args: exactly(2, 2, "a dossier and a file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.collect(args[0], args[1], by, rehearse, decided)
		},
	}
	cmd.Flags().StringVar(&by, "by", "", "who decided, if it is not you: `NAME`; where desk.yaml allows it")
	cmd.Flags().BoolVar(&rehearse, "rehearse", false, "say what would be decided, and decide nothing")
	cmd.Flags().BoolVar(&decided, "decided", false, "overrule what other people decided otherwise: the file may be older than that")
	return cmd
}

func (a *app) collect(name, file, by string, rehearse, decided bool) error {
	t, err := a.dossier(name)
	if err != nil {
		return err
	}
	who := &desk.Order{By: by}
	if err := a.decides(t.Desk(), who); err != nil {
		return err
	}
	said, sum, err := a.readSaid(t, file)
	if err != nil {
		return err
	}
	m, err := t.Contents()
	if err != nil {
		return err
	}
	defer m.Close()
	c := sheet.Match(m, said, who.By, decided)
	if err := collectable(m, c, said, file); err != nil {
		return err
	}
	var touched []changeset.Touched
	for _, g := range c.Groups {
		n := changeset.Touched{Units: g.Count, Changes: len(g.Units)}
		if !rehearse {
			n, err = t.Decide(&desk.Order{Decision: g.Decision, Units: g.Units, By: who.By, Via: who.Via, When: a.now(), Note: g.Note,
				How: "review collect " + filepath.Base(file) + " sha256:" + sum})
			if err != nil {
				return err
			}
		}
		touched = append(touched, n)
	}
	if a.json {
		if err := a.printJSON(collectedJSON(t, c, touched, rehearse, sum)); err != nil || len(c.Theirs) == 0 {
			return err
		}
		return exit(exitLook)
	}
	a.sayCollected(t, c, touched, rehearse)
	if len(c.Theirs) > 0 {
		return exit(exitLook)
	}
	return nil
}

// readSaid reads a file's decisions, and its digest.
func (a *app) readSaid(t *desk.Dossier, file string) (all []sheet.Said, sum string, err error) {
	b, err := disk.ReadFile(a.fs, a.path(file))
	if err != nil {
		return nil, "", err
	}
	digest := sha256.Sum256(b)
	sum = hex.EncodeToString(digest[:])
	if said, problems, ok := sheet.ReadPage(b); ok {
		return said, sum, badSheet(file, problems)
	}
	found := false
	var problems []sheet.Problem
	for _, name := range append(slices.Clone(sheet.Sheets), "") {
		if name == "" && found {
			break
		}
		m, err := desk.OpenTable(a.fs, a.path(file), filepath.Base(file), table.Options{Sheet: name, Password: a.password()})
		var bad *table.Error
		if errors.As(err, &bad) && name != "" && (bad.Code == table.NoSheet || bad.Code == table.HeadingOnly || bad.Code == table.Empty) {
			continue
		}
		if err != nil {
			return nil, "", err
		}
		if name != "" && m.Found.Sheet != name { // a file without sheets
			_ = m.Close()
			continue
		}
		said, wrong, ok, err := sheet.Read(m.Image)
		_ = m.Close() // only read
		if err != nil {
			return nil, "", err
		}
		found = found || ok
		all, problems = append(all, said...), append(problems, wrong...)
	}
	if !found {
		return nil, "", &sheet.FileError{File: filepath.Base(file), Text: "is no review sheet: it has no columns \"change\" and \"decision\""}
	}
	return all, sum, badSheet(file, problems)
}

// badSheet says what of a file cannot be read, all at once.
func badSheet(file string, problems []sheet.Problem) error {
	if len(problems) == 0 {
		return nil
	}
	return &sheet.FileError{File: filepath.Base(file), Text: "some decisions cannot be read", Problems: problems}
}

// collectable refuses a file that says two things of one change, or that is
// of another dossier.
func collectable(m *desk.Contents, c *sheet.Collected, said []sheet.Said, file string) error {
	if err := badSheet(file, c.Twice); err != nil {
		return err
	}
	if n := len(c.Foreign); n > 0 {
		return &sheet.FileError{File: filepath.Base(file), Foreign: true, Text: fmt.Sprintf("is of another dossier than %s: %s in it, the first of them in %s, were made on that one", m.Dossier.Meta.Number, screen.Plural(n, "decision"), c.Foreign[0])}
	}
	if len(said) > 0 && len(c.Changed) == len(said) {
		return &sheet.FileError{File: filepath.Base(file), Text: fmt.Sprintf("is of another change set than %s of dossier %s: none of its decisions is on anything here", m.Set(), m.Dossier.Meta.Number)}
	}
	return nil
}

func collectedJSON(t *desk.Dossier, c *sheet.Collected, touched []changeset.Touched, rehearse bool, sum string) any {
	groups := []ordered{}
	for i, g := range c.Groups {
		groups = append(groups, ordered{{"decision", string(g.Decision)}, {"note", g.Note}, {"units", touched[i].Units}, {"changes", touched[i].Changes}})
	}
	return ordered{{"dossier", t.Meta.Number}, {"decided", groups}, {"as_before", c.Same}, {"stopped", orEmpty(c.Stopped)}, {"changed_since", orEmpty(c.Changed)},
		{"decided_by_others", len(c.Theirs)}, {"other_set", c.Other}, {"rehearsed", rehearse}, {"sha256", sum}}
}

func (a *app) sayCollected(t *desk.Dossier, c *sheet.Collected, touched []changeset.Touched, rehearse bool) {
	would := ""
	if rehearse {
		would = "would be "
	}
	for i, g := range c.Groups {
		note := ""
		if g.Note != "" {
			note = screen.Dim("  “" + screen.Cut(screen.Safe(g.Note), 60) + "”")
		}
		a.out.Line("%s%s  %s%s", would, screen.Strong(participle[g.Decision]), unitWords(touched[i].Units), note)
	}
	if len(c.Groups) == 0 {
		a.out.Line("nothing new is decided")
	}
	if c.Same > 0 {
		a.out.Line("  %s", screen.Dim(unitWords(c.Same)+" decided so already"))
	}
	for _, x := range []struct {
		rows []string
		text string
	}{{c.Stopped, "cannot be approved; show --findings says why"}, {c.Changed, "changed since the sheet was written, and left out"}} {
		if n := len(x.rows); n > 0 {
			a.out.Line("  %s %s: %s", unitWords(n), x.text, screen.Safe(strings.Join(x.rows[:min(n, 5)], "; ")))
		}
	}
	if n := len(c.Theirs); n > 0 {
		var all []string
		for _, p := range c.Theirs[:min(n, 5)] {
			all = append(all, p.Place+": "+p.Text)
		}
		a.out.Line("  %s somebody else decided otherwise, and left as they are; --decided overrules them: %s", unitWords(n), screen.Safe(strings.Join(all, "; ")))
	}
	if c.Other > 0 && len(c.Changed) < c.Other {
		a.out.Line("  %s", screen.Dim("the sheet is of an earlier comparison; what is the same was taken over"))
	}
	if c.Old > 0 {
		a.out.Line("  %s", screen.Dim("the sheet does not say which dossier it is of, as sheets of earlier versions did not; what is the same here was taken over"))
	}
	if !rehearse {
		a.next("paletwin show "+t.Meta.Number, a.applyLine(t))
	}
}
