package cli

import (
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

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
	known, err := csv.Lookup(snapshot.Image, t.Set().Key, keys, nil)
	if err != nil {
		return err
	}
	for n, k := range keys {
		if n > 0 {
			a.out.Line("")
		}
		was, there := known[k]
		several := 0 // where copies disagree about a record, an amend and a delete
		for _, p := range found {
			if p.Key != k {
				continue
			}
			if several++; several > 1 {
				a.out.Line("")
			}
			a.sideBySide(c.Header.Fields, was, p)
		}
		switch {
		case several > 0:
		case there:
			a.out.Line("%s  %s", screen.Strong(screen.Safe(k.String())), screen.Dim("no change"))
			a.sideBySide(c.Header.Fields, was, nil)
		case t.Meta.Snapshot.Partial():
			return usage("record %s is none of those that differ: the tables were compared where they are, and what both have alike stayed there", k)
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
		switch from := where(p.Act, p.Copies); {
		case p.Act != changeset.Amend:
			if whole = decided(&p.states[0]); p.Act == changeset.Add && from != "" {
				from = "in " + from
			}
			if from != "" {
				whole += screen.Dim("  " + from)
			}
		case p.Copies != nil:
			whole = screen.Dim("in " + from + ", and not in " + copyNames(p.Copies.There))
		}
		a.out.Line("%s  %s  %s  %s", screen.Strong(screen.Safe(p.Key.String())), screen.Act(p.Act.String()), screen.Dim(p.ID.String()[:8]), whole)
		if p.Act == changeset.Add {
			is = p.Chosen(p.states[0].Of)
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
				row[1], row[2], row[3], row[4] = screen.Pale(value(old, 44)), "→", screen.Strong(value(p.states[i].Wanted(&p.Fields[i]), 44)), decided(&p.states[i])
				if from := where(p.Act, p.Fields[i].Copies); from != "" {
					row[4] += screen.Dim("  in " + from)
				}
			}
		}
		tab.Row(row...)
		for _, cells := range othersOf(p, name) {
			tab.Row(cells...)
		}
	}
	tab.Print(a.out)
}

// othersOf are lines about what other copies have for a field.
func othersOf(p *picked, name string) (rows [][]string) {
	if p == nil || p.Copies == nil && p.Field(name) == nil {
		return nil
	}
	row := func(v record.Value, of []string) {
		rows = append(rows, []string{"", "", screen.Dim("or"), screen.Strong(value(v, 44)), screen.Dim("in " + copyNames(of))})
	}
	if f := p.Field(name); f != nil {
		for _, s := range sidesOf(f.Copies) {
			row(s.To, s.Of)
		}
		return rows
	}
	for _, s := range sidesOf(p.Copies) {
		if v, unlike := s.Record.Get(name); unlike {
			row(v, s.Of)
		}
	}
	return rows
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
