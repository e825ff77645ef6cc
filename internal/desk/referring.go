package desk

import (
	"context"
	"path/filepath"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// referrers are the fields that name the records which are compared: those of the layouts
// on the desk that refer to a list of these, with how often each record is named where the
// other records were seen last. What cannot be read is said.
func (d *Desk) referrers(ctx context.Context, c *Comparison) (all []compare.Referrer, findings []changeset.Finding, err error) {
	for _, set := range d.LayoutNames() {
		if set == c.Options.RecordSet {
			continue
		}
		unknown := func(err error) {
			f := changeset.ReferUnknown.Finding("whether records of %s refer to those that are to be deleted is not known: %v", set, err)
			findings = append(findings, f)
		}
		l, err := d.FindLayout(set)
		if err != nil {
			unknown(err)
			continue
		}
		fields := c.referring(l)
		if len(fields) == 0 {
			continue
		}
		seen, err := d.lastSeen(set, l)
		if err == nil && seen != nil {
			err = countReferrers(ctx, seen.Image, fields)
			_ = seen.Close() // only read
		}
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil {
			unknown(err)
		} else if seen != nil {
			all = append(all, fields...)
		}
	}
	return all, findings, nil
}

// referring are the fields of a layout that name the records which are compared, by
// their key.
func (c *Comparison) referring(l *Layout) (all []compare.Referrer) {
	for i := range l.Fields {
		f := &l.Fields[i]
		if f.List == nil || f.List.Set() != c.Options.RecordSet || len(c.Options.Key) != 1 || f.List.By != c.Options.Key[0] {
			continue
		}
		form := c.Options.Layout.Schema().KeyForm
		all = append(all, compare.Referrer{Set: l.RecordSet, Field: f.Name, By: f.List.By, Count: map[string]int{},
			Form: func(value string) string { return form.Form(f.Compare.Normal(f.Write(value))) }})
	}
	return all
}

// countReferrers counts what records name.
func countReferrers(ctx context.Context, img *table.Image, fields []compare.Referrer) error {
	cols := make([]int, len(fields))
	for i := range fields {
		fields[i].From, cols[i] = img.Name, img.Column(fields[i].Field)
	}
	return csv.Each(ctx, img, func(r *csv.Line) error {
		for i, col := range cols {
			if v, there := r.Value(col); there && !v.Blank() {
				fields[i].Count[fields[i].Form(v.String())]++
			}
		}
		return nil
	})
}

// lastSeen opens the records of a set as they were seen last: the snapshot of its newest
// dossier, or a list of them that lies on the desk, whichever is newer; nil is neither.
func (d *Desk) lastSeen(set string, l *Layout) (*Table, error) {
	dossiers, err := d.Dossiers()
	if err != nil {
		return nil, err
	}
	var newest *Dossier
	for _, t := range dossiers {
		if t.Damage == nil && t.Meta.Undoes == nil && t.Meta.Snapshot != nil && !t.Meta.Snapshot.Partial() && t.Set().Name == set {
			newest = t
		}
	}
	path, when := d.listed(set, filepath.Dir(l.Path))
	switch {
	case newest != nil && (path == "" || newest.Meta.When.After(when)):
		return newest.OpenInput(newest.Meta.Snapshot)
	case path != "":
		return OpenTable(d.FS, path, d.rel(path), Reading(l.Layout, table.Options{Password: d.Password}, true))
	}
	return nil, nil
}

// listed finds the list of a record set, where one lies on the desk or beside its layout,
// and when it was written.
func (d *Desk) listed(set, beside string) (path string, when time.Time) {
	for _, dir := range []string{d.Dir, beside} {
		for _, ext := range []string{".csv", ".xlsx"} {
			path := filepath.Join(dir, set+ext)
			if info, err := d.FS.Stat(path); err == nil && !info.IsDir() {
				return path, info.ModTime()
			}
		}
	}
	return "", when
}
