package review

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/term"
)

// layout is where things stand: the list's lines, the left side's width, and
// the record's lines.
type layout struct{ list, left, record int }

const (
	fewestLines = 12
	fewestWide  = 60
)

func (r *Model) lay() layout {
	body := r.height - 2 /* title */ - 1 /* rule */ - 2 /* message, keys */
	l := layout{left: max(24, min(44, r.width*3/10))}
	l.record = max(4, body*2/5)
	l.list = max(3, body-l.record)
	return l
}

func (r *Model) listHeight() int { return max(1, r.lay().list-1) }

// View draws the screen.
func (r *Model) View() tea.View {
	v := tea.NewView(term.Gated(r.screen()))
	v.AltScreen, v.MouseMode, v.WindowTitle = true, tea.MouseModeCellMotion, term.Gated("review "+r.m.Dossier.Meta.Number)
	return v
}

// screen is what is shown, as lines of the screen's width.
func (r *Model) screen() string {
	if r.width < fewestWide || r.height < fewestLines {
		return fmt.Sprintf("a review needs %d columns and %d lines", fewestWide, fewestLines)
	}
	if r.help {
		return r.finish(strings.Split(helpText, "\n"))
	}
	l := r.lay()
	lines := []string{r.title(), r.rule(l)}
	left, right := r.groupLines(), r.changeLines(r.width-l.left-3, l.list)
	for i := range l.list {
		a, b := "", ""
		if n := r.groupTop + i; n < len(left) {
			a = left[n]
		}
		if i < len(right) {
			b = right[i]
		}
		lines = append(lines, fit(a, l.left)+" "+term.Dim("│")+" "+b)
	}
	lines = append(lines, term.Dim(strings.Repeat("─", r.width)))
	lines = append(lines, r.recordLines(l.record)...)
	return r.finish(append(lines, r.message(), r.keys()))
}

// finish fits lines to the screen, and takes the colours away where none are
// wanted.
func (r *Model) finish(lines []string) string {
	for i := range lines {
		lines[i] = fit(lines[i], r.width)
		if r.o.Plain {
			lines[i] = ansi.Strip(lines[i])
		}
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines[:min(len(lines), r.height)], "\n")
}

// fit makes a line exactly so wide.
func fit(s string, width int) string {
	w := ansi.StringWidth(s)
	if w > width {
		return ansi.Truncate(s, width, "…")
	}
	return s + strings.Repeat(" ", width-w)
}

func (r *Model) title() string {
	n := r.all()
	meta := r.m.Dossier.Meta
	counts := fmt.Sprintf("%s open · %s approved · %s held · %s rejected = %s", term.Count(n.open), term.Count(n.approved), term.Count(n.held), term.Count(n.rejected), term.Count(len(r.units)))
	name := term.Strong(meta.Number) + "  " + term.Strong(term.Cut(term.Safe(meta.Title), max(8, r.width-len(counts)-10)))
	gap := max(2, r.width-ansi.StringWidth(name)-ansi.StringWidth(counts))
	return name + strings.Repeat(" ", gap) + counts
}

// rule is the line below the title: what is searched, what is filtered.
func (r *Model) rule(l layout) string {
	words := ""
	if r.search != "" {
		words += " search: " + term.Safe(r.search) + " "
	}
	if r.where != "" {
		words += " where: " + term.Safe(r.where) + " "
	}
	if words != "" {
		words += "(esc: all) "
	}
	return term.Dim(words + strings.Repeat("─", max(0, r.width-ansi.StringWidth(words))))
}

// groupLines are the groups, with a line for each kind of them.
func (r *Model) groupLines() []string {
	var lines []string
	width := r.lay().left
	for i := range r.groups {
		g := &r.groups[i]
		if g.title != "" {
			lines = append(lines, term.Dim(g.title))
		}
		n := r.count(g.units)
		left := n.open
		for _, u := range g.units {
			if r.state(u).ToolHeld() {
				left++
			}
		}
		number := term.Count(len(g.units))
		if left > 0 && left < len(g.units) {
			number = term.Count(left) + "/" + number
		}
		if left == 0 && len(g.units) > 0 {
			number = "✓ " + number
		}
		label := term.Cut(term.Safe(g.label), width-len(number)-4)
		pad := strings.Repeat(" ", max(1, width-2-ansi.StringWidth(label)-ansi.StringWidth(number)))
		if g.act != 0 {
			label = term.Act(label)
		}
		if i == r.group {
			label = term.Strong(label)
		}
		lines = append(lines, r.mark(i == r.group, r.focus == groups)+label+pad+term.Dim(number))
	}
	return lines
}

// lineOf is the line of a group, and groupAt the group of a line, or -1.
func (r *Model) lineOf(n int) int {
	line := 0
	for i := range r.groups[:n+1] {
		if r.groups[i].title != "" {
			line++
		}
		if i < n {
			line++
		}
	}
	return line
}

func (r *Model) groupAt(line int) int {
	for i := range r.groups {
		if r.lineOf(i) == line {
			return i
		}
	}
	return -1
}

// mark is the sign before a line: where the cursor is, and whether the keys go
// there.
func (r *Model) mark(here, focus bool) string {
	switch {
	case here && focus:
		return term.Strong("▸ ")
	case here:
		return term.Dim("▹ ")
	}
	return "  "
}

// changeLines are the changes of the group that are in sight.
func (r *Model) changeLines(width, height int) []string {
	g := r.chosen()
	if len(g.units) == 0 {
		return []string{term.Dim("  nothing here")}
	}
	shownUnits := g.units[r.top:min(len(g.units), r.top+height)]
	key, field := 8, 8
	for _, u := range shownUnits {
		key = max(key, min(20, ansi.StringWidth(term.Safe(r.change(u).Key.String()))))
		if f := r.field(u); f != nil {
			field = max(field, min(18, ansi.StringWidth(f.Field)))
		}
	}
	value := max(6, (width-2-key-field-26)/2)
	var lines []string
	for k, u := range shownUnits {
		s := r.change(u)
		line := r.mark(r.top+k == r.at, r.focus == changes) + fit(term.Strong(term.Cut(term.Safe(s.Key.String()), key)), key) + "  "
		if f := r.field(u); f != nil {
			from, to := term.Pale(term.Value(shown(f.From), value)), term.Strong(term.Value(shown(r.state(u).Wanted(f)), value))
			line += fit(term.Safe(f.Field), field) + "  " + fit(from, value) + " → " + fit(to, value)
		} else {
			about := strings.Join(r.m.About(s.Chosen(s.States[0].Of), 3), " · ")
			line += fit(term.Act(s.Act.String()), field) + "  " + fit(term.Cut(term.Safe(about), 2*value+3), 2*value+3)
		}
		lines = append(lines, line+"  "+decisionWords(r.state(u)))
	}
	return lines
}

// decisionWords say what stands decided.
func decisionWords(s *changeset.State) string {
	switch {
	case len(s.Stop) > 0 && s.ToolHeld():
		return term.Level("stop") + " " + s.Stop[0]
	case s.ToolHeld():
		return term.Hue("amend", "held: "+s.Held[0])
	case s.Decision == changeset.Open:
		return term.Dim("open")
	case s.Decision == changeset.Approve:
		return term.Strong("approved")
	case s.Decision == changeset.Hold:
		return "held"
	}
	return "rejected"
}

func shown(v record.Value) string {
	switch {
	case v.IsNull():
		return "(null)"
	case v.Blank():
		return "(empty)"
	}
	return v.String()
}

// recordLines are the record of the change at the cursor: a line on what was
// found, then its fields, the snapshot's value beside the copy's and, where it
// is known, the target's.
func (r *Model) recordLines(height int) []string {
	u := r.current()
	lines := make([]string, 0, height)
	if u >= 0 {
		lines = append(lines, r.about(u))
		if f := r.finding(u); f != "" {
			for i, l := range term.Wrap(f, r.width-2) {
				if i < 2 {
					lines = append(lines, "  "+term.Hue("amend", l))
				}
			}
		}
		lines = append(lines, r.fields(u, height-len(lines))...)
	}
	for len(lines) < height {
		lines = append(lines, "")
	}
	return lines[:height]
}

func (r *Model) about(u int) string {
	s, st := r.change(u), r.state(u)
	line := term.Strong(term.Safe(s.Key.String())) + "  " + term.Act(s.Act.String()) + "  " + term.Dim(s.ID.String()[:8]) + "  " + decisionWords(st)
	if !undecided(st) {
		line += term.Dim(" by " + term.Safe(st.By) + ", " + st.When.Local().Format("2 Jan 15:04"))
	}
	if st.Note != "" {
		line += "  “" + term.Safe(st.Note) + "”"
	}
	if in := s.In(st.Field); in != "" {
		line += term.Dim("  "+term.Safe(in)) + r.sideWords(u)
	}
	link := s.Linked
	if f := r.field(u); link == "" && f != nil {
		link = f.Linked
	}
	if link != "" {
		line += term.Dim("  decided together: " + term.Safe(link))
	}
	return line
}

// finding is the sentence of the first finding on a unit.
func (r *Model) finding(u int) string {
	row := r.change(u).Key.String()
	field := r.state(u).Field
	best := ""
	for _, code := range codes(r.state(u)) {
		for _, f := range r.m.Findings {
			if f.Code != code || f.Column != "" && field != "" && f.Column != field {
				continue
			}
			if f.Key == row {
				return code + ": " + term.Safe(f.Text)
			}
			if best == "" {
				best = code + ": " + term.Safe(f.Text)
			}
		}
		if best == "" {
			best = code
		}
	}
	return best
}

// fields are the record's fields, those that change first.
func (r *Model) fields(u, height int) []string {
	s := r.change(u)
	before, err := r.m.Before(s)
	if err != nil {
		return []string{err.Error()}
	}
	names := slices.Clone(r.m.Header.Fields)
	changed := func(name string) bool { return s.Field(name) != nil }
	slices.SortStableFunc(names, func(a, b string) int {
		switch {
		case changed(a) == changed(b):
			return 0
		case changed(a):
			return -1
		}
		return 1
	})
	wide := 8
	for _, n := range names {
		wide = max(wide, min(20, ansi.StringWidth(n)))
	}
	now, known := r.o.Current[s.ID]
	cols := 2
	if known {
		cols = 3
	}
	room := max(8, (r.width-4-wide-4*(cols-1))/cols)
	var lines []string
	wanted := s.Record
	if s.Act == changeset.Add {
		wanted = s.Chosen(s.States[0].Of)
	}
	for _, name := range names[min(r.scroll, len(names)):] {
		old, had := before.Get(name)
		is, there := wanted.Get(name)
		from, to := "", ""
		if had && !old.Blank() {
			from = term.Pale(term.Value(text(old), room))
		}
		i := slices.IndexFunc(s.Fields, func(f changeset.FieldChange) bool { return f.Field == name })
		switch {
		case i >= 0:
			f := &s.Fields[i]
			from, to = term.Pale(term.Value(shown(f.From), room)), "→ "+term.Strong(term.Value(shown(s.States[i].Wanted(f)), room-2))
		case s.Act == changeset.Add && there && !is.Blank():
			to = "→ " + term.Strong(term.Value(text(is), room-2))
		}
		line := "  " + fit(term.Safe(name), wide) + "  " + fit(from, room) + "  " + fit(to, room)
		if v, ok := now.Get(name); known && ok {
			line += "  now " + term.Value(shown(v), room-4)
		}
		if lines = append(lines, line); len(lines) == height {
			break
		}
	}
	return lines
}

func text(v record.Value) string {
	if v.IsNull() {
		return "(null)"
	}
	return v.String()
}

// message is the line above the keys: what is asked, what went wrong, what
// happened.
func (r *Model) message() string {
	switch r.ask {
	case searching:
		return "search: " + term.Safe(r.typed) + "▏"
	case filtering:
		return "where: " + term.Safe(r.typed) + "▏" + term.Dim("  such as new.service_fee > old.service_fee * 1.05")
	case noting:
		return "note: " + term.Safe(r.typed) + "▏"
	case confirming:
		return term.Strong(fmt.Sprintf("%s %s? y / n", r.pending.decision, term.Safe(r.pending.what)))
	}
	switch {
	case r.failed != nil:
		return term.Level("stop") + " " + term.Safe(r.failed.Error())
	case r.said != "":
		return term.Safe(r.said)
	case r.note != "":
		return term.Dim("note: " + term.Safe(r.note))
	}
	return ""
}

// keys are the keys that are needed most.
func (r *Model) keys() string {
	words := []string{"a approve", "h hold", "r reject", "z undo", "u undecided", "f finding", "? keys", "q leave", "A H R whole change", "o open", "n note", "/ search", "e where"}
	if r.focus == groups {
		words = []string{"a h r decide the group", "→ its changes", "z undo", "? keys", "q leave", "u undecided", "f finding", "n note", "/ search", "e where"}
	}
	line := ""
	for _, w := range words {
		if ansi.StringWidth(line)+len(w)+2 > r.width {
			break
		}
		key, rest, _ := strings.Cut(w, " ")
		line += term.Strong(key) + " " + term.Dim(rest) + "  "
	}
	return line
}

const helpText = `Keys

  ↑ ↓  k j        up and down            PgUp PgDn  a page
  g G  Home End   first and last         [ ]        scroll the record
  Tab  ← →        groups or changes      the mouse  clicks and scrolls

  a h r           approve, hold, reject: the field change at the cursor,
                  or, on the left, what is open in the group
  A H R           the whole change: all of its fields
  o O             open again: take a decision back
  1 2 3           whose side is meant, where copies disagree
  n               a note for the next decision
  z               undo the last decision of this review

  u               the next that is undecided
  f               the next with a finding
  /               search in keys and values
  e               only where an expression holds
  Esc             all again

  q               leave; every decision is on disk already

any key goes back`
