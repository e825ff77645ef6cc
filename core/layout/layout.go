// Package layout says what the records of a record set are: which column
// holds which field, what its values are, when two of them are the same, and
// what has to be true of a record. Every other package asks here and decides
// nothing of the sort itself.
//
// A layout is a YAML file; docs/layouts.md is its guide. Where there is none,
// a nil *Layout stands for it: fields are columns, and equal means equal
// bytes.
package layout

import (
	"regexp"

	"paletwin/core/expr"
	"paletwin/core/schema"
)

// Layout is a record set's description, checked and ready. Its lists are read.
type Layout struct {
	RecordSet  string
	Title      string
	Key        []string
	Ignore     []string // headings of columns that hold no field
	HeadingRow int
	Encoding   string // of CSV snapshots; "" is found
	Delimiter  string
	Sheet      string
	SheetAs    string // the field that has the name of a record's sheet, where all sheets are read
	Blank      string // what a cell means that the copy empties: hold, clear, keep; "" is not said
	Missing    string // what a record means that the copy lacks: hold, delete, keep; "" is not said
	Fields     []Field
	Rules      []Rule
	Limits     Limits
	Outward    Outward
	Shape      Shape

	schema *schema.Schema
	byName map[string]int
	env    *expr.Env
}

// Field is one field.
type Field struct {
	schema.Field
	Title     string
	Aliases   []string
	List      *List // of a reference
	Required  bool
	Length    Bounds
	Range     Bounds
	Pattern   *regexp.Regexp
	ClearsTo  *string
	Blank     string
	Move      Move
	Translate *Translation
	Outward   FieldOutward
	Line      int // of its definition
}

// Write returns a value in the form in which the field has its values, as
// schema.Field does, and a reference as its code.
func (f *Field) Write(text string) string {
	if f.Kind == schema.Reference && text != "" {
		if code, ok := f.List.code(f.Compare.Normal(text)); ok {
			return code
		}
	}
	return f.Field.Write(text)
}

// Bounds are the lowest and the highest that something may be; nil is no
// bound. They are numbers, or dates.
type Bounds struct {
	Low, High expr.Value
	Text      string // as the layout has it
}

// Set reports whether there is a bound.
func (b *Bounds) Set() bool { return b.Low != nil || b.High != nil }

// Move says how far a number may move without a second look.
type Move struct {
	Share *expr.Number // of the old value: 0.2 is 20 %
	Size  *expr.Number
	Text  string
}

// Rule is a condition on a record.
type Rule struct {
	Name    string
	Check   *expr.Program
	Message string
	Level   string // stop, warn or note
	Line    int
}

// Limits say how many records may change without a second look.
type Limits struct{ Amend, Add, Delete Limit }

// Limit is a number of records, or a share of the snapshot's.
type Limit struct {
	Set     bool
	Count   int
	Percent float64
	Text    string
}

// Over reports whether n of all records are more than the limit allows.
func (l *Limit) Over(n, all int) bool {
	switch {
	case !l.Set:
		return false
	case l.Percent > 0:
		return float64(n)*100 > l.Percent*float64(all)
	}
	return n > l.Count
}

// Outward says how the system that takes load files writes values.
type Outward struct {
	Date, Datetime string // forms
	True, False    string
	Blank          string // what a blank cell does there: keeps or clears; "" is not said
	Clear          string // what empties a field there
}

// FieldOutward is Outward for one field, and what the system calls it.
type FieldOutward struct {
	Name string
	Outward
}

// Index returns the field's number, or -1.
func (l *Layout) Index(name string) int {
	if l == nil {
		return -1
	}
	if i, ok := l.byName[name]; ok {
		return i
	}
	return -1
}

// Field returns the named field, or nil.
func (l *Layout) Field(name string) *Field {
	if i := l.Index(name); i >= 0 {
		return &l.Fields[i]
	}
	return nil
}

// Env returns the environment of expressions over the layout's fields.
func (l *Layout) Env() *expr.Env { return l.env }

// none is the schema where there is no layout.
var none = new(schema.Schema)

// Schema says when values and keys are one. Where there is no layout, all fields are
// texts.
func (l *Layout) Schema() *schema.Schema {
	if l == nil {
		return none
	}
	return l.schema
}

// exprType is the type of the field's values in expressions.
func (f *Field) exprType() expr.Type {
	switch f.Kind {
	case schema.Integer, schema.Decimal, schema.Percent, schema.Money:
		return expr.Decimal
	case schema.Date:
		return expr.Day
	case schema.Datetime:
		return expr.Instant
	case schema.Boolean:
		return expr.Boolean
	}
	return expr.Text
}
