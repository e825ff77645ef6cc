package run

import (
	"context"
	"errors"
	"fmt"

	"paletwin/core/expr"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
)

// Expect is a number of records that must be there.
type Expect struct {
	Source string // the expression over a record
	Want   int

	p      *expr.Program
	fields []string
	getter func(func(field int) string) expr.Getter
}

// Expected is what an Expect came to.
type Expected struct {
	Where string `json:"where"`
	Want  int    `json:"want"`
	Found int    `json:"found"`
}

// Holds reports whether the number is as expected.
func (e *Expected) Holds() bool { return e.Want == e.Found }

// NewExpect compiles an expectation over the dossier's fields; heading lists
// those of the state that it will be asked of, for a dossier without a
// layout. Errors are *expr.Error.
func NewExpect(t *desk.Dossier, heading []string, source string, want int) (*Expect, error) {
	e := &Expect{Source: source, Want: want}
	env, fields, getter, err := t.Expressions(heading)
	if err != nil {
		return nil, err
	}
	e.fields, e.getter = fields, getter
	e.p, err = env.CompileBool(source)
	return e, err
}

// count counts the records of a table for which the expression holds. One
// that needs a value which is empty does not hold.
func (e *Expect) count(m *table.Image) (n int, err error) {
	cols := make([]int, len(e.fields))
	for i, f := range e.fields {
		cols[i] = m.Column(f)
	}
	err = csv.Each(context.Background(), m, func(r *csv.Line) error {
		get := e.getter(func(i int) string { return r.Text(cols[i]) })
		holds, err := e.p.Holds(&expr.Input{Old: get, New: get, Row: r.Number()})
		if err != nil && !errors.Is(err, expr.ErrNull) {
			return &expr.Error{Source: e.Source, Line: 1, Column: 1, Text: fmt.Sprintf("it cannot be evaluated for %s: %v", m.RowWords(r.Number()), err)}
		}
		if err == nil && holds {
			n++
		}
		return nil
	})
	return n, err
}
