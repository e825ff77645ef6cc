// Package odata is an entity set of a record service as a target: OData 4.01 and 4.0.
//
// Every value goes to and fro as the service writes it in JSON, numbers in their own digits, and values are
// compared here, by the schema. What it reads is all pages of the set, in a file beside the dossier; what
// changed while it was paged is read again.
//
// Requests, and with them whoever logs in, go to the service's origin only: a link that leads elsewhere
// ends the use of it.
package odata

import (
	"cmp"
	"context"
	"io"
	"os"
	"time"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/spool"
)

// Options say what is known of a set, and who asks.
type Options struct {
	Key    []string            // the key fields; nil is the service's own key
	Of     *schema.Schema      // what is known of the records
	Rename func(*table.Image)  // gives properties the names of fields
	Dir    string              // a folder for a file while the set is in use; "" is the system's
	Env    func(string) string // of the environment: PALETWIN_TOKEN, PALETWIN_PASSWORD, and the same with _FILE
	// Secret asks a person for a password, where none is known and one is asked for; nil
	// is nobody.
	Secret  func(who string) (string, error)
	Batch   int    // at most so many requests go together; 0 is 250
	Flights int    // at most so many batches are on their way at once; 0 is 4
	Form    string // of batches: "json", "multipart", or "alone" for none; "" is what the service takes
	// Wait is how long a service that can answer later may take before it does; 0 is 20 s, less than a second not at all.
	Wait time.Duration
	// Withdraw has the service drop what it is at behind an answer, where ctx is done before it is there.
	Withdraw bool
	// Sleep waits where the service asks to come back later; nil waits by the clock.
	Sleep func(ctx context.Context, d time.Duration) error
}

// Set is an entity set of a service.
type Set struct {
	fsys disk.FS
	at   *target.Service
	o    Options
	c    *client
	typ  *entityType

	fields []string // what the properties are called
	key    []int    // the key's properties
	shape  *table.Image
	only   map[record.Key]bool // the records that are looked at; nil is all
	spool  *spool.Spool
	etags  []string // of the spool's rows
	about  int64    // bytes of the set, about

	tagged bool                 // the service gives ETags, as far as is known
	shown  bool                 // and a record has shown one of its own
	seen   map[record.Key]*seen // records that were asked for, as they were read
	held   time.Duration        // to be waited before more is sent
	busy   bool                 // since the service asks for it
	keep   keeper
}

// Open opens a set: it reads the service's metadata. Errors are *target.AddressError, *Error, or those of the file system.
func Open(ctx context.Context, fsys disk.FS, name string, o Options) (*Set, error) {
	at, err := target.ParseService(name)
	if err != nil {
		return nil, err
	}
	if o.Of == nil {
		o.Of = new(schema.Schema)
	}
	s := &Set{fsys: fsys, at: at, o: o}
	if s.c, err = newClient(fsys, at, o); err != nil {
		return nil, err
	}
	if s.typ, err = s.c.describe(ctx, at.Set); err != nil {
		return nil, err
	}
	s.c.batches.async, s.c.batches.wait, s.c.batches.drop = s.typ.can.async, cmp.Or(o.Wait, 20*time.Second), o.Withdraw
	switch {
	case s.typ.can.noBatches || o.Form == "alone":
		s.c.batches.form = alone
	case s.typ.can.noJSON && o.Form == "" || o.Form == "multipart":
		s.c.batches.form = inParts
	}
	s.tagged, s.seen = true, map[record.Key]*seen{}
	if err := s.name(); err != nil {
		return nil, err
	}
	s.shape, err = shapeOf(at.Set, s.fields)
	return s, err
}

// name gives the properties the names of fields, and finds the key.
func (s *Set) name() (err error) {
	var names []string
	for _, p := range s.typ.properties {
		names = append(names, p.Name)
	}
	s.fields, s.o.Key, s.key, err = target.Named(s.Name(), s.at.Set, names, s.o.Rename, s.o.Key, s.typ.key)
	return err
}

func (s *Set) Name() string     { return s.at.String() }
func (s *Set) Fields() []string { return s.fields }

// Key names the key fields: those that were said, or the service's own.
func (s *Set) Key() []string { return s.o.Key }

// Types are the types of the fields, as the service's metadata has them.
func (s *Set) Types() map[string]string {
	types := map[string]string{}
	for i, p := range s.typ.properties {
		types[s.fields[i]] = p.words()
	}
	return types
}

// Traits say what a set of a service can do.
func (s *Set) Traits() target.Traits {
	t := target.Traits{Ext: ".csv", Nulls: true, Batch: s.size() * s.flights(), Narrow: true, Assigns: s.assigns(), System: s.computed(), Notes: s.notes()}
	if t.Size = s.about; s.spool != nil {
		t.Size = s.spool.Size()
	}
	return t
}

// Take writes all records, in the byte order of their keys' texts, as CSV with a heading, and returns how many these are.
func (s *Set) Take(ctx context.Context, w io.Writer) (int64, error) { return s.take(ctx, w) }

// snap reads the set, once.
func (s *Set) snap(ctx context.Context) (*spool.Spool, error) {
	if s.spool != nil {
		return s.spool, nil
	}
	var err error
	s.spool, err = spool.New(s.fsys, cmp.Or(s.o.Dir, os.TempDir()), s.at.Set, s.fields, func(w io.Writer) error {
		_, err := s.take(ctx, w)
		return err
	})
	return s.spool, err
}

// Table gives what was read.
func (s *Set) Table(ctx context.Context) (*table.Image, func() error, error) {
	sp, err := s.snap(ctx)
	if err != nil {
		return nil, nil, err
	}
	return sp.Image, func() error { return nil }, nil
}

// Backup writes what was read.
func (s *Set) Backup(ctx context.Context, w io.Writer) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	sp, err := s.snap(ctx)
	if err != nil {
		return err
	}
	_, err = sp.WriteTo(w)
	return err
}

// Current reads records in one pass over what was read.
func (s *Set) Current(ctx context.Context, keys []record.Key) ([]target.State, error) {
	sp, err := s.snap(ctx)
	if err != nil {
		return nil, err
	}
	return sp.Current(ctx, s.o.Of, s.key, keys, func(i int, exact record.Key, row int, cells []byte) {
		s.seen[s.o.Of.Key(keys[i])] = &seen{there: true, key: exact, etag: s.etags[row], cells: cells}
	})
}

// Refresh lets the next look see what is there then.
func (s *Set) Refresh(context.Context) error { return s.forget() }

// forget lets go of what was read.
func (s *Set) forget() error {
	sp := s.spool
	s.spool, s.etags = nil, nil
	clear(s.seen)
	return sp.Close()
}

// Close removes what was read.
func (s *Set) Close() error {
	s.c.close()
	return s.Refresh(context.Background())
}
