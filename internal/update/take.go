package update

import (
	"cmp"
	"context"
	"io"
	"os"

	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/lend"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/open"
)

// Take asks for a snapshot of a table of a database, or a set of a service.
type Take struct {
	Desk   *desk.Desk
	Target string         // a URL, or a name on the desk
	Key    []string       // nil is the database's own
	Fields []string       // beside the key; nil is all
	Where  *expr.Program  // which records; nil is all
	Layout *layout.Layout // or nil
	Path   string         // the file to write, absolute; "" is Out
	Out    io.Writer
}

// Taken is what was taken.
type Taken struct {
	*desk.Taken
	Of int // how many fields there are
}

// TargetOf is the target that a name stands for, if it is one that has to be asked: a table of a database, or a set of a service.
func TargetOf(d *desk.Desk, name string) (string, bool) {
	if named, ok := d.Settings.Targets[name]; ok {
		name = named.To
	}
	return name, target.IsRemote(name)
}

// openTable opens a table, or a set, that is only read.
func (o *Office) openTable(ctx context.Context, d *desk.Desk, name string, key []string, l *layout.Layout) (open.Asked, error) {
	return open.Ask(ctx, o.FS, o.place(d, name, key, l))
}

// place is a table, or a set, by its name, as it is only read.
func (o *Office) place(d *desk.Desk, name string, key []string, l *layout.Layout) open.Place {
	name, _ = TargetOf(d, name)
	return open.Place{Name: name, Slow: d.Settings.Slow(open.Name(name)), Key: key, Of: l.Schema(), Read: table.Options{Rename: func(m *table.Image) { l.Rename(m) }}, Env: o.Env, Secret: o.Secret}
}

// Fields lists the fields of a table of a database, or a set of a service.
func (o *Office) Fields(ctx context.Context, d *desk.Desk, name string) ([]string, error) {
	t, err := o.openTable(ctx, d, name, nil, nil)
	if err != nil {
		return nil, err
	}
	return t.Fields(), t.Close()
}

// Take writes the snapshot, and keeps on the desk what it was taken of.
func (o *Office) Take(ctx context.Context, r *Take) (*Taken, error) {
	t, err := o.openTable(ctx, r.Desk, r.Target, r.Key, r.Layout)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	key := t.Key()
	if len(key) == 0 {
		return nil, &Misuse{NoKeyThere, []any{t.Name()}}
	}
	if _, err := (&lend.Copy{Snapshot: &table.Image{Heading: t.Fields()}, Key: key, Fields: r.Fields}).Columns(); err != nil {
		return nil, err
	}
	k := &desk.Taken{Version: 1, Target: t.Name(), Key: key, Types: t.Types(), Fields: r.Fields, By: o.By, When: o.Now().UTC()}
	if r.Where != nil {
		k.Where = r.Where.Source
	}
	write := func(w io.Writer) error {
		if len(r.Fields) == 0 && r.Where == nil {
			n, err := t.Take(ctx, w)
			k.Records = int(n)
			return err
		}
		img, release, err := t.Table(ctx)
		if err != nil {
			return err
		}
		defer release()
		k.Records, err = (&lend.Copy{Snapshot: img, Key: key, Fields: r.Fields, Where: r.Where, Layout: r.Layout}).WritePart(ctx, w)
		return err
	}
	if r.Path == "" {
		return &Taken{k, len(t.Fields())}, write(r.Out)
	}
	w, err := disk.WriteFile(o.FS, r.Path, 0o600, write)
	if err != nil {
		return nil, err
	}
	k.Snapshot, k.Size = w.SHA256, w.Size
	return &Taken{k, len(t.Fields())}, r.Desk.KeepTaken(k, r.Path)
}

// Source is a table of a database, or a set of a service, as a source, read into a temporary file; end lets
// the file go.
func (o *Office) Source(ctx context.Context, d *desk.Desk, name string, key []string, l *layout.Layout) (s desk.Source, end func(), err error) {
	t, err := o.openTable(ctx, d, name, key, l)
	if err != nil {
		return s, nil, err
	}
	defer t.Close()
	tmp, err := os.CreateTemp("", "paletwin-")
	if err != nil {
		return s, nil, err
	}
	end = func() {
		_ = tmp.Close() // it was only read
		_ = os.Remove(tmp.Name())
	}
	if _, err = t.Take(ctx, tmp); err == nil {
		_, err = tmp.Seek(0, io.SeekStart)
	}
	if err != nil {
		end()
		return s, nil, err
	}
	return desk.Source{Name: cmp.Or(t.Name(), name), Stream: tmp, Taken: true, Key: t.Key()}, end, nil
}
