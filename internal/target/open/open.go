// Package open opens a target by its name, whatever kind it is of.
package open

import (
	"context"
	"errors"
	"fmt"
	"io"

	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/file"
	"paletwin/internal/target/odata"
	"paletwin/internal/target/sqldb"
)

// Place is a target that is to be opened.
type Place struct {
	Name string         // a path, or a URL whose scheme says the kind
	Key  []string       // the key fields
	Of   *schema.Schema // what is known of the records
	Read table.Options  // what is known of a file
	// Of a workbook: the rows of records that are deleted are emptied, and stay.
	KeepRows bool
	// Of a database: a folder for what is read of it while it is in use, and who knows
	// its password.
	Dir       string
	Env       func(string) string
	Secret    func(who string) (string, error)
	NoTickets bool
	Slow      bool // it lies behind a slow line
	Service   Service
}

// Service is how a service is to be asked; the zero value leaves it to what the service can.
type Service struct {
	Batch    int    // records a batch
	Requests int    // batches on their way at once
	Form     string // of batches: json, multipart, alone
	Withdraw bool   // what it is at is dropped where the command is interrupted
}

// UnknownKind says that there is no such kind of target.
type UnknownKind struct{ Scheme, Name string }

func (e *UnknownKind) Error() string {
	return fmt.Sprintf("%s: there is no kind of target called %q", e.Name, e.Scheme)
}

// Open opens a target and takes its lock. Errors are an *UnknownKind, or those of
// the kind.
func Open(ctx context.Context, fsys disk.FS, p Place) (target.Target, error) {
	scheme := target.Scheme(p.Name)
	if scheme == "" {
		f, err := file.Open(fsys, p.Name, p.Key, p.Of, p.Read)
		if err != nil {
			return nil, err
		}
		if p.KeepRows {
			f.KeepRows()
		}
		return f, nil
	}
	if target.IsDatabase(p.Name) {
		return Table(ctx, fsys, p)
	}
	if target.IsService(p.Name) {
		return set(ctx, fsys, p)
	}
	return nil, &UnknownKind{scheme, Name(p.Name)}
}

// Asked is a target that has to be asked, as it is read: a table of a database, or an entity set of a service.
type Asked interface {
	target.Reader
	// Key names the key fields: those that were said, or the target's own.
	Key() []string
	// Types are the types of the fields, as the target writes them.
	Types() map[string]string
	// Take writes all records, in the byte order of their keys' texts, as CSV with a heading, and returns how
	// many these are.
	Take(ctx context.Context, w io.Writer) (int64, error)
}

// Ask opens a target that has to be asked.
func Ask(ctx context.Context, fsys disk.FS, p Place) (Asked, error) {
	if target.IsService(p.Name) {
		return set(ctx, fsys, p)
	}
	return Table(ctx, fsys, p)
}

// set opens an entity set of a service.
func set(ctx context.Context, fsys disk.FS, p Place) (*odata.Set, error) {
	return odata.Open(ctx, fsys, p.Name, odata.Options{Key: p.Key, Of: p.Of, Rename: p.Read.Rename, Dir: p.Dir, Env: p.Env, Secret: p.Secret, Batch: p.Service.Batch, Flights: p.Service.Requests, Form: p.Service.Form, Withdraw: p.Service.Withdraw})
}

// Table opens a table of a database.
func Table(ctx context.Context, fsys disk.FS, p Place) (*sqldb.Table, error) {
	return sqldb.Open(ctx, fsys, p.Name, sqldb.Options{Key: p.Key, Of: p.Of, Rename: p.Read.Rename, Dir: p.Dir, Env: p.Env, Secret: p.Secret, NoTickets: p.NoTickets, Slow: p.Slow})
}

// Pair opens two tables of databases that are compared where they are. Reason says in words why they have to be read whole; then
// there is no pair.
func Pair(ctx context.Context, fsys disk.FS, a, b Place) (p *sqldb.Pair, reason string, err error) {
	from, err := Table(ctx, fsys, a)
	if err != nil {
		return nil, "", err
	}
	to, err := Table(ctx, fsys, b)
	if err != nil {
		return nil, "", errors.Join(err, from.Close())
	}
	if p, reason, err = sqldb.NewPair(ctx, from, to); p == nil {
		err = errors.Join(err, from.Close(), to.Close())
	}
	return p, reason, err
}

// Create makes a table of a database anew.
func Create(ctx context.Context, fsys disk.FS, p Place, sql []byte) (same bool, err error) {
	return sqldb.Create(ctx, fsys, p.Name, sql, sqldb.Options{Env: p.Env, Secret: p.Secret})
}

// Name is what a place is called wherever it is said or written down: a file by
// its absolute path, links followed; a URL without a password.
func Name(name string) string {
	if target.Scheme(name) == "" {
		return file.Path(name)
	}
	return target.Public(name)
}
