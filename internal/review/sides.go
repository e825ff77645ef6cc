package review

import (
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/internal/term"
)

// side is what one copy has, where copies disagree: its name, and the units that are it.
type side struct {
	copy  string
	units []int
}

// sides lists whose side of a unit can be approved; none where copies do not disagree about it.
func (r *Model) sides(u int) []side {
	s := r.change(u)
	if !slices.Contains(r.state(u).Stop, changeset.CopiesDisagree.Name) {
		return nil
	}
	names := s.Sources()
	against, is := s.Against(r.m.Header.RecordSet)
	units := []int{u}
	if is {
		names = append(names, s.Copies.There...)
		units = r.ofChange(u)
	}
	slices.Sort(names)
	var all []side
	for _, name := range slices.Compact(names) {
		x := side{name, r.comes(units, name)}
		if len(x.units) == 0 && is {
			x.units = r.comes(r.ofID(against), name)
		}
		if len(x.units) > 0 {
			all = append(all, x)
		}
	}
	return all
}

// comes are the units that a copy has.
func (r *Model) comes(units []int, name string) (all []int) {
	f := changeset.Filter{Of: name}
	for _, u := range units {
		if f.Comes(r.change(u).Change, r.units[u].state) {
			all = append(all, u)
		}
	}
	return all
}

// ofID are the units of a change.
func (r *Model) ofID(id changeset.ID) []int {
	for u := range r.units {
		if r.change(u).ID == id {
			return r.ofChange(u)
		}
	}
	return nil
}

// choose approves the n-th side of the unit at the cursor.
func (r *Model) choose(n int) {
	u := r.current()
	if r.focus == groups || u < 0 {
		return
	}
	all := r.sides(u)
	if n >= len(all) {
		r.said = "copies do not disagree there"
		if len(all) > 0 {
			r.said = fmt.Sprintf("there are %d sides", len(all))
		}
		return
	}
	w := &wish{decision: changeset.Approve, of: all[n].copy, units: all[n].units, what: r.name(u, false) + " as " + all[n].copy + " has it"}
	if other, is := r.change(w.units[0]).Against(r.m.Header.RecordSet); is {
		w.against = r.ofID(other)
	}
	r.decide(w)
	r.goOn()
}

// sideWords say which key approves whose side.
func (r *Model) sideWords(u int) string {
	words := ""
	for n, x := range r.sides(u) {
		words += "  " + term.Strong(fmt.Sprint(n+1)) + " " + term.Safe(x.copy)
	}
	return words
}
