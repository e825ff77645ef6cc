package cli

import (
	"encoding/json"
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

// selection is the flags that select changes.
type selection struct {
	records, acts, fields, decisions, finding []string
	where                                     string
}

func (s *selection) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVar(&s.records, "record", nil, "only this `key`: 00417, or aid_no=00417,due=2026-03-01")
	f.StringSliceVar(&s.acts, "act", nil, "only this `act`: amend, add, delete")
	f.StringSliceVar(&s.fields, "field", nil, "only changes of this `field`")
	f.StringArrayVar(&s.finding, "finding", nil, "only what a finding with this `code` holds")
	f.StringVar(&s.where, "where", "", "only records for which this `expression` holds: 'new.service_fee > old.service_fee * 1.1'")
}

// filter turns the flags into a filter on a dossier's change set.
func (s *selection) filter(t *desk.Dossier, c *desk.Changes) (changeset.Filter, error) {
	fields := c.Header.Fields
	f := changeset.Filter{Fields: s.fields, Findings: s.finding}
	for _, w := range s.acts {
		act, err := changeset.ParseAct(w)
		if err != nil {
			return f, usage("--act: %v", err)
		}
		f.Acts = append(f.Acts, act)
	}
	for _, w := range s.decisions {
		d, err := changeset.ParseDecision(w)
		if err != nil {
			return f, usage("--decision: %v", err)
		}
		f.Decisions = append(f.Decisions, d)
	}
	for _, name := range s.fields {
		if !slices.Contains(fields, name) {
			return f, usage("there is no field %q; the fields are %s", name, strings.Join(fields, ", "))
		}
	}
	for _, code := range s.finding {
		if !slices.ContainsFunc(changeset.Codes(), func(c changeset.Code) bool { return c.Name == code }) {
			return f, usage("there is no finding code %q; show --findings lists those of the dossier", code)
		}
	}
	for _, text := range s.records {
		k, err := parseKey(text, t.Set().Key)
		if err != nil {
			return f, err
		}
		f.Keys = append(f.Keys, k.Encoding())
	}
	if s.where == "" {
		return f, nil
	}
	var err error
	f.Where, err = t.Where(s.where, c)
	return f, err
}

// parseKey reads a record's key from the command line: its value, or, for a
// key of several fields, name=value pairs with commas between.
func parseKey(text string, key []string) (record.Key, error) {
	if len(key) == 1 {
		return record.NewKey(strings.TrimPrefix(text, key[0]+"=")), nil
	}
	parts := make([]string, len(key))
	given := make([]bool, len(key))
	for _, pair := range strings.Split(text, ",") {
		name, value, ok := strings.Cut(pair, "=")
		i := slices.Index(key, name)
		if !ok || i < 0 {
			return record.Key{}, usage("--record %s: this record set's key has several fields: --record %s=…", text, strings.Join(key, "=…,"))
		}
		parts[i], given[i] = value, true
	}
	if i := slices.Index(given, false); i >= 0 {
		return record.Key{}, usage("--record %s: the key field %s is missing", text, key[i])
	}
	return record.NewKey(parts...), nil
}

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
	cmd.Flags().StringSliceVar(&sel.decisions, "decision", nil, "only what stands so: open, approve, hold, reject")
	cmd.Flags().IntVar(&limit, "limit", 40, "at most so many changes; 0 shows all")
	cmd.Flags().BoolVar(&worn, "wear", false, "the cells that a program wrote otherwise when it saved the copy")
	cmd.Flags().BoolVar(&markdown, "markdown", false, "a summary and the changes in Markdown, for a ticket")
	cmd.Flags().StringVar(&plot, "plot", "", "draw what becomes of this `field`; needs -o")
	cmd.Flags().StringVarP(&out, "output", "o", "", "the `file` of the picture: .png or .svg")
	cmd.Flags().BoolVar(&findings, "findings", false, "the findings alone")
	return cmd
}

func (a *app) show(name string, sel *selection, limit int, findings bool) error {
	t, err := a.dossier(name)
	if err != nil {
		return err
	}
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
	a.findings(all, true)
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
			if f.Unit(&p.states[i]) {
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
	return strings.Join(parts, ", ")
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
		a.next("paletwin approve "+m.Number+" ID …", "paletwin approve "+m.Number+" --all")
	case n.tool > 0:
		a.next("paletwin show "+m.Number+" --findings", "paletwin approve "+m.Number+" ID/field", "paletwin reject "+m.Number+" ID/field")
	case n.approve > 0:
		a.next("paletwin apply " + m.Number + " --to REGISTER.csv")
	}
	return nil
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
	return csv.Lookup(snapshot.Image, t.Set().Key, keys)
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
	room := max(10, (a.out.Width-90)/2) // what id, act, key, record, field and decision leave
	tab := screen.Table{Right: []bool{false, false, false, false, false, true}, Heading: []string{"id", "act", strings.Join(key, ", "), "record", "field", "from", "", "to", "decision"}}
	for _, p := range shown {
		id, act, name := p.ID.String()[:8], screen.Act(p.Act.String()), screen.Strong(screen.Value(p.Key.String(), 24))
		if p.Act != changeset.Amend {
			tab.Row(screen.Dim(id), act, name, about(p.Record, key), "", "", "", "", decided(&p.states[0]))
			continue
		}
		words := about(known[p.Key], key)
		for _, i := range p.fields {
			f := &p.Fields[i]
			tab.Row(screen.Dim(id), act, name, words, screen.Safe(f.Field), screen.Pale(value(f.From, room)), "→", screen.Strong(value(wanted(f, &p.states[i]), room)), decided(&p.states[i]))
			id, act, name, words = "", "", "", ""
		}
	}
	tab.Print(a.out)
}

// wanted is the value that would be written: the change's, or what a person
// gave instead.
func wanted(f *changeset.FieldChange, s *changeset.State) record.Value {
	if s.Given != nil {
		return *s.Given
	}
	return f.To
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

// showRecords prints single records side by side: the snapshot's value, the
// wanted one, and what stands decided.
func (a *app) showRecords(t *desk.Dossier, c *desk.Changes, f *changeset.Filter) error {
	var found []*picked
	if err := pick(c, f, func(p *picked) error { found = append(found, p); return nil }); err != nil {
		return err
	}
	snapshot, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return err
	}
	defer snapshot.Close()
	var keys []record.Key
	for _, enc := range f.Keys {
		keys = append(keys, record.KeyOf([]byte(enc)))
	}
	known, err := csv.Lookup(snapshot.Image, t.Set().Key, keys)
	if err != nil {
		return err
	}
	for n, k := range keys {
		if n > 0 {
			a.out.Line("")
		}
		i := slices.IndexFunc(found, func(p *picked) bool { return p.Key == k })
		was, there := known[k]
		switch {
		case i >= 0:
			a.sideBySide(c.Header.Fields, was, found[i])
		case there:
			a.out.Line("%s  %s", screen.Strong(screen.Safe(k.String())), screen.Dim("no change"))
			a.sideBySide(c.Header.Fields, was, nil)
		default:
			return usage("neither the snapshot nor the copy has a record %s", k)
		}
	}
	return nil
}

func (a *app) sideBySide(fields []string, was record.Record, p *picked) {
	tab := screen.Table{Indent: "  ", Heading: []string{"field", "snapshot", "", "wanted", "decision"}}
	var is record.Record
	if p != nil {
		whole := ""
		if p.Act != changeset.Amend {
			whole = decided(&p.states[0])
		}
		a.out.Line("%s  %s  %s  %s", screen.Strong(screen.Safe(p.Key.String())), screen.Act(p.Act.String()), screen.Dim(p.ID.String()[:8]), whole)
		if p.Act == changeset.Add {
			is = p.Record
		}
	}
	for _, name := range fields {
		old, had := was.Get(name)
		row := []string{screen.Safe(name), "", "", "", ""}
		if had {
			row[1] = screen.Pale(wide(old))
		}
		if v, there := is.Get(name); there {
			row[2], row[3] = "→", screen.Strong(wide(v))
		}
		if p != nil && p.Act == changeset.Amend {
			if i := slices.IndexFunc(p.Fields, func(f changeset.FieldChange) bool { return f.Field == name }); i >= 0 {
				row[1], row[2], row[3], row[4] = screen.Pale(value(old, 44)), "→", screen.Strong(value(wanted(&p.Fields[i], &p.states[i]), 44)), decided(&p.states[i])
			}
		}
		tab.Row(row...)
	}
	tab.Print(a.out)
}

func wide(v record.Value) string {
	if v.IsNull() {
		return "(null)"
	}
	if v.Blank() {
		return ""
	}
	return screen.Cut(screen.Safe(v.String()), 44)
}

// showJSON prints a line a change.
func (a *app) showJSON(t *desk.Dossier, c *desk.Changes, f *changeset.Filter) error {
	return pick(c, f, func(p *picked) error { return a.printJSON(changeJSON(t, p)) })
}

// ordered is a JSON object whose members keep their order.
type ordered []member

type member struct {
	name  string
	value any
}

func (o ordered) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			b = append(b, ',')
		}
		b = changeset.AppendString(b, m.name)
		b = append(b, ':')
		if v, ok := m.value.(record.Value); ok {
			b = changeset.AppendValue(b, v)
			continue
		}
		v, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b = append(b, v...)
	}
	return append(b, '}'), nil
}

// changeJSON is a change as show --json prints it.
func changeJSON(t *desk.Dossier, p *picked) ordered {
	set := t.Set()
	key := ordered{}
	for i, part := range p.Key.Parts() {
		key = append(key, member{set.Key[i], part})
	}
	o := ordered{{"record_set", set.Name}, {"id", p.ID.String()}, {"act", p.Act.String()}, {"key", key}}
	if p.Act == changeset.Amend {
		fields := ordered{}
		for _, i := range p.fields {
			f, s := &p.Fields[i], &p.states[i]
			fields = append(fields, member{f.Field, append(ordered{{"from", f.From}, {"to", wanted(f, s)}}, stateJSON(s)...)})
		}
		return append(o, member{"fields", fields})
	}
	rec := ordered{}
	for _, f := range p.Record {
		rec = append(rec, member{f.Name, f.Value})
	}
	return append(append(o, member{"record", rec}), stateJSON(&p.states[0])...)
}

func stateJSON(s *changeset.State) ordered {
	o := ordered{{"decision", string(s.Decision)}, {"by", s.By}, {"findings", orEmpty(slices.Concat(s.Stop, s.Held, s.Noted))}}
	if s.Note != "" {
		o = append(o, member{"note", s.Note})
	}
	if s.Lapsed != "" {
		o = append(o, member{"lapsed", string(s.Lapsed)})
	}
	return o
}
