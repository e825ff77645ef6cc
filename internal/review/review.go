// Package review is the full-screen review of a dossier: groups of changes on
// the left, the changes of a group on the right, the whole record below.
// Every decision is on disk the moment it is made, and decisions that others
// make meanwhile are read in.
package review

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
)

// Options say who reviews, and what is known besides.
type Options struct {
	By, Via string
	Now     func() time.Time
	Plain   bool // no colours
	// Current is what the target had when it was last read, by change.
	Current map[changeset.ID]record.Record
}

// unit is a field of an amend, or a whole add or delete: what is decided.
type unit struct {
	change int // in Matter.Changes
	state  int
}

// group is units that have something in common.
type group struct {
	title string // what kind of group it is, for the first of a kind
	label string
	act   changeset.Act // for its colour, or 0
	units []int         // indexes of Model.units
}

// pane is where the keys go.
type pane int

const (
	groups pane = iota
	changes
)

// asking is what is being typed or answered.
type asking int

const (
	nothing asking = iota
	searching
	filtering
	noting
	confirming
)

// Model is the state of a review. It is a tea.Model.
type Model struct {
	o      Options
	m      *desk.Contents
	units  []unit
	groups []group

	width, height int
	cursor
	question
	choice
	help   bool
	note   string // goes with the next decisions
	said   string // what happened last
	failed error
	done   []undo
}

// cursor is where the reader is.
type cursor struct {
	focus    pane
	group    int // the chosen group
	groupTop int // the first that is seen
	at       int // the chosen unit of the group
	top      int
	scroll   int // of the record
}

// question is what is asked for just now, and what was typed of the answer.
type question struct {
	ask     asking
	typed   string
	pending *wish // what is confirmed
}

// choice is what of the changes is listed.
type choice struct {
	search string
	where  string
	filter changeset.Where
}

// wish is a decision that is about to be made.
type wish struct {
	decision changeset.Decision
	units    []int
	what     string
	next     bool   // the cursor goes on to the next unit
	of       string // the copy whose side is approved; "" is none
	against  []int  // the units that stand against it, and are rejected
}

// undo is what stood before a decision.
type undo struct {
	what string
	was  map[changeset.Decision][]int // units by what stood decided; Open is nothing, or a hold of the tool
	note map[int]string
	of   map[int]string // whose side was approved
}

// New makes the review of what a dossier holds.
func New(m *desk.Contents, o Options) *Model {
	r := &Model{m: m, o: o, width: 80, height: 24}
	for i, s := range m.Changes {
		for u := range s.States {
			r.units = append(r.units, unit{i, u})
		}
	}
	r.regroup()
	return r
}

// state is what stands decided about a unit.
func (r *Model) state(u int) *changeset.State {
	return &r.m.Changes[r.units[u].change].States[r.units[u].state]
}

func (r *Model) change(u int) *desk.DecidedChange { return r.m.Changes[r.units[u].change] }

// field is the field change that a unit is, or nil.
func (r *Model) field(u int) *changeset.FieldChange {
	s := r.change(u)
	if s.Act != changeset.Amend {
		return nil
	}
	return &s.Fields[r.units[u].state]
}

// codes are the findings on a unit.
func codes(s *changeset.State) []string { return slices.Concat(s.Stop, s.Held, s.Noted) }

// undecided reports whether no person decided on a unit.
func undecided(s *changeset.State) bool { return s.Decision == changeset.Open || s.ToolHeld() }

// mostPatterns is how many groups of one move are listed.
const mostPatterns = 30

// regroup makes the groups of all units that the search and the filter let
// through: by act, by field, by finding, by what became what.
func (r *Model) regroup() {
	var all []int
	for u := range r.units {
		if r.shows(u) {
			all = append(all, u)
		}
	}
	r.groups = []group{{label: "all changes", units: all}}
	r.groupBy("by act", all, func(u int) []string { return []string{r.change(u).Act.String()} }, []string{"amend", "add", "delete"}, 1)
	r.groupBy("by field", all, func(u int) []string {
		if f := r.field(u); f != nil {
			return []string{f.Field}
		}
		return nil
	}, r.m.Header.Fields, 1)
	var names []string
	for _, c := range changeset.Codes() {
		names = append(names, c.Name)
	}
	r.groupBy("by finding", all, func(u int) []string { return codes(r.state(u)) }, names, 1)
	r.groupBy("by move", all, func(u int) []string {
		f := r.field(u)
		if f == nil {
			return nil
		}
		return []string{f.Field + ": " + shown(f.From) + " → " + shown(f.To)}
	}, nil, 2)
	r.group = min(r.group, len(r.groups)-1)
	r.at, r.top, r.scroll = 0, 0, 0
}

// groupBy adds a group for each word that units have, in the order given or,
// without one, the largest first.
func (r *Model) groupBy(title string, all []int, words func(u int) []string, order []string, least int) {
	by := map[string][]int{}
	for _, u := range all {
		for _, w := range words(u) {
			if list := by[w]; len(list) == 0 || list[len(list)-1] != u {
				by[w] = append(list, u)
			}
		}
	}
	if order == nil {
		for w := range by {
			order = append(order, w)
		}
		slices.SortFunc(order, func(a, b string) int { return cmp.Or(cmp.Compare(len(by[b]), len(by[a])), cmp.Compare(a, b)) })
		order = order[:min(len(order), mostPatterns)]
	}
	for _, w := range order {
		if len(by[w]) >= least {
			act, _ := changeset.ParseAct(w)
			r.groups = append(r.groups, group{title, w, act, by[w]})
			title = ""
		}
	}
}

// shows reports whether the search and the filter let a unit through.
func (r *Model) shows(u int) bool {
	s := r.change(u)
	if r.filter != nil && !r.filter.Holds(s.Change) {
		return false
	}
	if r.search == "" {
		return true
	}
	if has(s.Key.String(), r.search) || strings.HasPrefix(s.ID.String(), strings.ToLower(r.search)) {
		return true
	}
	if f := r.field(u); f != nil {
		return has(f.Field, r.search) || has(f.From.String(), r.search) || has(f.To.String(), r.search)
	}
	return slices.ContainsFunc(s.Record, func(f record.Field) bool { return has(f.Value.String(), r.search) })
}

func has(text, part string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(part))
}

// chosen is the group that is looked at.
func (r *Model) chosen() *group { return &r.groups[r.group] }

// current is the unit at the cursor, or -1.
func (r *Model) current() int {
	if g := r.chosen(); r.at < len(g.units) {
		return g.units[r.at]
	}
	return -1
}

// counts are what stands decided about all units; they add up to the number of
// units.
type counts struct{ open, approved, held, rejected int }

func (r *Model) count(units []int) (n counts) {
	for _, u := range units {
		switch s := r.state(u); s.Decision {
		case changeset.Approve:
			n.approved++
		case changeset.Hold:
			n.held++
		case changeset.Reject:
			n.rejected++
		default:
			n.open++
		}
	}
	return n
}

func (r *Model) all() counts {
	units := make([]int, len(r.units))
	for i := range units {
		units[i] = i
	}
	return r.count(units)
}

// decide makes a decision on units and writes it down.
func (r *Model) decide(w *wish) {
	before := undo{what: w.what, was: map[changeset.Decision][]int{}, note: map[int]string{}, of: map[int]string{}}
	keep := func(u int) {
		s := r.state(u)
		was := s.Decision
		if s.ToolHeld() {
			was = changeset.Open
		}
		before.was[was] = append(before.was[was], u)
		before.note[u], before.of[u] = s.Note, s.Of
	}
	var take []int
	stopped := 0
	for _, u := range w.units {
		s := r.state(u)
		if w.decision == changeset.Approve && s.Barred() && w.of == "" {
			stopped++
			continue
		}
		take = append(take, u)
		keep(u)
	}
	for _, u := range w.against {
		keep(u)
	}
	r.said = fmt.Sprintf("%s: %s", w.decision, w.what)
	if stopped > 0 {
		r.said += fmt.Sprintf("; %d cannot be approved", stopped)
	}
	if len(take) == 0 {
		return
	}
	if r.write(w.decision, take, r.note, w.of) {
		r.done = append(r.done, before)
		r.note = ""
	}
}

// write writes a decision down and reads back what stands then.
func (r *Model) write(d changeset.Decision, units []int, note, of string) bool {
	o := &desk.Order{Decision: d, Units: map[changeset.ID][]string{}, By: r.o.By, Via: r.o.Via, When: r.o.Now(), Note: note, How: "review", Filter: changeset.Filter{Of: of}}
	for _, u := range units {
		id := r.change(u).ID
		o.Units[id] = append(o.Units[id], r.state(u).Field)
	}
	_, err := r.m.Dossier.Decide(o)
	if err == nil {
		_, err = r.m.Refresh()
	}
	r.failed = err
	return err == nil
}

// undoLast brings back what stood before the last decision of this review.
func (r *Model) undoLast() {
	if len(r.done) == 0 {
		r.said = "nothing to undo"
		return
	}
	last := r.done[len(r.done)-1]
	for _, d := range []changeset.Decision{changeset.Open, changeset.Approve, changeset.Hold, changeset.Reject} {
		type as struct{ note, of string }
		alike := map[as][]int{}
		var order []as
		for _, u := range last.was[d] {
			x := as{last.note[u], last.of[u]}
			if len(alike[x]) == 0 {
				order = append(order, x)
			}
			alike[x] = append(alike[x], u)
		}
		for _, x := range order {
			if !r.write(d, alike[x], x.note, x.of) {
				return
			}
		}
	}
	r.done = r.done[:len(r.done)-1]
	r.said = "undone: " + last.what
}

// linked adds to units those that are decided together with them: linked
// changes, and linked fields of one record.
func (r *Model) linked(units []int) []int {
	type within struct {
		change int
		link   string
	}
	links, fields, in := map[string]bool{}, map[within]bool{}, map[int]bool{}
	for _, u := range units {
		in[u] = true
		links[r.change(u).Linked] = true
		if f := r.field(u); f != nil {
			fields[within{r.units[u].change, f.Linked}] = true
		}
	}
	delete(links, "")
	for u := range r.units {
		f := r.field(u)
		if !in[u] && (links[r.change(u).Linked] || f != nil && f.Linked != "" && fields[within{r.units[u].change, f.Linked}]) {
			units = append(units, u)
		}
	}
	return units
}

// ofChange are all units of the change that a unit is of.
func (r *Model) ofChange(u int) []int {
	var all []int
	for k := u; k >= 0 && r.units[k].change == r.units[u].change; k-- {
		all = append(all, k)
	}
	for k := u + 1; k < len(r.units) && r.units[k].change == r.units[u].change; k++ {
		all = append(all, k)
	}
	slices.Sort(all)
	return all
}

// tick is the time to look whether others decided.
type tick struct{}

const looking = 2 * time.Second

func wait() tea.Cmd { return tea.Tick(looking, func(time.Time) tea.Msg { return tick{} }) }

// Run shows the review until it is left.
func Run(m *desk.Contents, o Options, options ...tea.ProgramOption) error {
	end, err := tea.NewProgram(New(m, o), options...).Run()
	if r, ok := end.(*Model); ok && err == nil {
		err = r.failed
	}
	if errors.Is(err, tea.ErrInterrupted) {
		return nil // what was decided is written
	}
	return err
}
