package update

import (
	"context"
	"slices"
	"strings"

	"paletwin/core/catchup"
	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/lend"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/document"
	"paletwin/internal/desk"
)

// Again is a copy that is lent anew: newer records, with the edits of an older copy.
type Again struct {
	Edited desk.Source
	Old    *desk.Source // what the copy was made from; nil is to be found on the desk
	Fresh  *desk.Table
	Sum    string // of the newer records, hexadecimal
	Key    []string
	Set    string
	Layout *desk.Layout
	Year   int
	Path   string
	Name   string
	Others bool // go on where few records are known
}

// LentAgain is what came of it.
type LentAgain struct {
	*table.Lent
	*catchup.Kept
	Stopped []changeset.Finding // rows of the copy that could not be used
}

// LendAgain writes a copy of newer records that has the edits of an older one, marked, and says
// beside them what others made of the same fields meanwhile.
func (o *Office) LendAgain(ctx context.Context, d *desk.Desk, a *Again) (*LentAgain, error) {
	a.Edited.Options = a.Layout.Reading(a.Edited.Options, false)
	edited, err := desk.OpenSource(o.FS, &a.Edited)
	if err != nil {
		return nil, err
	}
	defer edited.Close()
	if a.Old == nil {
		if a.Old, err = o.madeOf(d, a, edited); err != nil {
			return nil, err
		}
	}
	a.Old.Options = a.Layout.Reading(a.Old.Options, true)
	in := &catchup.Input{Set: a.Set, Key: a.Key, Fresh: a.Fresh.Image, Others: a.Others}
	c := &desk.Comparison{By: o.By, Tool: o.Tool, Now: o.Now(), Snapshot: *a.Old, Edited: &a.Edited, Layout: a.Layout}
	c.Options = compare.Options{RecordSet: a.Set, Key: a.Key}
	c.Options.Missing, c.Options.AllMissing, c.Options.Blank, c.Options.Slips = compare.Asked, true, compare.Clear, compare.SlipsHold
	c.Options.Wear, c.Options.Year = true, a.Year
	c.Sink = gather{&in.Changes}
	res, err := d.Preview(ctx, c)
	if err != nil {
		return nil, err
	}
	old, err := desk.OpenSource(o.FS, a.Old)
	if err != nil {
		return nil, err
	}
	defer old.Close()
	in.Old, in.Of = old.Image, c.Options.Layout.Schema()
	in.System = in.Of.System()
	kept, err := catchup.Keep(in)
	if err != nil {
		return nil, laying(err)
	}
	again := &LentAgain{Kept: kept}
	for _, f := range res.Findings {
		if f.Level == changeset.Stop && f.Scope == changeset.OfRecord && f.Row > 0 {
			again.Stopped = append(again.Stopped, f)
		}
	}
	w := a.copy(kept, edited.Image, c)
	again.Lent, err = o.Lend(ctx, d, w, a.Path, a.Name)
	return again, err
}

// copy is the copy that is written.
func (a *Again) copy(kept *catchup.Kept, edited *table.Image, c *desk.Comparison) *lend.Copy {
	w := &lend.Copy{Snapshot: a.Fresh.Image, SHA256: a.Sum, Key: a.Key, Layout: c.Options.Layout, Edits: map[record.Key]lend.Edit{}, All: true, Gone: kept.Gone}
	for _, h := range []string{"edited", "meanwhile"} {
		for a.Fresh.Column(h) >= 0 {
			h += " (to be read)"
		}
		w.Beside = append(w.Beside, h)
	}
	for k, own := range kept.Own {
		w.Edits[k] = lend.Edit{Values: own.Values, Beside: []string{strings.Join(own.Edits, "; "), strings.Join(own.Meanwhile, "; ")}}
	}
	if l := edited.Lent; l != nil && l.Narrow() {
		w.Fields = l.Fields
		w.Only = a.had(kept, edited, c.Options.Layout.Schema())
	}
	if len(kept.Left) > 0 {
		w.Pages = append(w.Pages, document.Page{Name: lend.LeftOut, Lines: append([]string{"Edits that do not go on, since others were there first"}, kept.Left...)})
	}
	return w
}

// had says which records a part of a snapshot has.
func (a *Again) had(kept *catchup.Kept, edited *table.Image, of *schema.Schema) func(record.Key) bool {
	has := map[record.Key]bool{}
	cols, err := csv.KeyColumns(edited, a.Key)
	if err == nil {
		err = csv.Each(context.Background(), edited, func(r *csv.Line) error {
			has[of.Key(r.Key(cols))] = true
			return nil
		})
	}
	return func(k record.Key) bool { return err == nil && (has[of.Key(k)] || kept.Gone[k]) }
}

// gather keeps the changes of a comparison.
type gather struct{ into *[]*changeset.Change }

func (g gather) WriteEncoded(_ []byte, changes []*changeset.Change) error {
	*g.into = append(*g.into, changes...)
	return nil
}

// madeOf finds the snapshot that a copy was made from.
func (o *Office) madeOf(d *desk.Desk, a *Again, edited *desk.Table) (*desk.Source, error) {
	t, err := dossierOf(d, edited, a.Edited.Name)
	if err != nil {
		return nil, err
	}
	return t.InputSource(t.Meta.Snapshot), nil
}

// dossierOf is the newest dossier that a copy is in, or that has the snapshot which the copy says it
// was lent from.
func dossierOf(d *desk.Desk, edited *desk.Table, name string) (*desk.Dossier, error) {
	all, err := d.Dossiers()
	if err != nil {
		return nil, err
	}
	sum, err := edited.SHA256()
	if err != nil {
		return nil, err
	}
	for _, t := range slices.Backward(all) {
		if t.Damage != nil || t.Meta.Snapshot == nil {
			continue
		}
		if edited.Lent != nil && edited.Lent.Snapshot == t.Meta.Snapshot.SHA256 || !t.IsPart() && slices.ContainsFunc(t.Meta.Edited, func(in *desk.Input) bool { return in.SHA256 == sum }) {
			return t, nil
		}
	}
	return nil, &Misuse{MadeOf, []any{name}}
}

// Lives finds where the records of a copy live now, and which they are: as its dossier knows it
// from what was taken, or from earlier runs.
func (o *Office) Lives(d *desk.Desk, copied *desk.Source) (target, set string, err error) {
	edited, err := desk.OpenSource(o.FS, copied)
	if err != nil {
		return "", "", err
	}
	defer edited.Close()
	t, err := dossierOf(d, edited, copied.Name)
	if err != nil {
		return "", "", err
	}
	if place := o.lives(t, new(Since)); place.Target != "" {
		return place.Target, t.Set().Name, nil
	}
	return "", "", &Misuse{WhereNow, []any{copied.Name}}
}
