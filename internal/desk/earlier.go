package desk

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// mostEarlier is how many earlier snapshots are read to tell whether an edit
// puts an old value back: those of the newest dossiers, since older values
// seldom come back, and each has to be read as a whole.
const mostEarlier = 3

// others are the other dossiers of the same records, newest first. Those that
// return to an earlier state are none, and a damaged one tells nothing.
func (d *Desk) others(c *Comparison) ([]*Dossier, error) {
	all, err := d.Dossiers()
	if err != nil {
		return nil, err
	}
	slices.Reverse(all)
	return slices.DeleteFunc(all, func(t *Dossier) bool {
		return t.Damage != nil || t.Meta.Undoes != nil || t.Meta.Snapshot == nil || t.Meta.Snapshot.Partial() || c.Into != nil && t.Meta.Number == c.Into.Meta.Number ||
			t.Set().Name != c.Options.RecordSet || !slices.Equal(t.Set().Key, c.Options.Key)
	}), nil
}

// lookBack lets a comparison of a snapshot ask what was lent of it, who refers to its records, and, where
// slips are looked for, what other dossiers' snapshots had. own gives the
// snapshot's digest; a file of another size is not asked for.
func (d *Desk) lookBack(c *Comparison, snapshot *Table, own func() string) {
	if lent, err := d.FS.ReadDir(filepath.Join(d.Dir, lentFolder)); err == nil && len(lent) > 0 {
		c.Options.Lends = func() []*table.Lent { return d.Lends(own()) }
	}
	c.Options.Referrers = func(ctx context.Context) ([]compare.Referrer, []changeset.Finding, error) { return d.referrers(ctx, c) }
	if c.Options.Slips != compare.SlipsHold && c.Options.Slips != compare.SlipsWarn {
		return
	}
	same := func(in *Input) bool { return in.Size == int64(len(snapshot.m.Data)) && in.SHA256 == own() }
	c.Options.Others = func() ([]compare.Other, error) {
		all, err := d.others(c)
		if err != nil {
			return nil, err
		}
		var others []compare.Other
		for _, t := range all {
			if s := t.Set().Sample; s != nil && !same(t.Meta.Snapshot) {
				others = append(others, compare.Other{Name: t.called(), Sample: *s})
			}
		}
		return others, nil
	}
	c.Options.Earlier = func(ctx context.Context, fields []string, keys map[string]bool) ([]compare.Earlier, error) {
		all, err := d.others(c)
		if err != nil {
			return nil, err
		}
		var past []compare.Earlier
		seen := map[string]bool{}
		for _, t := range all {
			if len(past) == mostEarlier {
				break
			}
			if sum := t.Meta.Snapshot.SHA256; !seen[sum] && !same(t.Meta.Snapshot) {
				seen[sum] = true
				if e, err := t.had(ctx, fields, keys); err == nil {
					past = append(past, e)
				} else if ctx.Err() != nil {
					return nil, err
				} // what cannot be read tells nothing; history --check says so
			}
		}
		return past, nil
	}
}

func (t *Dossier) called() string { return fmt.Sprintf("dossier %s (%s)", t.Meta.Number, t.Meta.Title) }

// had reads what the dossier's snapshot has for the fields of some records.
func (t *Dossier) had(ctx context.Context, fields []string, keys map[string]bool) (compare.Earlier, error) {
	e := compare.Earlier{Name: t.called(), Values: map[string][]*string{}}
	m, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return e, err
	}
	defer m.Close()
	key, err := csv.KeyColumns(m.Image, t.Set().Key)
	if err != nil {
		return e, &DamageError{t.Path(t.Meta.Snapshot.File), err}
	}
	column := make([]int, len(fields))
	for i, f := range fields {
		column[i] = m.Column(f)
	}
	var enc []byte
	err = csv.Each(ctx, m.Image, func(r *csv.Line) error {
		if enc = r.AppendKey(enc[:0], key); !keys[string(enc)] {
			return nil
		}
		values := make([]*string, len(fields))
		for i, col := range column {
			if col >= 0 && col < r.Len() {
				values[i] = new(r.Text(col))
			}
		}
		e.Values[string(enc)] = values
		return nil
	})
	return e, err
}
