package review

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"paletwin/core/changeset"
)

// Init starts looking for others' decisions.
func (r *Model) Init() tea.Cmd { return wait() }

// Update takes in a key, a mouse, or a size.
func (r *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		r.width, r.height = msg.Width, msg.Height
	case tick:
		if more, err := r.m.Refresh(); err != nil {
			r.failed = err
		} else if more {
			r.said = "somebody else decided, too: read in"
		}
		return r, wait()
	case tea.KeyPressMsg:
		if r.key(msg) {
			return r, tea.Quit
		}
	case tea.PasteMsg:
		if r.ask != nothing && r.ask != confirming {
			r.typed += msg.Content
		}
	case tea.MouseWheelMsg:
		step := 3
		if msg.Button == tea.MouseWheelUp {
			step = -3
		}
		r.wheel(msg.X, msg.Y, step)
	case tea.MouseClickMsg:
		r.click(msg.X, msg.Y)
	}
	r.keep()
	return r, nil
}

// key handles a key; true leaves.
func (r *Model) key(k tea.KeyPressMsg) bool {
	word := k.String()
	switch {
	case r.help:
		r.help = false
	case r.ask == confirming:
		if r.ask = nothing; word == "y" || word == "enter" {
			r.decide(r.pending)
			if r.pending.next {
				r.goOn()
			}
		} else {
			r.said = "nothing was decided"
		}
	case r.ask != nothing:
		r.typing(k, word)
	case word == "q" || word == "ctrl+c":
		return true
	default:
		r.command(word)
	}
	return false
}

// typing takes in a key of what is being typed.
func (r *Model) typing(k tea.KeyPressMsg, word string) {
	switch word {
	case "enter":
		r.enter()
	case "esc", "ctrl+c":
		r.ask, r.typed = nothing, ""
	case "backspace":
		if t := []rune(r.typed); len(t) > 0 {
			r.typed = string(t[:len(t)-1])
		}
	default:
		r.typed += k.Text
	}
}

// enter takes what was typed.
func (r *Model) enter() {
	typed, ask := r.typed, r.ask
	r.ask, r.typed = nothing, ""
	switch ask {
	case searching:
		r.search, r.group = typed, 0
		r.regroup()
		r.said = fmt.Sprintf("%d found", len(r.groups[0].units))
	case filtering:
		r.where, r.filter = typed, nil
		if typed != "" {
			w, err := r.m.Where(typed)
			if err != nil {
				r.said = err.Error()
				r.where = ""
				return
			}
			r.filter = w
		}
		r.group = 0
		r.regroup()
		if r.filter != nil && r.filter.Err() != nil {
			r.said = r.filter.Err().Error()
		} else {
			r.said = fmt.Sprintf("%d let through", len(r.groups[0].units))
		}
	case noting:
		r.note = typed
		r.said = "the note goes with the next decision"
	}
}

// command carries out a key.
func (r *Model) command(word string) {
	r.said, r.failed = "", nil
	switch word {
	case "?":
		r.help = true
	case "tab", "shift+tab":
		r.focus = 1 - r.focus
	case "left", "esc":
		if word == "esc" && (r.search != "" || r.filter != nil) {
			r.search, r.where, r.filter = "", "", nil
			r.regroup()
			return
		}
		r.focus = groups
	case "right", "enter":
		r.focus = changes
	case "up", "k":
		r.move(-1)
	case "down", "j":
		r.move(1)
	case "pgup", "ctrl+u":
		r.move(-r.listHeight())
	case "pgdown", "ctrl+d", "space":
		r.move(r.listHeight())
	case "home", "g":
		r.move(-len(r.units) - len(r.groups))
	case "end", "G":
		r.move(len(r.units) + len(r.groups))
	case "[":
		r.scroll--
	case "]":
		r.scroll++
	case "a", "h", "r", "o":
		r.wishFor(word, false)
	case "A", "H", "R", "O":
		r.wishFor(word, true)
	case "1", "2", "3", "4", "5", "6", "7", "8", "9":
		r.choose(int(word[0] - '1'))
	case "z", "ctrl+z":
		r.undoLast()
	case "n":
		r.ask, r.typed = noting, r.note
	case "/":
		r.ask, r.typed = searching, r.search
	case "e":
		r.ask, r.typed = filtering, r.where
	case "u":
		r.jump("every change is decided", func(u int) bool { return undecided(r.state(u)) })
	case "f":
		r.jump("nothing more with a finding", func(u int) bool { return len(codes(r.state(u))) > 0 })
	}
}

var decisionOf = map[string]changeset.Decision{"a": changeset.Approve, "h": changeset.Hold, "r": changeset.Reject, "o": changeset.Open,
	"A": changeset.Approve, "H": changeset.Hold, "R": changeset.Reject, "O": changeset.Open}

// wishFor makes a decision on the unit at the cursor, on its whole change, or
// on the group; a group is confirmed.
func (r *Model) wishFor(key string, whole bool) {
	d := decisionOf[key]
	w := &wish{decision: d}
	if r.focus == groups {
		g := r.chosen()
		for _, u := range g.units {
			s := r.state(u)
			open := s.Decision == changeset.Open || s.ToolHeld() && r.isFinding(g)
			if d == changeset.Open {
				open = !undecided(s)
			}
			if open {
				w.units = append(w.units, u)
			}
		}
		w.units = r.linked(w.units)
		if len(w.units) == 0 {
			r.said = "nothing there is open: single changes are decided on the right"
			return
		}
		w.what = fmt.Sprintf("%d of %s", len(w.units), g.label)
		r.pending, r.ask = w, confirming
		return
	}
	u := r.current()
	if u < 0 {
		return
	}
	if w.units = []int{u}; whole {
		w.units = r.ofChange(u)
	}
	alone := len(w.units)
	w.units = r.linked(w.units)
	w.what = r.name(u, whole)
	if with := len(w.units) - alone; with > 0 {
		w.what += fmt.Sprintf(", and %d that go with it", with)
		w.next = true
		r.pending, r.ask = w, confirming
		return
	}
	r.decide(w)
	r.goOn()
}

// goOn goes on to the next unit after one was decided.
func (r *Model) goOn() {
	if r.failed == nil && r.at+1 < len(r.chosen().units) {
		r.at++
		r.scroll = 0
	}
}

// isFinding reports whether a group is of one finding: deciding on it decides
// on what the tool holds.
func (r *Model) isFinding(g *group) bool {
	for _, c := range changeset.Codes() {
		if c.Name == g.label {
			return true
		}
	}
	return false
}

// name says which unit it is.
func (r *Model) name(u int, whole bool) string {
	s := r.change(u)
	if f := r.field(u); f != nil && !whole {
		return s.Key.String() + " " + f.Field
	}
	return s.Key.String()
}

// move moves the cursor.
func (r *Model) move(by int) {
	if r.focus == groups {
		old := r.group
		r.group = clamp(r.group+by, len(r.groups))
		if r.group != old {
			r.at, r.top, r.scroll = 0, 0, 0
		}
		return
	}
	r.at = clamp(r.at+by, len(r.chosen().units))
	r.scroll = 0
}

func clamp(n, length int) int { return max(0, min(n, length-1)) }

// jump goes to the next unit that is sought, from the cursor on and around.
func (r *Model) jump(none string, sought func(u int) bool) {
	g := r.chosen()
	r.focus = changes
	for k := range g.units {
		i := (r.at + 1 + k) % len(g.units)
		if sought(g.units[i]) {
			r.at, r.scroll = i, 0
			return
		}
	}
	r.said = none
}

func (r *Model) wheel(x, y, step int) {
	l := r.lay()
	switch {
	case y > l.list:
		r.scroll += step
	case x < l.left:
		r.focus = groups
		r.move(step)
	default:
		r.focus = changes
		r.move(step)
	}
}

func (r *Model) click(x, y int) {
	l := r.lay()
	row := y - 2
	if row < 0 || row >= l.list || r.ask != nothing || r.help {
		return
	}
	if x < l.left {
		if n := r.groupAt(r.groupTop + row); n >= 0 {
			r.focus = groups
			r.move(n - r.group)
		}
		return
	}
	if n := r.top + row; n < len(r.chosen().units) {
		r.focus = changes
		r.move(n - r.at)
	}
}

// keep keeps the cursors in sight.
func (r *Model) keep() {
	l := r.lay()
	r.top = scrollTo(r.top, r.at, l.list)
	r.groupTop = scrollTo(r.groupTop, r.lineOf(r.group), l.list)
	r.scroll = max(0, min(r.scroll, len(r.m.Header.Fields)-1))
}

func scrollTo(top, at, height int) int {
	switch {
	case at < top:
		return at
	case at >= top+height:
		return at - height + 1
	}
	return top
}
