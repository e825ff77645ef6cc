package update

import (
	"context"
	"errors"
	"io"
	"os"
	"slices"

	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/internal/desk"
	"paletwin/internal/target/open"
	"paletwin/internal/target/sqldb"
)

// Between are two tables of databases that are compared where they are.
type Between struct {
	Snapshot, Edited desk.Source // the records that differ
	InPlace          *desk.InPlace
	Apart            *sqldb.Apart
	end              []func()
}

// End lets go of all that was opened.
func (b *Between) End() {
	for _, end := range slices.Backward(b.end) {
		end()
	}
}

// NotInPlace says why two tables have to be read whole.
type NotInPlace struct{ Why string }

func (e *NotInPlace) Error() string { return e.Why }

// Between has two tables compared where they are; a *NotInPlace says why it cannot be. key is nil where it is the first table's own.
func (o *Office) Between(ctx context.Context, d *desk.Desk, from, to string, key []string, l *layout.Layout) (_ *Between, err error) {
	p, reason, err := open.Pair(ctx, o.FS, o.place(d, from, key, l), o.place(d, to, key, l))
	if err == nil && reason != "" {
		err = &NotInPlace{reason}
	}
	if err != nil {
		return nil, err
	}
	b := &Between{end: []func(){func() { _ = p.Close() }}} // they were only read
	defer func() {
		if err != nil {
			b.End()
		}
	}()
	var files [2]*os.File
	for i := range files {
		if files[i], err = os.CreateTemp("", "paletwin-"); err != nil {
			return nil, err
		}
		b.end = append(b.end, func() {
			_ = files[i].Close() // it was only read
			_ = os.Remove(files[i].Name())
		})
	}
	if err = p.Begin(ctx); err != nil {
		return nil, err
	}
	at := o.Now()
	if b.Apart, err = p.Write(ctx, files[0], files[1]); errors.Is(err, sqldb.ErrOrder) || errors.Is(err, sqldb.ErrKeysTwice) {
		err = &NotInPlace{err.Error()}
	}
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if _, err = f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
	}
	names := p.Names()
	b.Snapshot = desk.Source{Name: names[0], Stream: files[0], Taken: true, Key: p.Key()}
	b.Edited = desk.Source{Name: names[1], Stream: files[1], Taken: true}
	b.InPlace = &desk.InPlace{At: at, Alike: compare.Alike{Records: b.Apart.Alike, Sums: p.Sums, Values: p.Values}}
	return b, nil
}
