package desk

import (
	"errors"
	"fmt"
	"sync"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/record"
	"paletwin/core/table/csv"
)

// where selects changes by an expression over the record before and after.
type where struct {
	p      *expr.Program
	fields []string
	getter func(func(field int) string) expr.Getter
	known  map[record.Key]record.Record // what the snapshot has of amended records, in the fields that are named

	mu  sync.Mutex
	err error
}

// Where compiles a selection of the dossier's changes. Without a layout all
// fields are texts. Errors are *expr.Error.
func (t *Dossier) Where(source string, c *Changes) (changeset.Where, error) {
	w := &where{}
	var env *expr.Env
	var err error
	if env, w.fields, w.getter, err = t.Expressions(c.Header.Fields); err != nil {
		return nil, err
	}
	if w.p, err = env.CompileBool(source); err != nil {
		return nil, err
	}
	w.known, err = t.before(c, w)
	return w, err
}

// Expressions returns the environment of expressions over the records of the
// dossier's record set, its fields in their order, and what gives their
// values. Without a layout the fields are those of heading, and all are texts.
func (t *Dossier) Expressions(heading []string) (*expr.Env, []string, func(func(int) string) expr.Getter, error) {
	l, err := t.Layout()
	if err != nil {
		return nil, nil, nil, err
	}
	var names []string
	if l != nil {
		for i := range l.Fields {
			names = append(names, l.Fields[i].Name)
		}
		return l.Env(), names, l.Getter, nil
	}
	env, err := expr.NewEnv(expr.Texts(heading), nil)
	return env, heading, textGetter, err
}

// textGetter gives the values of a record whose fields are all texts.
func textGetter(there func(int) string) expr.Getter {
	return func(i int) expr.Value {
		if s := there(i); s != "" {
			return expr.TextValue(s)
		}
		return expr.Null
	}
}

// before reads what the snapshot has of the amended records, in the fields
// that the expression names.
func (t *Dossier) before(c *Changes, w *where) (map[record.Key]record.Record, error) {
	var names []string
	for _, i := range append(w.p.Old(), w.p.New()...) {
		names = append(names, w.fields[i])
	}
	if len(names) == 0 {
		return nil, nil
	}
	var keys []record.Key
	for ch, err := range c.Changes() {
		if err != nil {
			return nil, err
		}
		if ch.Act == changeset.Amend {
			keys = append(keys, ch.Key)
		}
	}
	snapshot, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return nil, err
	}
	defer snapshot.Close()
	return csv.LookupFields(snapshot.Image, t.Set().Key, keys, nil, names)
}

// Holds reports whether the expression holds for a change. One that needs a
// value which is empty does not.
func (w *where) Holds(ch *changeset.Change) bool {
	in := &expr.Input{Act: ch.Act.String(), Key: ch.Key}
	old := ch.Record.Finder()
	switch ch.Act {
	case changeset.Add:
		in.New = w.get(old)
	case changeset.Delete:
		in.Old = w.get(old)
		in.New = in.Old // bare names mean the record as it is
	default:
		old = w.known[ch.Key].Finder()
		in.Old = w.get(old)
		in.New = w.get(func(name string) (record.Value, bool) {
			if f := ch.Field(name); f != nil {
				return f.To, true
			}
			return old(name)
		})
	}
	ok, err := w.p.Holds(in)
	if err != nil && !errors.Is(err, expr.ErrNull) {
		w.mu.Lock()
		if w.err == nil {
			w.err = &expr.Error{Source: w.p.Source, Line: 1, Column: 1, Text: fmt.Sprintf("it cannot be evaluated for %s: %v", ch.Key, err)}
		}
		w.mu.Unlock()
	}
	return ok
}

func (w *where) get(find func(string) (record.Value, bool)) expr.Getter {
	return w.getter(func(i int) string { v, _ := find(w.fields[i]); return v.String() })
}

// Err returns what went wrong while Holds was asked, the first of it.
func (w *where) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}
