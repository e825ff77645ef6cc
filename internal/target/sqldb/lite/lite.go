// Package lite is SQLite as the file's own interface has it: statements that are
// stepped through, and values of the class in which they are stored. database/sql
// turns dates into times and texts into numbers on the way, and costs twice.
package lite

import (
	"context"
	"errors"
	"fmt"
	"unsafe"

	"modernc.org/libc"
	sqlite3 "modernc.org/sqlite/lib"
)

// Class is how a value is stored.
type Class byte

const (
	Null Class = iota
	Integer
	Real
	Text
	Blob
)

// Value is a stored value. Bytes are those of a text or a blob.
type Value struct {
	Class Class
	Int   int64
	Real  float64
	Bytes []byte
}

// Error is what SQLite says. Code is an extended result code.
type Error struct {
	Code int
	Text string
}

func (e *Error) Error() string { return e.Text }

// Primary is the result code without its extension: sqlite3.SQLITE_BUSY …
func (e *Error) Primary() int { return e.Code & 0xff }

// Result codes that a caller tells apart.
const (
	Busy       = sqlite3.SQLITE_BUSY
	Locked     = sqlite3.SQLITE_LOCKED
	ReadOnly   = sqlite3.SQLITE_READONLY
	Full       = sqlite3.SQLITE_FULL
	IOError    = sqlite3.SQLITE_IOERR
	Corrupt    = sqlite3.SQLITE_CORRUPT
	NotADB     = sqlite3.SQLITE_NOTADB
	CantOpen   = sqlite3.SQLITE_CANTOPEN
	Interrupt  = sqlite3.SQLITE_INTERRUPT
	Constraint = sqlite3.SQLITE_CONSTRAINT
	TooBig     = sqlite3.SQLITE_TOOBIG
	Mismatch   = sqlite3.SQLITE_MISMATCH
	Failed     = sqlite3.SQLITE_ERROR
)

// DB is an open database file. It is used by one goroutine at a time.
type DB struct {
	tls   *libc.TLS
	db    uintptr
	cache map[string]*Stmt
}

// maxCached is how many statements are kept prepared.
const maxCached = 64

// Open opens a file that is there, waiting so many milliseconds for locks.
func Open(path string, wait int) (*DB, error) {
	d := &DB{tls: libc.NewTLS(), cache: map[string]*Stmt{}}
	name, err := libc.CString(path)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(d.tls, name)
	out := libc.Xmalloc(d.tls, 8)
	defer libc.Xfree(d.tls, out)
	// Without a mutex, which costs more than reading a value does.
	rc := sqlite3.Xsqlite3_open_v2(d.tls, name, out, sqlite3.SQLITE_OPEN_READWRITE|sqlite3.SQLITE_OPEN_NOMUTEX, 0)
	d.db = *(*uintptr)(pointer(out))
	if rc != sqlite3.SQLITE_OK {
		err := d.error(rc)
		d.Close()
		return nil, err
	}
	sqlite3.Xsqlite3_extended_result_codes(d.tls, d.db, 1)
	sqlite3.Xsqlite3_busy_timeout(d.tls, d.db, int32(wait))
	return d, nil
}

// Close ends every statement, and with them an open transaction.
func (d *DB) Close() {
	for _, s := range d.cache {
		s.finish()
	}
	d.cache = nil
	if d.db != 0 {
		sqlite3.Xsqlite3_close_v2(d.tls, d.db)
		d.db = 0
	}
	if d.tls != nil {
		d.tls.Close()
		d.tls = nil
	}
}

func (d *DB) error(rc int32) error {
	if d.db == 0 {
		return &Error{int(rc), fmt.Sprintf("error %d", rc)}
	}
	return &Error{int(rc), libc.GoString(sqlite3.Xsqlite3_errmsg(d.tls, d.db))}
}

// pointer is memory of SQLite's, which is none of Go's.
func pointer(p uintptr) unsafe.Pointer { return *(*unsafe.Pointer)(unsafe.Pointer(&p)) }

// InTransaction reports whether a transaction is open.
func (d *DB) InTransaction() bool { return sqlite3.Xsqlite3_get_autocommit(d.tls, d.db) == 0 }

// Stmt is a prepared statement.
type Stmt struct {
	d    *DB
	p    uintptr
	held []uintptr // memory that is bound
}

// errNothing says that a text holds no statement.
var errNothing = errors.New("there is no statement")

// prepare returns a statement, from among those that are kept.
func (d *DB) prepare(sql string) (*Stmt, error) {
	if s := d.cache[sql]; s != nil {
		return s, nil
	}
	text, err := libc.CString(sql)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(d.tls, text)
	out := libc.Xmalloc(d.tls, 8)
	defer libc.Xfree(d.tls, out)
	if rc := sqlite3.Xsqlite3_prepare_v2(d.tls, d.db, text, -1, out, 0); rc != sqlite3.SQLITE_OK {
		return nil, d.error(rc)
	}
	s := &Stmt{d: d, p: *(*uintptr)(pointer(out))}
	if s.p == 0 {
		return nil, errNothing
	}
	if len(d.cache) >= maxCached {
		for text, old := range d.cache {
			old.finish()
			delete(d.cache, text)
			break
		}
	}
	d.cache[sql] = s
	return s, nil
}

func (s *Stmt) finish() {
	s.reset()
	sqlite3.Xsqlite3_finalize(s.d.tls, s.p)
}

// reset makes the statement ready to be run again.
func (s *Stmt) reset() {
	sqlite3.Xsqlite3_reset(s.d.tls, s.p)
	if len(s.held) > 0 {
		sqlite3.Xsqlite3_clear_bindings(s.d.tls, s.p)
		for _, p := range s.held {
			libc.Xfree(s.d.tls, p)
		}
		s.held = s.held[:0]
	}
}

func (s *Stmt) bind(args []Value) error {
	for i := range args {
		v, n := &args[i], int32(i+1)
		var rc int32
		switch v.Class {
		case Null:
			rc = sqlite3.Xsqlite3_bind_null(s.d.tls, s.p, n)
		case Integer:
			rc = sqlite3.Xsqlite3_bind_int64(s.d.tls, s.p, n, v.Int)
		case Real:
			rc = sqlite3.Xsqlite3_bind_double(s.d.tls, s.p, n, v.Real)
		default:
			p := libc.Xmalloc(s.d.tls, libc.Tsize_t(len(v.Bytes)+1))
			if p == 0 {
				return &Error{sqlite3.SQLITE_NOMEM, "there is no memory for a value"}
			}
			copy(unsafe.Slice((*byte)(pointer(p)), len(v.Bytes)), v.Bytes)
			s.held = append(s.held, p)
			if v.Class == Text {
				rc = sqlite3.Xsqlite3_bind_text(s.d.tls, s.p, n, p, int32(len(v.Bytes)), 0)
			} else {
				rc = sqlite3.Xsqlite3_bind_blob(s.d.tls, s.p, n, p, int32(len(v.Bytes)), 0)
			}
		}
		if rc != sqlite3.SQLITE_OK {
			return s.d.error(rc)
		}
	}
	return nil
}

// Query runs a statement. row is given each row's values, which are good until it
// returns; it may be nil.
func (d *DB) Query(ctx context.Context, sql string, args []Value, row func([]Value) error) error {
	s, err := d.prepare(sql)
	if err != nil {
		return err
	}
	defer s.reset()
	if err := s.bind(args); err != nil {
		return err
	}
	defer d.interruptible(ctx)()
	cells := make([]Value, sqlite3.Xsqlite3_column_count(d.tls, s.p))
	for {
		switch rc := sqlite3.Xsqlite3_step(d.tls, s.p); rc {
		case sqlite3.SQLITE_DONE:
			return nil
		case sqlite3.SQLITE_ROW:
			if row == nil {
				continue
			}
			for i := range cells {
				s.column(i, &cells[i])
			}
			if err := row(cells); err != nil {
				return err
			}
		default:
			if err := ctx.Err(); err != nil {
				return err
			}
			return d.error(rc)
		}
	}
}

// interruptible ends a statement when ctx does. The function that it returns ends
// the watch, so that no later statement is hit.
func (d *DB) interruptible(ctx context.Context) (end func()) {
	if ctx.Done() == nil {
		return func() {}
	}
	done := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(done)
		tls := libc.NewTLS() // that of the connection is in use
		sqlite3.Xsqlite3_interrupt(tls, d.db)
		tls.Close()
	})
	return func() {
		if !stop() {
			<-done
		}
	}
}

// Exec runs a statement that returns no rows, and returns how many it wrote.
func (d *DB) Exec(ctx context.Context, sql string, args ...Value) (int64, error) {
	if err := d.Query(ctx, sql, args, nil); err != nil {
		return 0, err
	}
	return sqlite3.Xsqlite3_changes64(d.tls, d.db), nil
}

// column reads a value. Texts and blobs are the statement's memory. SQLite calls a value
// that is read so unprotected: from other threads, which a DB has none of.
func (s *Stmt) column(i int, v *Value) {
	tls := s.d.tls
	p := sqlite3.Xsqlite3_column_value(tls, s.p, int32(i))
	v.Bytes = nil
	switch sqlite3.Xsqlite3_value_type(tls, p) {
	case sqlite3.SQLITE_NULL:
		v.Class = Null
	case sqlite3.SQLITE_INTEGER:
		v.Class, v.Int = Integer, sqlite3.Xsqlite3_value_int64(tls, p)
	case sqlite3.SQLITE_FLOAT:
		v.Class, v.Real = Real, sqlite3.Xsqlite3_value_double(tls, p)
	case sqlite3.SQLITE_TEXT:
		v.Class = Text
		v.bytes(sqlite3.Xsqlite3_value_text(tls, p), sqlite3.Xsqlite3_value_bytes(tls, p))
	default:
		v.Class = Blob
		v.bytes(sqlite3.Xsqlite3_value_blob(tls, p), sqlite3.Xsqlite3_value_bytes(tls, p))
	}
}

func (v *Value) bytes(p uintptr, n int32) {
	if p != 0 && n > 0 {
		v.Bytes = unsafe.Slice((*byte)(pointer(p)), n)
	}
}
