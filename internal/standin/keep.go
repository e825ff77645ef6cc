package standin

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"paletwin/internal/odata"
	"paletwin/internal/target/sqldb/lite"
)

// KeptName is the file beside the tables that holds what was written.
const KeptName = "standin.sqlite"

// ErrOther says that a file was loaded before and is another one now.
var ErrOther = errors.New("it is another file, or has another layout, than what this stand-in was loaded with")

// keep is the records in SQLite: a table for each set, with a column for each property.
// It is used under the store's lock. Within a transaction its statements are run in their
// order by a goroutine of their own, so that SQLite works while the next request is
// looked at; whoever asks for anything else, or commits, waits for them.
type keep struct {
	db      *lite.DB
	stmts   map[*Set]*statements
	queued  []statement      // not handed on yet
	running chan []statement // nil where nothing runs
	ended   chan error       // what came of what ran
}

// statement is SQL that is to write one row.
type statement struct {
	set  *Set
	sql  string
	args []lite.Value
}

// statements are the SQL of a set.
type statements struct {
	insert, delete, where string
	update                map[int]string // of one field
}

// openKeep opens the file, or makes it. What it holds takes the place of what the world was
// loaded with; afresh puts that in its place again. kept says whether there was anything.
func openKeep(ctx context.Context, path string, w *World, afresh bool) (k *keep, kept bool, err error) {
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, false, err
		}
		if err := f.Close(); err != nil {
			return nil, false, err
		}
	}
	db, err := lite.Open(path, 5000)
	if err != nil {
		return nil, false, fmt.Errorf("%s: %w", filepath.Base(path), err)
	}
	k = &keep{db: db, stmts: map[*Set]*statements{}}
	if kept, err = k.fill(ctx, w, afresh); err != nil {
		k.close()
		return nil, false, fmt.Errorf("%s: %w", filepath.Base(path), err)
	}
	return k, kept, nil
}

func (k *keep) exec(ctx context.Context, all ...string) error {
	for _, sql := range all {
		if err := k.db.Query(ctx, sql, nil, nil); err != nil {
			return err
		}
	}
	return nil
}

// fill reads what is kept, or writes what was loaded.
func (k *keep) fill(ctx context.Context, w *World, afresh bool) (kept bool, err error) {
	if err := k.exec(ctx, "PRAGMA journal_mode = WAL", "PRAGMA synchronous = FULL", "BEGIN IMMEDIATE",
		`CREATE TABLE IF NOT EXISTS "standin.files" (name TEXT PRIMARY KEY, digest TEXT NOT NULL)`,
		`CREATE TABLE IF NOT EXISTS "standin.answers" (id TEXT PRIMARY KEY, request TEXT NOT NULL, answer BLOB NOT NULL)`); err != nil {
		return false, err
	}
	for _, s := range w.Sets {
		digest, err := k.digest(ctx, s)
		if err != nil {
			return false, err
		}
		if digest != "" && digest != s.digest && !afresh {
			return false, fmt.Errorf("%s: %w", s.File, ErrOther)
		}
		k.stmts[s] = s.statements()
		if digest == s.digest && !afresh {
			kept = true
			err = k.read(ctx, s)
		} else {
			err = k.write(ctx, s)
		}
		if err != nil {
			return false, err
		}
	}
	if afresh {
		if err := k.exec(ctx, `DELETE FROM "standin.answers"`); err != nil {
			return false, err
		}
	}
	return kept, k.exec(ctx, "COMMIT")
}

func (k *keep) digest(ctx context.Context, s *Set) (digest string, err error) {
	err = k.db.Query(ctx, `SELECT digest FROM "standin.files" WHERE name = ?`, []lite.Value{text(s.Name)}, func(v []lite.Value) error {
		digest = string(v[0].Bytes)
		return nil
	})
	return digest, err
}

func text(s string) lite.Value { return lite.Value{Class: lite.Text, Bytes: []byte(s)} }

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// statements writes the SQL of the set.
func (s *Set) statements() *statements {
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(s.Fields)), ", ")
	var where []string
	for _, k := range s.Key {
		where = append(where, quoted(s.Fields[k].Name)+" = ?")
	}
	w := " WHERE " + strings.Join(where, " AND ")
	return &statements{insert: "INSERT INTO " + quoted(s.Name) + " VALUES (" + marks + ")", delete: "DELETE FROM " + quoted(s.Name) + w, where: w, update: map[int]string{}}
}

// maxColumns is how many columns a table of SQLite has at most.
const maxColumns = 2000

// write makes the set's table of what was loaded.
func (k *keep) write(ctx context.Context, s *Set) error {
	if len(s.Fields) > maxColumns {
		return fmt.Errorf("%s has %d columns, and at most %d can be kept; --with memory keeps nothing", s.File, len(s.Fields), maxColumns)
	}
	var columns, keys []string
	for _, f := range s.Fields {
		kind := " TEXT"
		if f.Kind == odata.Int64 {
			kind = " INTEGER"
		}
		columns = append(columns, quoted(f.Name)+kind)
	}
	for _, f := range s.keyNames {
		keys = append(keys, quoted(f))
	}
	if err := k.exec(ctx, "DROP TABLE IF EXISTS "+quoted(s.Name),
		"CREATE TABLE "+quoted(s.Name)+" ("+strings.Join(columns, ", ")+", PRIMARY KEY ("+strings.Join(keys, ", ")+")) WITHOUT ROWID"); err != nil {
		return err
	}
	for _, r := range s.loaded {
		k.put(ctx, s, nil, r)
	}
	if err := k.settle(ctx); err != nil {
		return err
	}
	_, err := k.db.Exec(ctx, `INSERT OR REPLACE INTO "standin.files" VALUES (?, ?)`, text(s.Name), text(s.digest))
	return err
}

// read reads the set's records in the place of those that were loaded.
func (k *keep) read(ctx context.Context, s *Set) error {
	s.loaded = s.loaded[:0]
	return k.db.Query(ctx, "SELECT * FROM "+quoted(s.Name), nil, func(values []lite.Value) error {
		r := &Record{make([]odata.Value, len(s.Fields))}
		for i, f := range s.Fields {
			switch v := values[i]; v.Class {
			case lite.Null:
			case lite.Integer:
				r.cells[i] = odata.Value{Kind: f.Kind, Text: fmt.Sprint(v.Int)}
			default:
				r.cells[i] = odata.Value{Kind: f.Kind, Text: string(v.Bytes)}
			}
		}
		s.loaded = append(s.loaded, r)
		return nil
	})
}

func bound(v odata.Value) lite.Value {
	if v.IsNull() {
		return lite.Value{}
	}
	return text(v.Text)
}

// begin begins a transaction. What runs in it is short, and not interrupted: whether somebody still waits for it
// is asked before it is committed.
func (k *keep) begin(ctx context.Context) error {
	return k.exec(context.WithoutCancel(ctx), "BEGIN IMMEDIATE")
}

func (k *keep) commit(ctx context.Context) error {
	err := k.settle(ctx)
	if err == nil {
		err = k.exec(context.WithoutCancel(ctx), "COMMIT")
	}
	if err != nil {
		k.rollback()
	}
	return err
}

// handOn is how many statements are handed to the goroutine at once.
const handOn = 16

// queue hands a statement on.
func (k *keep) queue(ctx context.Context, s statement) {
	if k.queued = append(k.queued, s); len(k.queued) < handOn {
		return
	}
	if k.running == nil {
		k.running, k.ended = make(chan []statement, 64), make(chan error, 1)
		go k.work(ctx, k.running, k.ended)
	}
	k.running <- k.queued
	k.queued = make([]statement, 0, handOn)
}

// work runs statements until there are no more. After one that failed it runs none.
func (k *keep) work(ctx context.Context, all <-chan []statement, ended chan<- error) {
	var err error
	for some := range all {
		for i := range some {
			if err == nil {
				err = k.run(ctx, &some[i])
			}
		}
	}
	ended <- err
}

// settle waits until all statements ran.
func (k *keep) settle(ctx context.Context) (err error) {
	if k.running != nil {
		close(k.running)
		err = <-k.ended
		k.running = nil
	}
	for i := range k.queued {
		if err == nil {
			err = k.run(ctx, &k.queued[i])
		}
	}
	k.queued = k.queued[:0]
	return err
}

// run runs a statement.
func (k *keep) run(ctx context.Context, s *statement) error {
	n, err := k.db.Exec(ctx, s.sql, s.args...)
	if err == nil && n != 1 {
		err = fmt.Errorf("%s: %d rows were written instead of one: another program changed %s", s.set.Name, n, KeptName)
	}
	return err
}

func (k *keep) rollback() {
	_ = k.settle(context.Background()) // it is undone
	if k.db.InTransaction() {
		_ = k.exec(context.Background(), "ROLLBACK") // the file's own journal would do it
	}
}

// put writes what became of a record, at the latest when the transaction is committed.
func (k *keep) put(ctx context.Context, s *Set, before, after *Record) {
	var args []lite.Value
	sql := k.stmts[s].insert
	switch {
	case before == nil:
		args = make([]lite.Value, 0, len(after.cells))
		for _, v := range after.cells {
			args = append(args, bound(v))
		}
	case after == nil:
		sql = k.stmts[s].delete
	default:
		var room [8]int
		changed := room[:0]
		for i, v := range after.cells {
			if v != before.cells[i] {
				changed = append(changed, i)
			}
		}
		if len(changed) == 0 {
			return
		}
		args = make([]lite.Value, 0, len(changed)+len(s.Key))
		for _, i := range changed {
			args = append(args, bound(after.cells[i]))
		}
		sql = k.stmts[s].amend(s, changed)
	}
	if before != nil {
		for _, i := range s.Key {
			args = append(args, bound(before.cells[i]))
		}
	}
	k.queue(ctx, statement{s, sql, args})
}

// amend is the SQL that writes some fields.
func (x *statements) amend(s *Set, fields []int) string {
	if len(fields) == 1 && x.update[fields[0]] != "" {
		return x.update[fields[0]]
	}
	var set []string
	for _, i := range fields {
		set = append(set, quoted(s.Fields[i].Name)+" = ?")
	}
	sql := "UPDATE " + quoted(s.Name) + " SET " + strings.Join(set, ", ") + x.where
	if len(fields) == 1 {
		x.update[fields[0]] = sql
	}
	return sql
}

// answer is what was answered to a repeatable request.
func (k *keep) answer(ctx context.Context, id string) (request string, answer []byte, err error) {
	if err := k.settle(ctx); err != nil {
		return "", nil, err
	}
	err = k.db.Query(ctx, `SELECT request, answer FROM "standin.answers" WHERE id = ?`, []lite.Value{text(id)}, func(v []lite.Value) error {
		request, answer = string(v[0].Bytes), append([]byte(nil), v[1].Bytes...)
		return nil
	})
	return request, answer, err
}

// remember keeps an answer, in the transaction that is open.
func (k *keep) remember(ctx context.Context, id, request string, answer []byte) error {
	if err := k.settle(ctx); err != nil {
		return err
	}
	_, err := k.db.Exec(ctx, `INSERT OR REPLACE INTO "standin.answers" VALUES (?, ?, ?)`, text(id), text(request), lite.Value{Class: lite.Blob, Bytes: answer})
	return err
}

func (k *keep) close() {
	if k != nil {
		k.db.Close()
	}
}
