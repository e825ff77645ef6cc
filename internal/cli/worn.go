package cli

import (
	"context"
	"slices"

	"paletwin/core/compare"
	"paletwin/core/wear"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

var readAs = map[wear.As]string{wear.Snapshot: "snapshot", wear.Held: "held", wear.Edit: "edit", wear.Unknown: "unknown"}

// showWear lists the cells of the copy that a program wrote otherwise.
func (a *app) showWear(ctx context.Context, t *desk.Dossier, sel *selection, limit int) error {
	all, err := t.Worn(ctx)
	if err != nil {
		return err
	}
	if len(sel.fields) > 0 {
		all = slices.DeleteFunc(all, func(c compare.Cell) bool { return !slices.Contains(sel.fields, c.Field) })
	}
	if a.json {
		for _, c := range all {
			key := ordered{}
			for i, part := range c.Key.Parts() {
				key = append(key, member{t.Set().Key[i], part})
			}
			cell := ordered{{"key", key}, {"field", c.Field}, {"row", c.Row}, {"snapshot", c.Snapshot}, {"seen", c.Seen}, {"kind", c.Kind}, {"read_as", readAs[c.As]}}
			if c.File != "" {
				cell = append(cell, member{"file", c.File})
			}
			if err := a.printJSON(cell); err != nil {
				return err
			}
		}
		return nil
	}
	a.out.Line("%s  %s", screen.Strong(t.Meta.Number), screen.Strong(screen.Safe(t.Meta.Title)))
	if len(all) == 0 {
		a.out.Line("no cell of the copy shows the marks of a program")
		return nil
	}
	a.out.Line("")
	tab := screen.Table{Indent: "  ", Right: []bool{true}, Heading: []string{"row", "field", "snapshot", "seen", "kind", "read as"}}
	if all[0].File != "" {
		tab.Heading = append(tab.Heading, "in")
	}
	n := len(all)
	if limit > 0 {
		n = min(n, limit)
	}
	for _, c := range all[:n] {
		tab.Row(screen.Count(c.Row), screen.Safe(c.Field), screen.Strong(screen.Value(c.Snapshot, 32)), screen.Pale(screen.Value(c.Seen, 32)), string(c.Kind), readAs[c.As], screen.Dim(screen.Safe(c.File)))
	}
	tab.Print(a.out)
	if n < len(all) {
		a.out.Line("  … and %s more: --limit 0 shows all", screen.Plural(len(all)-n, "cell"))
	}
	return nil
}
