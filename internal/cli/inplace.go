package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/internal/desk"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

// betweenTables is two tables that the command line names to be compared, by their URLs.
type betweenTables struct{ from, to string }

// tables reports which tables the command line names, where it names two and nothing else.
func (a *app) tables(args []string) (*betweenTables, error) {
	if len(args) != 2 {
		return nil, nil
	}
	d, err := a.desk()
	if err != nil {
		return nil, err
	}
	var urls [2]string
	for i, name := range args {
		url := target.In(a.wd, a.named(name))
		if !a.isTable(d, name) || !target.IsDatabase(url) {
			return nil, nil
		}
		urls[i] = url
	}
	return &betweenTables{urls[0], urls[1]}, nil
}

// whole says why two tables have to be read whole, as far as the command line says; "" is nothing.
func (f *compareFlags) whole(c *desk.Comparison) string {
	var why []string
	add := func(said bool, flag string) {
		if said {
			why = append(why, flag)
		}
	}
	add(f.exact, "--exact")
	add(f.wearSaid && f.wear == "on", "--with wear=on")
	add(f.slipsSaid && f.slips != compare.SlipsOff, "--with slips="+f.slips)
	add(f.checkAll, "--with check-all")
	add(f.deleteList != "", "--delete-list")
	add(f.from.source != "", "--source")
	add(f.from.as != "", "--as")
	add(len(f.from.columns) > 0, "--map")
	add(c.Layout != nil && c.Layout.Shape != (layout.Shape{}), "a layout of another shape")
	return strings.Join(why, ", ")
}

// between fills a comparison with what differs between two tables, compared where they are, or with both of them where
// that cannot be.
func (a *app) between(ctx context.Context, d *desk.Desk, c *desk.Comparison, t *betweenTables, f *compareFlags) error {
	why := f.whole(c)
	if why == "" {
		b, err := a.office().Between(ctx, d, t.from, t.to, c.Options.Key, layoutOf(c))
		var not *update.NotInPlace
		switch {
		case errors.As(err, &not):
			why = not.Why
		case err != nil:
			return err
		default:
			a.ends = append(a.ends, b.End)
			c.InPlace, c.Options.Wear, c.Options.Slips, c.Options.Key = b.InPlace, false, compare.SlipsOff, b.Snapshot.Key
			t.fill(c, b.Snapshot, b.Edited)
			a.hint("%s", screen.Dim(betweenWords(b)))
			return nil
		}
	}
	if why != "--exact" {
		a.hint("%s", screen.Dim("both tables are read whole: "+why))
	}
	return a.readWhole(ctx, d, c, t)
}

// readWhole fills a comparison with both tables.
func (a *app) readWhole(ctx context.Context, d *desk.Desk, c *desk.Comparison, t *betweenTables) error {
	var both [2]desk.Source
	for i, url := range []string{t.from, t.to} {
		s, end, err := a.office().Source(ctx, d, url, c.Options.Key, layoutOf(c))
		if err != nil {
			return err
		}
		a.ends = append(a.ends, end)
		both[i] = s
	}
	t.fill(c, both[0], both[1])
	return nil
}

// layoutOf is a comparison's layout, or nil.
func layoutOf(c *desk.Comparison) *layout.Layout {
	if c.Layout == nil {
		return nil
	}
	return c.Layout.Layout
}

// retried makes a comparison. Where it is refused on what differs between two tables, it is made again on both of them: what is said of
// the whole is said once the whole was seen.
func (a *app) retried(ctx context.Context, d *desk.Desk, c *desk.Comparison, t *betweenTables, compared func() error) error {
	err := compared()
	var no *compare.Refusal
	if c.InPlace == nil || !errors.As(err, &no) {
		return err
	}
	c.InPlace = nil
	if err := a.readWhole(ctx, d, c, t); err != nil {
		return err
	}
	return compared()
}

// fill puts what was read into a comparison, and leaves how it is to be read.
func (t *betweenTables) fill(c *desk.Comparison, from, to desk.Source) {
	from.Options, to.Options = c.Snapshot.Options, c.Edited.Options
	c.Snapshot, *c.Edited = from, to
}

func betweenWords(b *update.Between) string {
	how := "side by side"
	switch {
	case b.Apart.Servers > 0:
		how = fmt.Sprintf("on %d servers, each its own part", b.Apart.Servers)
	case b.Apart.Inside:
		how = "inside the database"
	case b.Apart.Digests:
		how += ", digests of the rows first"
	}
	if b.Apart.Why != "" {
		how += " (their servers cannot join them: " + screen.Safe(b.Apart.Why) + ")"
	}
	return "compared where they are, " + how + ": " + screen.Plural(b.Apart.Alike, "record") + " alike in every byte"
}
