package cli

import (
	"cmp"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

func newApprove(a *app) *cobra.Command {
	return newDecision(a, changeset.Approve, "Approve changes, so that apply carries them out",
		`  paletwin approve 0001 --all
  paletwin approve 0001 --field service_fee --note "as agreed with the treasurer"
  paletwin approve 0001 7f3a91c2/depot`)
}

func newHold(a *app) *cobra.Command {
	return newDecision(a, changeset.Hold, "Hold changes: they wait, and are not lost",
		`  paletwin hold 0001 --act delete --note "ask the harbour master"`)
}

func newReject(a *app) *cobra.Command {
	return newDecision(a, changeset.Reject, "Reject changes: they stay undone",
		`  paletwin reject 0001 7f3a91c2/depot --note "filled one row too far"`)
}

func newReopen(a *app) *cobra.Command {
	return newDecision(a, changeset.Open, "Take decisions back: the changes are open again, or held by the tool; without a selection, open a closed dossier",
		`  paletwin reopen 0001
  paletwin reopen 0001 7f3a91c2/depot
  paletwin reopen 0001 --field service_fee --note "the treasurer was not asked"`)
}

// touchedBy says what of a group a decision touches.
func touchedBy(d changeset.Decision) string {
	if d == changeset.Open {
		return "Of a group, your own\ndecisions are taken back; --decided adds those of others."
	}
	return `A group touches what is
open, and what you hold yourself; --held adds what the tool holds, and --decided what
people decided otherwise.`
}

func newDecision(a *app, d changeset.Decision, short, example string) *cobra.Command {
	var sel selection
	var all, held, decided, overwrite bool
	var note, as, by string
	verb := string(d)
	if d == changeset.Open {
		verb = "reopen"
	}
	cmd := &cobra.Command{
		Use:   verb + " NNNN [ID | ID/field …]",
		Short: short,
		Long: short + `.

Name changes by their ids (six digits are enough where they are unique), or a
group by --all, --act, --field, --record, --finding or --where. ` + touchedBy(d),
		Example: example,
		Args:    exactly(1, -1, "a dossier, and ids or a group"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("as") {
				if len(args) != 2 || !strings.Contains(args[1], "/") {
					return usage("--as gives one field its value: approve NNNN ID/field --as VALUE")
				}
				return a.approveAs(args[0], args[1], as, by, note)
			}
			order := &desk.Order{Decision: d, Names: args[1:], Held: held, Decided: decided, By: by, When: a.now(), Note: note, How: strings.Join(os.Args[1:], " ")}
			if overwrite {
				return a.overwrite(args[0], &sel, order)
			}
			if sel.of != "" && len(args) == 1 && !all && len(sel.records)+len(sel.acts)+len(sel.fields)+len(sel.finding) == 0 && sel.where == "" {
				return usage("which changes of %s? name their ids, or a group: --all, --finding copies-disagree, --field …", sel.of)
			}
			group := all || sel.where != "" || len(sel.records)+len(sel.acts)+len(sel.fields)+len(sel.finding) > 0
			if !group && len(args) == 1 && d == changeset.Open {
				if was, err := a.bringBack(args[0]); was || err != nil {
					return err
				}
			}
			if !group && len(args) == 1 {
				return usage("which changes? name their ids, or a group: --all, --act, --field, --record, --finding, --where")
			}
			if all && len(args) > 1 {
				return usage("name ids or --all, not both")
			}
			return a.decide(args[0], &sel, order)
		},
	}
	sel.flags(cmd)
	f := cmd.Flags()
	f.BoolVar(&all, "all", false, "all of it")
	if d != changeset.Open {
		f.BoolVar(&held, "held", false, "also what the tool holds")
	}
	f.BoolVar(&decided, "decided", false, "also what others decided otherwise")
	if d == changeset.Approve {
		f.BoolVar(&overwrite, "overwrite-conflicts", false, "write over the last run's conflicts (all, or those selected), with what that run saw there")
	}
	if d == changeset.Approve {
		f.StringVar(&sel.of, "of", "", "what this `copy` has, and where copies disagree, its side")
		f.StringVar(&as, "as", "", "the `value` that is meant, for ID/field: of an edit that cannot be told, or is wrong")
	}
	f.StringVar(&note, "note", "", "why: a `text` for those who ask later")
	f.StringVar(&by, "by", "", "who decided, if it is not you: `NAME`; where desk.yaml allows it")
	return cmd
}

// approveAs approves a field with a value that is given. With a layout the
// value has to be one of the field.
func (a *app) approveAs(name, unit, value, by, note string) error {
	t, err := a.dossier(name)
	if err != nil {
		return err
	}
	l, err := t.Layout()
	if err != nil {
		return err
	}
	_, field, _ := strings.Cut(unit, "/")
	if f := l.Field(field); f != nil {
		taken, problems := f.Take(value)
		if len(problems) > 0 {
			return usage("--as %s: %s", value, problems[0].Text)
		}
		value = taken
	}
	o := &desk.Order{Decision: changeset.Approve, Names: []string{unit}, As: &value, By: by, When: a.now(), Note: note, How: strings.Join(os.Args[1:], " ")}
	if err := a.decides(t.Desk(), o); err != nil {
		return err
	}
	n, err := t.Decide(o)
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(map[string]any{"dossier": t.Meta.Number, "decision": o.Decision, "changes": n.Changes, "as": value})
	} else if n.Changes == 0 {
		a.out.Line("nothing approved: the change as a whole is stopped, and show --findings says why")
	}
	if err != nil || n.Changes == 0 {
		return cmp.Or(err, exit(exitLook))
	}
	if a.json {
		return nil
	}
	a.out.Line("approved %s as %s", screen.Safe(unit), screen.Strong(screen.Value(value, 60)))
	return a.nextApply(t)
}

// overwrite approves that conflicts of the last run are written over, and
// records what that run saw in the target: if it has moved again since, it is
// a conflict again.
func (a *app) overwrite(name string, sel *selection, o *desk.Order) error {
	t, err := a.dossier(name)
	if err != nil {
		return err
	}
	if err := a.decides(t.Desk(), o); err != nil {
		return err
	}
	if o.Seen, err = run.Conflicts(t); err != nil {
		return err
	}
	if len(o.Seen) == 0 {
		return usage("the last run of dossier %s left no conflict that could be written over", t.Meta.Number)
	}
	o.Choose = func(c *desk.Changes) (changeset.Filter, error) { return sel.filter(t, c) }
	n, err := t.Decide(o)
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(map[string]any{"dossier": t.Meta.Number, "decision": o.Decision, "changes": n.Changes, "units": n.Units, "overwrite": true, "along": alongJSON(t, n.Along)})
	} else {
		err = a.sayOver(t, o, n)
	}
	if err == nil && n.Changes == 0 {
		return exit(exitLook)
	}
	return err
}

// sayOver lists what is going to be written over, and by what.
func (a *app) sayOver(t *desk.Dossier, o *desk.Order, n changeset.Touched) error {
	if n.Changes == 0 {
		a.out.Line("nothing approved: the last run left no conflict there that is still approved and could be written over")
		return nil
	}
	c, err := t.Changes()
	if err != nil {
		return err
	}
	defer c.Close()
	a.out.Line("approved to write over what the target has in %s:", screen.Plural(n.Changes, "record"))
	tab := screen.Table{Indent: "  ", Heading: []string{"record", "field", "there", "", "becomes"}}
	const most = 50
	for _, p := range n.Over[:min(len(n.Over), most)] {
		lines, err := c.Find(p.ID.String(), 1)
		if err != nil || len(lines) == 0 {
			continue // a linked change, which was not seen
		}
		ch, err := lines[0].Change(c.Header.Fields)
		if err != nil {
			return err
		}
		for _, seen := range o.Seen[p.ID] {
			becomes := screen.Act(ch.Act.String())
			if f := ch.Field(seen.Name); f != nil {
				becomes = screen.Strong(value(f.To, 32))
			}
			if p.Field == "" || p.Field == seen.Name {
				tab.Row(screen.Value(ch.Key.String(), 24), screen.Safe(seen.Name), screen.Pale(value(seen.Value, 32)), "→", becomes)
			}
		}
	}
	tab.Print(a.out)
	if len(n.Over) > most {
		a.out.Line("  %s", screen.Dim("and "+screen.Count(len(n.Over)-most)+" more"))
	}
	a.sayAlong(n.Along)
	a.next("paletwin apply " + t.Meta.Number + " --overwrite-conflicts")
	return nil
}

var participle = map[changeset.Decision]string{changeset.Approve: "approved", changeset.Hold: "held", changeset.Reject: "rejected", changeset.Open: "taken back"}

func (a *app) decide(name string, sel *selection, o *desk.Order) error {
	t, err := a.whole(name)
	if err != nil {
		return err
	}
	if err := a.decides(t.Desk(), o); err != nil {
		return err
	}
	if t.Several() {
		return a.decideSets(t, sel, o)
	}
	return a.decidePart(t, sel, o)
}

// decidePart decides on one record set.
func (a *app) decidePart(t *desk.Dossier, sel *selection, o *desk.Order) error {
	n, err := a.decideOn(t, sel, o)
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(decidedJSON(t, o, n))
	} else {
		err = a.sayDecided(t, o, n)
	}
	if err == nil && n.InTheWay() {
		return exit(exitLook)
	}
	return err
}

// decideOn decides on what is selected of a record set.
func (a *app) decideOn(t *desk.Dossier, sel *selection, o *desk.Order) (changeset.Touched, error) {
	o.Choose = func(c *desk.Changes) (changeset.Filter, error) { return sel.filter(t, c) }
	return t.Decide(o)
}

func decidedJSON(t *desk.Dossier, o *desk.Order, n changeset.Touched) map[string]any {
	return map[string]any{"dossier": t.Meta.Number, "decision": o.Decision, "changes": n.Changes, "units": n.Units,
		"deletes": n.Deletes, "passed_over": n.Passed, "stopped": n.Stopped, "already": n.Already, "against": n.Against, "otherwise": othersJSON(n.Others), "along": alongJSON(t, n.Along)}
}

// decides completes who decides: the user, or the one whose name is claimed.
func (a *app) decides(d *desk.Desk, o *desk.Order) error {
	if o.By == "" || o.By == a.user {
		o.By = a.user
		return nil
	}
	if d.Settings.Review.Names != desk.Claimed {
		return usage("--by names who decided, and desk.yaml does not allow that; \"review: {names: claimed}\" there does")
	}
	o.Via = a.user
	return nil
}

// sayDecided says what a decision touched, and what of what was meant it did
// not, and why.
func (a *app) sayDecided(t *desk.Dossier, o *desk.Order, n changeset.Touched) error {
	if n.Changes > 0 {
		a.out.Line("%s", participle[o.Decision]+" "+touchedWords(&n))
	} else {
		line := "nothing " + participle[o.Decision]
		switch {
		case n.Already > 0 && o.Decision == changeset.Open:
			line += ": nothing was decided there"
		case n.Already > 0:
			line += ": " + unitWords(n.Already) + " " + decidedSo(n.Already) + " already"
		case !n.InTheWay():
			line += ": no change is selected by that"
		}
		a.out.Line("%s", line)
	}
	a.sayAlong(n.Along)
	if n.Passed > 0 {
		a.out.Line("  %s passed over, held by the tool: --held adds them, and so does naming ID/field", places(n.Passed))
	}
	for _, who := range sortedOthers(n.Others) {
		a.out.Line("  %s passed over, %s by %s: --decided takes them in", places(n.Others[who]), participle[who.Decision], screen.Safe(who.By))
	}
	if n.Against > 0 {
		a.out.Line("  %s rejected, since the other copy's side is approved", theirs(n.Against))
	}
	if n.Disputed > 0 {
		a.out.Line("  of %s copies disagree: --of FILE takes the side of one, and ID/field --as VALUE another value", unitWords(n.Disputed))
	}
	if n.Stopped -= n.Disputed; n.Stopped > 0 {
		a.out.Line("  %s stopped and cannot be approved: show --findings says why", places(n.Stopped))
	}
	if n.Changes == 0 || o.Decision != changeset.Approve {
		return nil
	}
	return a.nextApply(t)
}

// nextApply names what follows an approval: carrying it out, or somebody
// else's look.
func (a *app) nextApply(t *desk.Dossier) error {
	if u, err := t.Unlooked(); err != nil || u.Changes > 0 {
		a.hint("")
		a.hint("  %s", run.MissingLook(t, u))
		return err
	}
	a.next(a.applyLine(t), "paletwin show "+t.Meta.Number)
	return nil
}

// applyLine is the command that carries a dossier out: to the target that it knows, or that others of the same records went to.
func (a *app) applyLine(t *desk.Dossier) string {
	args := []string{"paletwin", "apply", t.Meta.Number}
	last, err := run.LastTarget(t)
	switch {
	case err == nil && last != nil && last.Handoff:
		return commandLine([]string{"paletwin", "handoff", t.Meta.Number})
	case err == nil && last != nil:
		return commandLine(args) // which goes there
	}
	to := update.Known(t, last)
	if in := t.Meta.Snapshot; to == "" && last == nil && in.Partial() { // the table that is to become as the other
		return commandLine(append(args, "--to", a.shown(in.Name)))
	}
	if to == "" {
		if h := run.LastPlace(t); h != nil {
			to = h.Target
		}
	}
	if only := t.Desk().Settings.Only(); to == "" && only != "" {
		return commandLine(append(args, "--to", only))
	}
	if to == "" {
		return "say where the records live: " + commandLine(append(args, "--to", "REGISTER.csv"))
	}
	return commandLine(append(args, "--to", cmp.Or(t.Desk().Settings.Named(to), a.shown(to))))
}

// touchedWords counts what a decision touched: records, and what of them.
func touchedWords(n *changeset.Touched) string {
	var parts []string
	if k := n.Fields(); k > 0 {
		parts = append(parts, screen.Plural(k, "field change"))
	}
	if n.Adds > 0 {
		parts = append(parts, screen.Hue("add", screen.Plural(n.Adds, "add")))
	}
	if n.Deletes > 0 {
		parts = append(parts, screen.Hue("delete", screen.Plural(n.Deletes, "delete")))
	}
	return screen.Plural(n.Changes, "record") + ": " + strings.Join(parts, ", ")
}

// theirs counts changes that stand against others.
func theirs(n int) string {
	if n == 1 {
		return "1 change that stands against it is"
	}
	return screen.Count(n) + " changes that stand against these are"
}

func decidedSo(n int) string {
	if n == 1 {
		return "is decided so"
	}
	return "are decided so"
}

// sortedOthers orders who decided otherwise, the most first.
func sortedOthers(others map[changeset.Whose]int) []changeset.Whose {
	return slices.SortedFunc(maps.Keys(others), func(x, y changeset.Whose) int {
		return cmp.Or(others[y]-others[x], strings.Compare(x.By, y.By), strings.Compare(string(x.Decision), string(y.Decision)))
	})
}

func othersJSON(others map[changeset.Whose]int) []any {
	all := []any{}
	for _, who := range sortedOthers(others) {
		all = append(all, map[string]any{"by": who.By, "decision": who.Decision, "units": others[who]})
	}
	return all
}

// sayAlong names what was decided because something else was.
func (a *app) sayAlong(along []changeset.Along) {
	const most = 5
	if len(along) == 0 {
		return
	}
	var names []string
	for _, x := range along[:min(len(along), most)] {
		name := screen.Act(x.Act.String()) + " " + screen.Value(x.Key.String(), 24)
		if x.Field != "" {
			name = screen.Value(x.Key.String(), 24) + " " + screen.Safe(x.Field)
		}
		names = append(names, name)
	}
	if len(along) > most {
		names = append(names, "and "+screen.Count(len(along)-most)+" more")
	}
	a.out.Line("  %s, since they are linked: %s", takenAlong(len(along)), strings.Join(names, ", "))
}

func takenAlong(n int) string {
	if n == 1 {
		return "1 of them is taken along"
	}
	return screen.Count(n) + " of them are taken along"
}

func alongJSON(t *desk.Dossier, along []changeset.Along) []any {
	all := []any{}
	for _, x := range along {
		j := map[string]any{"key": keyJSON(t.Set().Key, x.Key), "act": x.Act}
		if x.Field != "" {
			j["field"] = x.Field
		}
		all = append(all, j)
	}
	return all
}

// places counts field changes and records as one.
func places(n int) string {
	if n == 1 {
		return unitWords(n) + " is"
	}
	return unitWords(n) + " are"
}

// unitWords counts what is decided one by one.
func unitWords(n int) string {
	if n == 1 {
		return "1 field change or record"
	}
	return screen.Count(n) + " field changes or records"
}
