package expr

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

var (
	dateType   = types.NewObjectType("date", traits.AdderType|traits.SubtractorType|traits.ComparerType)
	momentType = types.NewObjectType("moment", traits.ComparerType|traits.SubtractorType)
	spanType   = types.NewObjectType("span", traits.NegatorType)
)

// Date is a day of the proleptic Gregorian calendar.
type Date struct{ t time.Time } // midnight UTC

// Moment is a day and a time, with a zone or without one.
type Moment struct {
	t     time.Time
	zoned bool
}

// Span is a time from one day to another: months, and days after them.
type Span struct{ months, days int }

// NewDate returns the day of t, whatever its zone.
func NewDate(t time.Time) *Date {
	return &Date{time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)}
}

// NewMoment returns a moment; without a zone it is not to be compared with
// one that has.
func NewMoment(t time.Time, zoned bool) *Moment { return &Moment{t, zoned} }

// ParseDate reads a day in the form of ISO 8601, 2026-03-11.
func ParseDate(text string) (*Date, bool) {
	t, err := time.Parse(time.DateOnly, text)
	return &Date{t}, err == nil
}

// Time returns midnight of the day, UTC.
func (d *Date) Time() time.Time { return d.t }

// Time returns the moment and whether it has a zone.
func (m *Moment) Time() (time.Time, bool) { return m.t, m.zoned }

func (d *Date) String() string { return d.t.Format(time.DateOnly) }

func (m *Moment) String() string {
	if m.zoned {
		return m.t.Format(time.RFC3339Nano)
	}
	return m.t.Format("2006-01-02T15:04:05.999999999")
}

func (s *Span) String() string { return fmt.Sprintf("%d months %d days", s.months, s.days) }

func native[T any](v T, t reflect.Type) (any, error) {
	if t == reflect.TypeFor[T]() {
		return v, nil
	}
	return nil, fmt.Errorf("%T is no %v", v, t)
}

// convert turns a value of ours into another type: text, or itself.
func convert(v ref.Val, text fmt.Stringer, t ref.Type) ref.Val {
	switch t {
	case types.StringType:
		return types.String(text.String())
	case v.Type():
		return v
	case types.TypeType:
		return v.Type().(*types.Type)
	}
	return types.NewErr("a %s is no %s", v.Type().TypeName(), t.TypeName())
}

func (d *Date) ConvertToNative(t reflect.Type) (any, error)   { return native(d, t) }
func (m *Moment) ConvertToNative(t reflect.Type) (any, error) { return native(m, t) }
func (s *Span) ConvertToNative(t reflect.Type) (any, error)   { return native(s, t) }
func (d *Date) ConvertToType(t ref.Type) ref.Val              { return convert(d, d, t) }
func (m *Moment) ConvertToType(t ref.Type) ref.Val            { return convert(m, m, t) }
func (s *Span) ConvertToType(t ref.Type) ref.Val              { return convert(s, s, t) }
func (d *Date) Type() ref.Type                                { return dateType }
func (m *Moment) Type() ref.Type                              { return momentType }
func (s *Span) Type() ref.Type                                { return spanType }
func (d *Date) Value() any                                    { return d }
func (m *Moment) Value() any                                  { return m }
func (s *Span) Value() any                                    { return s }

func (d *Date) Equal(other ref.Val) ref.Val {
	o, ok := other.(*Date)
	return types.Bool(ok && d.t.Equal(o.t))
}

func (m *Moment) Equal(other ref.Val) ref.Val {
	o, ok := other.(*Moment)
	return types.Bool(ok && m.zoned == o.zoned && m.t.Equal(o.t))
}

func (s *Span) Equal(other ref.Val) ref.Val {
	o, ok := other.(*Span)
	return types.Bool(ok && *s == *o)
}

func (d *Date) Compare(other ref.Val) ref.Val {
	if o, ok := other.(*Date); ok {
		return types.Int(d.t.Compare(o.t))
	}
	return noNumber(other)
}

func (m *Moment) Compare(other ref.Val) ref.Val {
	o, ok := other.(*Moment)
	switch {
	case !ok:
		return noNumber(other)
	case m.zoned != o.zoned:
		return types.NewErr("a moment with a zone cannot be compared with one without")
	}
	return types.Int(m.t.Compare(o.t))
}

// Add gives the day so many months and days later. Where the month has no
// such day it is the month's last.
func (d *Date) Add(other ref.Val) ref.Val {
	s, ok := other.(*Span)
	if !ok {
		return noNumber(other)
	}
	return d.add(s.months, s.days)
}

func (d *Date) add(months, days int) ref.Val {
	y, m, day := d.t.Date()
	last := time.Date(y, m+time.Month(months)+1, 0, 0, 0, 0, 0, time.UTC)
	t := time.Date(last.Year(), last.Month(), min(day, last.Day())+days, 0, 0, 0, 0, time.UTC)
	if t.Year() < 1 || t.Year() > 9999 {
		return types.NewErr("the date lies outside the years 1 to 9999")
	}
	return &Date{t}
}

// Subtract gives the days between two days, or the day a span before.
func (d *Date) Subtract(other ref.Val) ref.Val {
	switch o := other.(type) {
	case *Date:
		n := new(Number)
		n.d.SetInt64((d.t.Unix() - o.t.Unix()) / (24 * 60 * 60))
		return n
	case *Span:
		return d.add(-o.months, -o.days)
	}
	return noNumber(other)
}

// Subtract gives the hours between two moments.
func (m *Moment) Subtract(other ref.Val) ref.Val {
	o, ok := other.(*Moment)
	if !ok {
		return noNumber(other)
	}
	n := new(Number)
	n.d.SetInt64(int64(m.t.Sub(o.t) / time.Second))
	hour := new(Number)
	hour.d.SetInt64(3600)
	return n.Divide(hour)
}

func (s *Span) Negate() ref.Val { return &Span{-s.months, -s.days} }

// ParseMoment reads a moment in the form of ISO 8601 or RFC 3339, with T or a
// space, with or without seconds, fraction and zone.
func ParseMoment(text string) (*Moment, bool) {
	text = strings.Replace(text, " ", "T", 1)
	for _, form := range []string{"2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if t, err := time.Parse(form, text); err == nil {
			return &Moment{t, false}, true
		}
		if t, err := time.Parse(form+"Z07:00", text); err == nil {
			return &Moment{t, true}, true
		}
	}
	return nil, false
}
