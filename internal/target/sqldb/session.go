package sqldb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"paletwin/internal/target"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
)

// engines are the systems, by the schemes of their URLs.
var engines = map[string]engine{"postgresql": postgres{}, "mariadb": mariadb{}, "sqlite": sqlite{}}

// engine is one database system.
type engine interface {
	// name is what it is called, for people.
	name() string
	// connect opens a connection with the settings that every value is read and
	// written under. Of one that is to write, mark is how it is found again once its
	// client has lost it.
	connect(ctx context.Context, a *target.Address, password, mark string) (session, error)
	// end ends a writing connection that its client has lost, by its mark, and with it
	// what it holds locked.
	end(ctx context.Context, s session, mark string) error
	// define reads what the catalogue says of a table.
	define(ctx context.Context, s session, a *target.Address) (*definition, error)
	// lacks says which right the account lacks for an act, as far as that can be asked; "" is
	// none.
	lacks(ctx context.Context, s session, d *definition, act changeset.Act) (string, error)
	// rebuild writes the statements that make the table anew, and lists what they lack.
	rebuild(ctx context.Context, s session, d *definition) (statements, lacking []string, err error)
	// references adds to it who refers to it.
	references(ctx context.Context, s session, d *definition) error
	// ident writes a name as statements have it.
	ident(name string) string
	// param writes the n-th parameter of a statement, from 1, as a value of a column.
	param(n int, c *column) string
	// keyOrder is by what records are put in the byte order of a key column's text.
	keyOrder(c *column) string
	// snapshot is what begins a transaction that sees one state and writes nothing.
	snapshot() []string
	// begin is what begins a transaction that writes.
	begin() []string
	// lock is what a query ends with that locks the rows it reads, so that nobody
	// changes them, and where whole says so neither refers to them anew.
	lock(whole bool) string
	// immediate is what has every rule that waits for the commit be looked at now;
	// "" is nothing.
	immediate() string
	// staged reports whether many rows are written by one statement.
	staged() bool
	// rows writes rows of values of some columns as a table r(n, c0, c1, …), numbered
	// from 1, with its parameters. By the first so many columns the table's records are found.
	rows(columns []*column, keys int, rows [][]record.Value) (table string, params []param)
	// joined is what stands between such a table and another one.
	joined() string
	// setOf is what stands before a column that is written from such a table.
	setOf() string
	// lists reports whether records are found fastest by a list of their keys.
	lists() bool
	// returns reports whether an update of staged rows can return what it kept.
	returns() bool
	// updateFrom writes the statement that takes values of a table r.
	updateFrom(table, rows, set, on string) string
	// deleteFrom writes the statement that deletes what a table r names.
	deleteFrom(table, rows, on string) string
	// strictly stands behind INSERT and UPDATE, so that a row that is in the way is an error,
	// whatever its table says; "" is nothing.
	strictly() string
	// overriding stands before the values of new records, so that they keep numbers
	// which the database counts up; "" is nothing.
	overriding() string
	tickets
	pairs
	// failure sorts an error; nil is none of the database's.
	failure(err error) *failure
}

// session is a connection.
type session interface {
	// exec runs a statement and returns how many rows it wrote.
	exec(ctx context.Context, sql string, params ...param) (int64, error)
	// query runs a query; row is given each row's exact texts, which are of some
	// columns, or of what the catalogue says where that is nil.
	query(ctx context.Context, sql string, of []*column, params []param, row func([]record.Value) error) error
	// each runs statements, in as few messages as can be; wrote is told how many rows
	// each wrote.
	each(ctx context.Context, all []statement, wrote func(n int64) error) error
	// dump writes the rows of a query as CSV: null is an empty cell, the empty text one
	// in quotes.
	dump(ctx context.Context, sql string, of []*column, w io.Writer) (rows int64, err error)
	// close ends the connection, and with it what is not committed.
	close()
}

// param is a parameter of a statement: a text, or null, and the column whose value
// it is; nil is of none.
type param struct {
	v  record.Value
	of *column
}

// kind is what a failure means for what was asked.
type kind uint8

const (
	other   kind = iota // the statement failed, and would again
	lost                // the connection did
	again               // the same would succeed later: a deadlock, a file that is in use
	locked              // somebody holds a lock for longer than is waited for it
	refused             // what was to be written is against a rule, or no value
	denied              // the account may not
	gone                // the table, or a column, is not there
)

// failure is an error of a database.
type failure struct {
	kind kind
	text string // what the database says, without the values of whole records
	err  error
}

// sorted is the failure that an error is already, or nil where it is none of a
// database's, but of a file here; known is false where the engine has to look.
func sorted(err error) (f *failure, known bool) {
	if errors.As(err, &f) {
		return f, true
	}
	return nil, err == nil || errors.Is(err, context.Canceled) || errors.As(err, new(*fs.PathError))
}

func (f *failure) Error() string { return f.text }
func (f *failure) Unwrap() error { return f.err }

// Error is a database that could not be used, for people.
type Error struct {
	Code string
	Name string // of the table
	Text string
	err  error
}

// Codes of errors.
const (
	Failed       = "database"        // the database says no
	Lost         = "connection"      // it cannot be reached, or no longer
	Denied       = "not-allowed"     // the account may not
	NotThere     = "no-table"        // there is no such table, or column
	ThereAlready = "table-there"     // what was to be made is there
	Locked       = "target-locked"   // somebody else holds locks
	OnlyRead     = "read-only-table" // it is no table that can be written
	NoKey        = "no-key-there"    // no two records are kept from having one key
)

func (e *Error) Error() string { return e.Name + ": " + e.Text }
func (e *Error) Unwrap() error { return e.err }

// said makes an error of what a database says.
func (t *Table) said(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	f := t.e.failure(err)
	if f == nil {
		return err
	}
	e := &Error{Code: Failed, Name: t.Name(), err: err, Text: f.text}
	if f.err != nil {
		e.Text = t.e.name() + " says: " + f.text
	}
	switch f.kind {
	case lost:
		e.Code, e.Text = Lost, "there is no connection: "+f.text
	case denied:
		e.Code, e.Text = Denied, "not allowed: "+f.text
	case gone:
		e.Code = NotThere
	case again, locked:
		e.Code, e.Text = Locked, "somebody else holds it: "+f.text
	}
	return e
}

// one reads a row of texts; ok is false where there is none.
func one(ctx context.Context, s session, sql string, params ...param) (row []string, ok bool, err error) {
	err = s.query(ctx, sql, nil, params, func(cells []record.Value) error {
		if !ok {
			row, ok = texts(cells), true
		}
		return nil
	})
	return row, ok, err
}

// all reads every row, as texts.
func all(ctx context.Context, s session, sql string, params ...param) (rows [][]string, err error) {
	err = s.query(ctx, sql, nil, params, func(cells []record.Value) error {
		rows = append(rows, texts(cells))
		return nil
	})
	return rows, err
}

func texts(cells []record.Value) []string {
	row := make([]string, len(cells))
	for i, c := range cells {
		row[i] = c.String()
	}
	return row
}

// plain are parameters that are texts of no column.
func plain(all ...string) []param {
	p := make([]param, len(all))
	for i, s := range all {
		p[i].v = record.Text(s)
	}
	return p
}

// run runs statements without parameters.
func run(ctx context.Context, s session, statements ...string) error {
	for _, sql := range statements {
		if _, err := s.exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// oneByOne runs statements, each once the one before was answered.
func oneByOne(ctx context.Context, s session, all []statement, wrote func(n int64) error) error {
	for i := range all {
		n, err := s.exec(ctx, all[i].sql, all[i].params...)
		if err == nil {
			err = wrote(n)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// waits are those before a transaction is tried again.
var waits = []time.Duration{20 * time.Millisecond, 100 * time.Millisecond, 400 * time.Millisecond, time.Second}

// LockWait is how long is waited for a lock that somebody holds.
var LockWait = 10 * time.Second

// connectTimeout is how long is waited for a connection.
const connectTimeout = 15 * time.Second

// ended asks until something has come to its end.
func ended(ctx context.Context, over func() (bool, error)) error {
	for wait := time.Millisecond; ; wait = min(2*wait, 100*time.Millisecond) {
		if done, err := over(); done || err != nil {
			return err
		}
		if err := target.Sleep(ctx, wait); err != nil {
			return err
		}
	}
}

// lines writes words of a list: "a, b and 3 more".
func some(all []string) string {
	const most = 4
	if len(all) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:most], ", "), len(all)-most)
	}
	return strings.Join(all, ", ")
}
