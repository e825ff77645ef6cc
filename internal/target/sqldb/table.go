// Package sqldb is a table of a database as a target: PostgreSQL, MariaDB or SQLite.
//
// Every value goes to and fro as the one text that the database has for it under
// fixed settings, and values are compared here, by the schema: what a database takes
// for equal (letters of another case, 1 and '1abc', a number cut to its precision)
// may be two values to the people whose records they are.
//
// What it reads is one snapshot, in a file beside the dossier. What it writes goes
// in batches, a transaction each: records are locked and read, those that are as
// the steps say are written, and read again, all before the commit. Each batch
// has a ticket by which is found out whether it was committed.
package sqldb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/spool"
)

// Options say what is known of a table, and who asks.
type Options struct {
	Key    []string            // the key fields; nil is the database's own key
	Of     *schema.Schema      // what is known of the records
	Rename func(*table.Image)  // gives columns the names of fields
	Dir    string              // a folder for a file while the table is in use; "" is the system's
	Env    func(string) string // of the environment: PALETWIN_PASSWORD and PALETWIN_PASSWORD_FILE
	// Secret asks a person for a password, where none is known and one is asked for; nil
	// is nobody.
	Secret func(who string) (string, error)
	// NoTickets says that no table of tickets may be made in the database.
	NoTickets bool
	// Slow says that it lies behind a slow line: where it is compared, digests of rows travel before rows do.
	Slow bool
	// Batch is how many steps are a transaction; 0 is 500.
	Batch int
}

// Table is a table of a database.
type Table struct {
	fsys disk.FS
	at   *target.Address
	e    engine
	o    Options
	def  *definition
	s    session // nil while there is no connection

	password string
	mark     string   // by which the writing connection is known
	lost     []string // marks of those that were lost
	writes   bool     // it was opened to be written
	tickets  bool     // the table of tickets is there, or none is needed
	unbuilt  []string // in words: what its definition lacks
	missing  string   // in words: what has to be made before it is written
	before   string   // the token of the batch before

	fields []string               // what the columns are called
	key    []int                  // the key columns
	cols   []*column              // as fields are
	all    []int                  // their places
	others map[string]*definition // of tables that refer to it, and to those
	spool  *spool.Spool           // the snapshot that was read; nil is none
	only   map[record.Key]bool    // the records that are looked at; nil is all
	over   *spread                // where its records stand, if that is on other servers
	looks  bool                   // a transaction sees one state of it
	exact  map[record.Key]record.Key
}

// batchSize is how many steps are a transaction.
const batchSize = 500

// Open opens a table. Errors are *target.AddressError, *Error, or those of the file system.
func Open(ctx context.Context, fsys disk.FS, name string, o Options) (*Table, error) {
	a, err := target.ParseAddress(name)
	if err != nil {
		return nil, err
	}
	if o.Of == nil {
		o.Of = new(schema.Schema)
	}
	t := &Table{fsys: fsys, at: a, e: engines[a.Scheme], o: o, mark: newMark(), exact: map[record.Key]record.Key{}, others: map[string]*definition{}}
	if err := t.open(ctx); err != nil {
		t.disconnect()
		return nil, err
	}
	return t, nil
}

func (t *Table) open(ctx context.Context) error {
	if err := t.secret(); err != nil {
		return err
	}
	if err := t.connect(ctx); err != nil {
		return t.said(err)
	}
	var err error
	if t.def, err = t.e.define(ctx, t.s, t.at); err != nil {
		return t.said(err)
	}
	t.at.Table = t.def.table // as the database writes it
	if err := t.name(); err != nil {
		return err
	}
	return t.openShards(ctx)
}

// secret is the password that the environment says.
func (t *Table) secret() (err error) {
	t.password, err = disk.Secret(t.fsys, t.o.Env, "PALETWIN_PASSWORD", false)
	return err
}

// connect opens a connection, after those of ours that were lost have been ended: they
// may hold locks.
func (t *Table) connect(ctx context.Context) error {
	if err := t.dial(ctx); err != nil {
		return err
	}
	for len(t.lost) > 0 {
		if err := t.e.end(ctx, t.s, t.lost[0]); err != nil {
			return err
		}
		t.lost = t.lost[1:]
	}
	return nil
}

// lose gives up a connection of which it is not known what it is doing.
func (t *Table) lose() {
	if t.s != nil && t.writes {
		t.lost = append(t.lost, t.mark)
	}
	t.disconnect()
}

// dial opens a connection, and asks for the password where one is missing.
func (t *Table) dial(ctx context.Context) (err error) {
	t.disconnect()
	mark := ""
	if t.writes {
		t.mark = newMark()
		mark = t.mark
	}
	t.s, err = t.e.connect(ctx, t.at, t.password, mark)
	if f := t.e.failure(err); err == nil || f == nil || f.kind != denied || t.o.Secret == nil || t.password != "" {
		return err
	}
	if t.password, err = t.o.Secret(t.Name()); err != nil {
		return err
	}
	t.s, err = t.e.connect(ctx, t.at, t.password, mark)
	return err
}

func (t *Table) disconnect() {
	if t.s != nil {
		t.s.close()
		t.s = nil
	}
}

// name gives the columns the names of fields, and finds the key.
func (t *Table) name() (err error) {
	var names, own []string
	for i := range t.def.columns {
		names = append(names, t.def.columns[i].name)
		t.cols, t.all = append(t.cols, &t.def.columns[i]), append(t.all, i)
	}
	if len(t.def.keys) > 0 {
		own = t.def.keys[0]
	}
	t.fields, t.o.Key, t.key, err = target.Named(t.Name(), t.def.table, names, t.o.Rename, t.o.Key, own)
	return err
}

func (t *Table) Name() string     { return t.at.String() }
func (t *Table) Fields() []string { return t.fields }

// Key names the key fields: those that were said, or the database's own.
func (t *Table) Key() []string { return t.o.Key }

// Types are the exact types of the fields, as the database writes them.
func (t *Table) Types() map[string]string {
	types := map[string]string{}
	for i, c := range t.cols {
		types[t.fields[i]] = c.typ
	}
	return types
}

// notes say what is to be known before it is written.
func (t *Table) notes() []string {
	notes := slices.Clone(t.def.notes)
	if t.over != nil {
		notes = append(notes, t.over.notes()...)
	}
	if len(t.def.triggers) > 0 {
		notes = append(notes, "it has triggers, which do more than is asked: "+some(t.def.triggers))
	}
	if len(t.unbuilt) > 0 {
		notes = append(notes, "should the table be lost, its backup could not bring back: "+strings.Join(t.unbuilt, ", "))
	}
	if t.missing != "" {
		notes = append(notes, t.missing)
	}
	return notes
}

func (t *Table) Traits() target.Traits {
	size := t.def.size
	if t.over != nil {
		size = 0
		for _, x := range t.over.shards {
			size += x.def.size
		}
	}
	if t.spool != nil {
		size = t.spool.Size()
	}
	batch := t.o.Batch
	if batch == 0 {
		batch = batchSize
	}
	return target.Traits{Ext: ".csv", Size: size, Batch: batch, KeyChanges: true, Assigns: t.assigns(), Nulls: true, Narrow: true, Notes: t.notes()}
}

// assigns reports whether the database gives new records their key.
func (t *Table) assigns() bool {
	return t.over == nil && len(t.key) == 1 && (t.cols[t.key[0]].identity != "" || t.cols[t.key[0]].filled)
}

// Close ends the connection and removes what was read.
func (t *Table) Close() error {
	t.disconnect()
	t.over.close()
	return t.forget()
}

// table is the table as statements name it.
func (t *Table) table() string {
	return t.e.ident(t.def.schema) + "." + t.e.ident(t.def.table)
}

// Writable says early why nothing can be written.
func (t *Table) Writable(ctx context.Context) error {
	if t.def.readOnly != "" {
		return &Error{Name: t.Name(), Code: OnlyRead, Text: t.def.readOnly}
	}
	if t.over != nil {
		return t.writableShards(ctx)
	}
	var key []string
	for _, k := range t.key {
		key = append(key, t.cols[k].name)
	}
	if !t.def.isKey(key) {
		text := fmt.Sprintf("nothing in the database keeps two records from having the same %s, so that it is not known which one would be written; it takes a primary key, or a unique index on columns that are never null", strings.Join(key, ", "))
		if len(t.def.keys) > 0 {
			text = fmt.Sprintf("%s is no key of it: those are %s", strings.Join(key, ", "), t.keyWords())
		}
		return &Error{Name: t.Name(), Code: NoKey, Text: text}
	}
	t.writes = true
	err := t.connect(ctx)
	if err != nil {
		return t.said(err)
	}
	if err = run(ctx, t.s, t.e.begin()...); err == nil { // a file or a server that is only read says so here
		err = run(ctx, t.s, "ROLLBACK")
	}
	if err != nil {
		return t.said(err)
	}
	if _, t.unbuilt, err = t.Definition(ctx); err != nil {
		return err
	}
	return t.lacks(ctx)
}

func (t *Table) keyWords() string {
	var all []string
	for _, k := range t.def.keys {
		all = append(all, "("+strings.Join(k, ", ")+")")
	}
	return strings.Join(all, " and ")
}

// lacks finds out whether the table of tickets has to be made.
func (t *Table) lacks(ctx context.Context) error {
	t.tickets = t.e.table(t.def) == ""
	if t.tickets || t.o.NoTickets {
		return nil
	}
	_, _, err := one(ctx, t.s, "SELECT 1 FROM "+t.e.ident(t.def.schema)+"."+t.e.ident(ticketTable)+" LIMIT 1")
	f := t.e.failure(err)
	switch {
	case err == nil:
		t.tickets = true
	case f != nil && f.kind == gone:
		t.missing = "the table " + ticketTable + " is made there: it has a row while a batch is written, which tells whether it was, should the connection be lost"
	default:
		return t.said(err)
	}
	return nil
}

// Prepare makes the table of tickets.
func (t *Table) Prepare(ctx context.Context) error {
	if t.over != nil {
		for _, x := range t.over.shards {
			if err := x.Prepare(ctx); err != nil {
				return err
			}
		}
		return nil
	}
	if t.missing == "" {
		return nil
	}
	if _, err := t.s.exec(ctx, t.e.table(t.def)); err != nil {
		return t.said(err)
	}
	t.tickets, t.missing = true, ""
	return nil
}
