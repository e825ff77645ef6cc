package update

import (
	"context"
	"slices"
	"strconv"

	"paletwin/core/changeset"
	"paletwin/core/lend"
	"paletwin/core/record"
	"paletwin/core/table/document"
	"paletwin/internal/desk"
	"paletwin/internal/run"
)

// refusedName is the workbook with what a system refused.
const refusedName = "refused.xlsx"

// writeRefused writes what was refused as a lent copy of the dossier's
// snapshot: the records as they were to be, beside each changed field what it
// was, and the reason. Corrected, it is compared like any edited copy.
func (o *Office) writeRefused(t *desk.Dossier, r *run.Record) (string, error) {
	l, err := t.Layout()
	if err != nil {
		return "", err
	}
	snapshot, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return "", err
	}
	defer snapshot.Close()
	c := &lend.Copy{Snapshot: snapshot.Image, SHA256: t.Meta.Snapshot.SHA256, Key: t.Set().Key, Layout: l, Texts: true, Edits: map[record.Key]lend.Edit{}}
	refused := r.Refused()
	changed := fillRefused(c, refused)
	c.Beside = []string{"reason"}
	for _, f := range changed {
		c.Beside = append(c.Beside, f+" before")
	}
	page := document.Page{Name: lend.Deletions, Lines: []string{"Deletions that were refused"}}
	for _, s := range refused {
		if s.Act == changeset.Delete {
			page.Lines = append(page.Lines, s.Key.String()+": "+s.Reason)
			continue
		}
		edit := lend.Edit{Beside: []string{s.Reason}}
		for f := range s.Record.All() {
			if s.Act == changeset.Add {
				edit.Values = append(edit.Values, f)
			}
		}
		for f := range s.Fields.All() {
			edit.Values.Set(f.Field, f.To)
		}
		for _, name := range changed {
			before := ""
			if f, there := s.Fields.Of(name); there {
				before = f.From.String()
			}
			edit.Beside = append(edit.Beside, before)
		}
		c.Edits[s.Key] = edit
	}
	if len(page.Lines) > 1 {
		c.Pages = append(c.Pages, page)
	}
	path := t.Path("load", strconv.Itoa(r.Head.Run), refusedName)
	_, err = o.Lend(context.Background(), t.Desk(), c, path, t.FileNumber()+"-"+refusedName)
	return path, err
}

// fillRefused chooses the fields to lend, the snapshot's that were to change
// or that new records have, and returns the changed ones in their order.
func fillRefused(c *lend.Copy, refused []*run.Step) (changed []string) {
	amended, added := map[string]bool{}, map[string]bool{}
	for _, s := range refused {
		for f := range s.Fields.All() {
			amended[f.Field] = true
		}
		for f := range s.Record.All() {
			added[f.Name] = added[f.Name] || s.Act == changeset.Add
		}
	}
	c.Fields = slices.Clone(c.Key)
	for _, h := range c.Snapshot.Heading {
		if amended[h] {
			changed = append(changed, h)
		}
		if amended[h] || added[h] {
			c.Fields = append(c.Fields, h)
		}
	}
	return changed
}
