package desk

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
)

// Order is a decision as it was given on a command line.
type Order struct {
	Decision changeset.Decision
	Names    []string // change ids or their beginnings, each perhaps with /field
	Filter   changeset.Filter
	// Choose, if not nil, makes the filter once the change set's fields are
	// known.
	Choose func(fields []string) (changeset.Filter, error)
	Held   bool
	By     string
	When   time.Time
	Note   string
	How    string
}

// NameError says that a name on the command line names no change, or more
// than one.
type NameError struct {
	Name   string
	Field  string   // the field that the change does not have
	Ids    []string // the ids that begin with it, if there are several
	Fields []string // the fields the change has
}

func (e *NameError) Error() string {
	switch {
	case e.Field != "":
		return fmt.Sprintf("change %s has no field %q; it changes %s", e.Name, e.Field, strings.Join(e.Fields, ", "))
	case len(e.Ids) > 0:
		return fmt.Sprintf("%q begins several change ids: %s", e.Name, strings.Join(e.Ids, ", "))
	}
	return fmt.Sprintf("no change has the id %q", e.Name)
}

// Decide makes a decision on named changes, or on a group, and writes it
// down. What it touched comes back; if that is nothing, nothing is written.
func (t *Dossier) Decide(o *Order) (changeset.Touched, error) {
	lock, err := t.Lock()
	if err != nil {
		return changeset.Touched{}, err
	}
	defer lock.Unlock()
	c, err := t.Changes()
	if err != nil {
		return changeset.Touched{}, err
	}
	defer c.Close()
	if o.Choose != nil {
		if o.Filter, err = o.Choose(c.Header.Fields); err != nil {
			return changeset.Touched{}, err
		}
	}
	var n changeset.Touched
	acts, err := o.acts(c, &n)
	if err != nil {
		return n, err
	}
	for i := range acts {
		a := &acts[i]
		if len(a.On) == 0 {
			continue
		}
		a.RecordSet, a.Decision, a.By, a.When, a.Note, a.How = t.Set().Name, o.Decision, o.By, o.When, o.Note, o.How
		if err := t.append(c.Ledger, a); err != nil {
			return n, err
		}
	}
	return n, nil
}

// acts collects what the order touches: one act for a group; for names, one
// for whole changes and one for fields.
func (o *Order) acts(c *Changes, n *changeset.Touched) ([]changeset.DecisionAct, error) {
	if len(o.Names) == 0 {
		r := changeset.Ruling{Decision: o.Decision, Filter: o.Filter, Held: o.Held}
		a := changeset.DecisionAct{ByField: len(o.Filter.Fields) > 0, Held: o.Held || len(o.Filter.Findings) > 0}
		for line := range c.Lines() {
			if err := ruleOn(c, &r, line, &a.On, n); err != nil {
				return nil, err
			}
		}
		return []changeset.DecisionAct{a}, nil
	}
	whole := changeset.DecisionAct{Held: o.Held}
	fields := changeset.DecisionAct{Held: o.Held, ByField: true}
	for _, name := range o.Names {
		id, field, byField := strings.Cut(name, "/")
		line, err := find(c, id)
		if err != nil {
			return nil, err
		}
		r := changeset.Ruling{Decision: o.Decision, Filter: o.Filter, Held: o.Held, Named: true}
		on := &whole.On
		if byField {
			if err := hasField(c, line, id, field); err != nil {
				return nil, err
			}
			r.Filter.Fields = []string{field}
			on = &fields.On
		}
		if err := ruleOn(c, &r, line, on, n); err != nil {
			return nil, err
		}
	}
	return []changeset.DecisionAct{whole, fields}, nil
}

func ruleOn(c *Changes, r *changeset.Ruling, line changeset.Line, on *[]changeset.Pair, n *changeset.Touched) error {
	ch, err := line.Change(c.Header.Fields)
	if err != nil {
		return err
	}
	*on = r.Pairs(*on, n, line, ch, c.Ledger.States(line, ch))
	return nil
}

func find(c *Changes, prefix string) (changeset.Line, error) {
	lines, err := c.Find(strings.ToLower(prefix), 4)
	if err != nil || len(lines) == 0 {
		return nil, &NameError{Name: prefix}
	}
	if len(lines) > 1 {
		e := &NameError{Name: prefix}
		for _, l := range lines {
			e.Ids = append(e.Ids, l.ID().String())
		}
		return nil, e
	}
	return lines[0], nil
}

func hasField(c *Changes, line changeset.Line, id, field string) error {
	ch, err := line.Change(c.Header.Fields)
	if err != nil || ch.Field(field) != nil {
		return err
	}
	e := &NameError{Name: id, Field: field}
	for _, f := range ch.Fields {
		e.Fields = append(e.Fields, f.Field)
	}
	if len(e.Fields) == 0 {
		e.Fields = []string{"the record as a whole"}
	}
	slices.Sort(e.Fields)
	return e
}
