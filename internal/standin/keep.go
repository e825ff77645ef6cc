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
// It is used under the store's lock.
type keep struct {
	db    *lite.DB
	stmts map[*Set]*statements
}

// statements are the SQL of a set.
type statements struct{ insert, delete, where string }

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
	return &statements{insert: "INSERT INTO " + quoted(s.Name) + " VALUES (" + marks + ")", delete: "DELETE FROM " + quoted(s.Name) + w, where: w}
}

// write makes the set's table of what was loaded.
func (k *keep) write(ctx context.Context, s *Set) error {
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
		if err := k.put(ctx, s, nil, r); err != nil {
			return err
		}
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

func (k *keep) begin(ctx context.Context) error { return k.exec(ctx, "BEGIN IMMEDIATE") }

func (k *keep) commit(ctx context.Context) error {
	if err := k.exec(context.WithoutCancel(ctx), "COMMIT"); err != nil {
		k.rollback()
		return err
	}
	return nil
}

func (k *keep) rollback() {
	if k.db.InTransaction() {
		_ = k.exec(context.Background(), "ROLLBACK") // the file's own journal would do it
	}
}

// put writes what became of a record.
func (k *keep) put(ctx context.Context, s *Set, before, after *Record) error {
	var args []lite.Value
	sql := k.stmts[s].insert
	switch {
	case before == nil:
		for _, v := range after.cells {
			args = append(args, bound(v))
		}
	case after == nil:
		sql = k.stmts[s].delete
	default:
		var b strings.Builder
		for i, v := range after.cells {
			if v == before.cells[i] {
				continue
			}
			if len(args) > 0 {
				b.WriteString(", ")
			}
			b.WriteString(quoted(s.Fields[i].Name) + " = ?")
			args = append(args, bound(v))
		}
		if len(args) == 0 {
			return nil
		}
		sql = "UPDATE " + quoted(s.Name) + " SET " + b.String() + k.stmts[s].where
	}
	if before != nil {
		for _, i := range s.Key {
			args = append(args, bound(before.cells[i]))
		}
	}
	n, err := k.db.Exec(ctx, sql, args...)
	if err == nil && n != 1 {
		err = fmt.Errorf("%s: %d rows were written instead of one: another program changed %s", s.Name, n, KeptName)
	}
	return err
}

// answer is what was answered to a repeatable request.
func (k *keep) answer(ctx context.Context, id string) (request string, answer []byte, err error) {
	err = k.db.Query(ctx, `SELECT request, answer FROM "standin.answers" WHERE id = ?`, []lite.Value{text(id)}, func(v []lite.Value) error {
		request, answer = string(v[0].Bytes), append([]byte(nil), v[1].Bytes...)
		return nil
	})
	return request, answer, err
}

// remember keeps an answer, in the transaction that is open.
func (k *keep) remember(ctx context.Context, id, request string, answer []byte) error {
	_, err := k.db.Exec(ctx, `INSERT OR REPLACE INTO "standin.answers" VALUES (?, ?, ?)`, text(id), text(request), lite.Value{Class: lite.Blob, Bytes: answer})
	return err
}

func (k *keep) close() {
	if k != nil {
		k.db.Close()
	}
}
