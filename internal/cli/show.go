package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

func newShow(a *app) *cobra.Command {
	var sel selection
	var limit int
	var findings, worn, markdown bool
	var plot, out string
	cmd := &cobra.Command{
		Use:   "show NNNN",
		Short: "Show a dossier's changes, its findings, or one record side by side",
		Example: `  paletwin show 0001
  paletwin show - --field service_fee --decision open
  paletwin show 0001 --record 00417`,
		Args: exactly(1, 1, "a dossier: its number, its slug, or - for your newest"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if worn {
				t, err := a.dossier(args[0])
				if err != nil {
					return err
				}
				return a.showWear(cmd.Context(), t, &sel, limit)
			}
			if plot != "" || out != "" {
				return a.showPlot(args[0], plot, out)
			}
			if markdown {
				return a.showMarkdown(args[0], &sel, limit)
			}
			return a.show(args[0], &sel, limit, findings)
		},
	}
	sel.flags(cmd)
	cmd.Flags().StringVar(&sel.of, "of", "", "only what comes from this `copy`, of several")
	cmd.Flags().StringSliceVar(&sel.decisions, "decision", nil, "only what stands so: `open|approve|hold|reject`")
	cmd.Flags().IntVar(&limit, "limit", 40, "at most so many changes; 0 shows all")
	cmd.Flags().BoolVar(&worn, "wear", false, "the cells that a program wrote otherwise when it saved the copy")
	cmd.Flags().BoolVar(&markdown, "markdown", false, "a summary and the changes in Markdown, for a ticket")
	cmd.Flags().StringVar(&plot, "plot", "", "draw what becomes of this `field`; needs -o")
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` of the picture: .png or .svg")
	cmd.Flags().BoolVar(&findings, "findings", false, "the findings alone")
	return cmd
}

func (a *app) show(name string, sel *selection, limit int, findings bool) error {
	t, err := a.whole(name)
	if err != nil {
		return err
	}
	switch {
	case !t.Several():
		return a.showSet(t, sel, limit, findings)
	case sel.where != "" || len(sel.records) > 0 || sel.of != "":
		return &whichSet{t}
	case !a.json && !findings && len(sel.acts)+len(sel.fields)+len(sel.decisions)+len(sel.finding) == 0:
		return a.showSets(t)
	}
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	var shown []*desk.Dossier
	for _, p := range parts {
		n, err := sel.count(p)
		if err != nil {
			return err
		}
		if n > 0 || findings || a.json && n == 0 {
			shown = append(shown, p)
		}
	}
	if len(shown) == 0 {
		a.out.Line("no changes of that choice")
	}
	return a.eachOf(shown, func(p *desk.Dossier) error {
		if findings && !a.json {
			a.out.Line("%s", screen.Strong(screen.Safe(p.Set().Name)))
		}
		return a.quietly(func() error { return a.showSet(p, sel, limit, findings) })
	})
}

// showSet shows one record set.
func (a *app) showSet(t *desk.Dossier, sel *selection, limit int, findings bool) error {
	if findings {
		return a.showFindings(t)
	}
	c, err := t.Changes()
	if err != nil {
		return err
	}
	defer c.Close()
	filter, err := sel.filter(t, c)
	if err != nil {
		return err
	}
	switch {
	case a.json:
		err = a.showJSON(t, c, &filter)
	case len(sel.records) > 0:
		err = a.showRecords(t, c, &filter)
	default:
		err = a.showChanges(t, c, &filter, limit)
	}
	if err == nil && filter.Where != nil {
		err = filter.Where.Err()
	}
	return err
}

func (a *app) showFindings(t *desk.Dossier) error {
	all, err := t.Findings()
	if err != nil {
		return err
	}
	if a.json {
		for _, f := range all {
			if err := a.printJSON(f); err != nil {
				return err
			}
		}
		return nil
	}
	if len(all) == 0 {
		a.out.Line("no findings")
	}
	a.findings(t.Meta.Number, all, true)
	return nil
}

// picked is a change that a filter let through, with the states of its units.
type picked struct {
	*changeset.Change
	states []changeset.State // one a field of an amend, or one
	fields []int             // which of them the filter selects
}

// pick walks the changes that the filter selects.
func pick(c *desk.Changes, f *changeset.Filter, yield func(p *picked) error) error {
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return err
		}
		if !f.Change(ch) {
			continue
		}
		p := &picked{Change: ch, states: c.Ledger.States(line, ch)}
		for i := range p.states {
			if f.Unit(&p.states[i]) && f.Comes(ch, i) {
				p.fields = append(p.fields, i)
			}
		}
		if len(p.fields) == 0 {
			continue
		}
		if err := yield(p); err != nil {
			return err
		}
	}
	return nil
}

// tally counts units by what stands decided.
type tally struct{ open, approve, hold, tool, reject, lapsed int }

func (n *tally) count(s *changeset.State) {
	switch {
	case s.ToolHeld():
		n.tool++
	case s.Decision == changeset.Approve:
		n.approve++
	case s.Decision == changeset.Hold:
		n.hold++
	case s.Decision == changeset.Reject:
		n.reject++
	default:
		n.open++
	}
	if s.Lapsed != "" {
		n.lapsed++
	}
}

func (n *tally) String() string {
	var parts []string
	for _, x := range []struct {
		n    int
		word string
	}{{n.open, "open"}, {n.approve, "approved"}, {n.tool, "held by paletwin"}, {n.hold, "held"}, {n.reject, "rejected"}, {n.lapsed, "lapsed"}} {
		if x.n > 0 {
			parts = append(parts, screen.Count(x.n)+" "+x.word)
		}
	}
	switch all := n.open + n.approve + n.tool + n.hold + n.reject; all {
	case 0:
		return "no changes"
	case 1:
		return strings.Join(parts, ", ") + " of 1 field change, add or delete"
	default:
		return strings.Join(parts, ", ") + " of " + screen.Count(all) + " field changes, adds and deletes"
	}
}

func (a *app) showChanges(t *desk.Dossier, c *desk.Changes, f *changeset.Filter, limit int) error {
	shown, n, all, err := firstPicked(c, f, limit)
	if err != nil {
		return err
	}
	m := t.Meta
	a.out.Line("%s  %s", screen.Strong(m.Number), screen.Strong(screen.Safe(m.Title)))
	a.out.Line("%s", screen.Dim(fmt.Sprintf("by %s, %s; %s", screen.Safe(m.By), m.When.Local().Format("2 Jan 2006 15:04"), n.String())))
	if all == 0 {
		a.out.Line("no changes%s", selected(f))
		return nil
	}
	known, err := a.recognise(t, shown)
	if err != nil {
		return err
	}
	a.out.Line("")
	a.table(t, shown, known)
	if all > len(shown) {
		a.out.Line("%s", screen.Dim(fmt.Sprintf("  … and %s more: --limit 0 shows all", screen.Plural(all-len(shown), "change"))))
	}
	switch {
	case n.open > 0:
		a.next("paletwin approve "+m.Number+" "+firstOf(shown, changeset.Open), "paletwin approve "+m.Number+" --all")
	case n.tool > 0:
		one := firstOf(shown, changeset.Hold)
		a.next("paletwin show "+m.Number+" --findings", "paletwin approve "+m.Number+" "+one, "paletwin reject "+m.Number+" "+one)
	case n.approve > 0:
		a.next(a.applyLine(t))
	}
	return nil
}

// firstOf names the first change that stands so, or all of a group that holds one: its id, and its field where the tool holds it.
func firstOf(shown []*picked, d changeset.Decision) string {
	for _, p := range shown {
		for _, i := range p.fields {
			s := &p.states[i]
			switch {
			case s.Decision != d || s.Barred() && d == changeset.Hold:
			case d == changeset.Hold && s.Field != "":
				return shellWord(p.ID.String()[:8] + "/" + s.Field)
			default:
				return p.ID.String()[:8]
			}
		}
	}
	return "--all --held"
}

// firstPicked gathers the first changes that a filter selects, counts all of
// them, and what stands decided about them.
func firstPicked(c *desk.Changes, f *changeset.Filter, limit int) (shown []*picked, n tally, all int, err error) {
	err = pick(c, f, func(p *picked) error {
		all++
		for _, i := range p.fields {
			n.count(&p.states[i])
		}
		if limit <= 0 || len(shown) < limit {
			shown = append(shown, p)
		}
		return nil
	})
	if err == nil && f.Where != nil {
		err = f.Where.Err()
	}
	return shown, n, all, err
}

func selected(f *changeset.Filter) string {
	if len(f.Acts)+len(f.Fields)+len(f.Decisions)+len(f.Findings)+len(f.Keys) > 0 || f.Where != nil {
		return " of that choice"
	}
	return ""
}

// recognise looks up, in the snapshot, enough of each shown amend's record
// to know which it is.
func (a *app) recognise(t *desk.Dossier, shown []*picked) (map[record.Key]record.Record, error) {
	snapshot, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return nil, err
	}
	defer snapshot.Close()
	keys := make([]record.Key, 0, len(shown))
	for _, p := range shown {
		if p.Act == changeset.Amend {
			keys = append(keys, p.Key)
		}
	}
	return csv.Lookup(snapshot.Image, t.Set().Key, keys, nil)
}

// about writes a few words of a record that is not its key: the first field
// that is, and the second if there is room.
func about(r record.Record, key []string) string {
	var parts []string
	for _, f := range r {
		if slices.Contains(key, f.Name) || f.Value.Blank() {
			continue
		}
		if parts = append(parts, screen.Cut(screen.Safe(f.Value.String()), 22)); len(parts) == 2 {
			break
		}
	}
	return strings.Join(parts, " · ")
}

// table prints changes, a line a field, with the from and to of amends
// standing against each other.
func (a *app) table(t *desk.Dossier, shown []*picked, known map[record.Key]record.Record) {
	key := t.Set().Key
	several := slices.ContainsFunc(shown, func(p *picked) bool { return len(p.Sources()) > 0 })
	room := max(10, (a.out.Width-90)/2) // what id, act, key, record, field and decision leave
	tab := screen.Table{Right: []bool{false, false, false, false, false, true}, Heading: []string{"id", "act", strings.Join(key, ", "), "record", "field", "from", "", "to", "decision"}}
	if several {
		room = max(10, room-8)
		tab.Heading = slices.Insert(tab.Heading, 8, "in")
	}
	row := func(in string, cells ...string) {
		if several {
			cells = slices.Insert(cells, 8, in)
		}
		tab.Row(cells...)
	}
	for _, p := range shown {
		id, act, name := p.ID.String()[:8], screen.Act(p.Act.String()), screen.Strong(screen.Value(p.Key.String(), 24))
		if p.Act != changeset.Amend {
			row(in(p.Act, p.Copies, &p.states[0]), screen.Dim(id), act, name, about(p.Chosen(p.states[0].Of), key), "", "", "", "", decided(&p.states[0]))
			for _, s := range sidesOf(p.Copies) {
				if p.states[0].Of != "" {
					break // it is settled which is meant
				}
				for _, f := range s.Record {
					was, _ := p.Record.Get(f.Name)
					row(copyNames(s.Of), "", "", "", "", screen.Safe(f.Name), screen.Dim(value(was, room)), screen.Dim("or"), screen.Strong(value(f.Value, room)), "")
				}
			}
			continue
		}
		words := about(known[p.Key], key)
		for _, i := range p.fields {
			f := &p.Fields[i]
			row(in(p.Act, f.Copies, &p.states[i]), screen.Dim(id), act, name, words, screen.Safe(f.Field), screen.Pale(value(f.From, room)), "→", screen.Strong(value(p.states[i].Wanted(f), room)), decided(&p.states[i]))
			id, act, name, words = "", "", "", ""
			if p.states[i].Given != nil {
				continue // what the copies have is settled
			}
			for _, s := range sidesOf(f.Copies) {
				row(copyNames(s.Of), "", "", "", "", "", "", screen.Dim("or"), screen.Strong(value(s.To, room)), "")
			}
		}
	}
	tab.Print(a.out)
}

// where says in which copies a change was found.
func where(act changeset.Act, c *changeset.Copies) string {
	switch {
	case c == nil:
		return ""
	case act == changeset.Delete:
		return "not in " + copyNames(c.Of)
	}
	return copyNames(c.Of)
}

// in is where, or the copy whose side was chosen.
func in(act changeset.Act, c *changeset.Copies, s *changeset.State) string {
	switch {
	case s.Of != "" && act != changeset.Delete:
		return copyNames([]string{s.Of})
	case s.Given != nil:
		return ""
	}
	return where(act, c)
}

func copyNames(names []string) string { return screen.Cut(screen.Safe(strings.Join(names, ", ")), 32) }

func sidesOf(c *changeset.Copies) []changeset.Side {
	if c == nil {
		return nil
	}
	return c.Sides
}

func value(v record.Value, room int) string {
	if v.IsNull() {
		return "(null)"
	}
	return screen.Value(v.String(), room)
}

// decided writes a decision: its word, and why the tool holds.
func decided(s *changeset.State) string {
	word := string(s.Decision)
	switch {
	case len(s.Stop) > 0 && s.ToolHeld():
		word = screen.Level("stop") + " " + strings.Join(s.Stop, ", ")
	case s.ToolHeld():
		word = screen.Hue("amend", "held: "+strings.Join(s.Held, ", "))
	case s.Decision == changeset.Open:
		word = screen.Dim(word)
	case s.Decision == changeset.Approve:
		word = screen.Strong("approved") + screen.Dim(" "+screen.Safe(s.By))
	case s.Decision == changeset.Hold:
		word = "held" + screen.Dim(" "+screen.Safe(s.By))
	case s.Decision == changeset.Reject:
		word = "rejected" + screen.Dim(" "+screen.Safe(s.By))
	}
	if len(s.Noted) > 0 {
		word += screen.Dim(" (" + strings.Join(s.Noted, ", ") + ")")
	}
	if s.Lapsed != "" {
		word += screen.Dim(fmt.Sprintf(" (lapsed: %s)", s.Lapsed))
	}
	if s.Note != "" {
		word += screen.Dim(" “" + screen.Cut(screen.Safe(s.Note), 30) + "”")
	}
	return word
}
