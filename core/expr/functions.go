package expr

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"github.com/cockroachdb/apd/v3"
)

var text, truth = types.StringType, types.BoolType

// functions declares what expressions can call. Operators of numbers and
// dates are declared alone: the values carry them out.
func functions(lists Lists) []cel.EnvOption {
	var all []cel.EnvOption
	op := func(name string, result *types.Type, args ...*types.Type) {
		id := name
		for _, a := range args {
			id += "_" + a.TypeName()
		}
		all = append(all, cel.Function(name, cel.Overload("pt_"+id, args, result)))
	}
	for _, t := range []*types.Type{numberType, dateType, momentType} {
		for _, name := range []string{operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals} {
			op(name, truth, t, t)
		}
	}
	op(operators.Add, numberType, numberType, numberType)
	op(operators.Subtract, numberType, numberType, numberType)
	op(operators.Multiply, numberType, numberType, numberType)
	op(operators.Divide, numberType, numberType, numberType)
	op(operators.Negate, numberType, numberType)
	op(operators.Add, dateType, dateType, spanType)
	op(operators.Subtract, dateType, dateType, spanType)
	op(operators.Subtract, numberType, dateType, dateType)
	op(operators.Subtract, numberType, momentType, momentType)
	op(operators.Negate, spanType, spanType)
	fn := func(name string, result *types.Type, f func(args []ref.Val) ref.Val, args ...*types.Type) {
		id := "pt_" + name
		for _, a := range args {
			id += "_" + a.TypeName()
		}
		guarded := func(vs ...ref.Val) ref.Val {
			for _, v := range vs {
				if types.IsUnknownOrError(v) {
					return v
				}
				if v == Null {
					return types.NewErr("a value is empty")
				}
			}
			return f(vs)
		}
		all = append(all, cel.Function(name, cel.Overload(id, args, result, cel.FunctionBinding(guarded), cel.OverloadIsNonStrict())))
	}
	fn("@number", numberType, func(v []ref.Val) ref.Val { return ofSize(v[0]) }, types.IntType)
	numbers(fn)
	dates(fn)
	texts(fn)
	if lists != nil {
		lookups(fn, lists)
	}
	return all
}

type declare func(name string, result *types.Type, f func(args []ref.Val) ref.Val, args ...*types.Type)

func str(v ref.Val) string            { s, _ := v.(types.String); return string(s) }
func num(v ref.Val) *Number           { return v.(*Number) }
func fail(f string, a ...any) ref.Val { return types.NewErr(f, a...) }

// small returns a number as a small int.
func small(v ref.Val, low, high int64) (int, error) {
	n, err := num(v).d.Int64()
	if err != nil || n < low || n > high {
		return 0, fmt.Errorf("%s is no whole number from %d to %d", num(v), low, high)
	}
	return int(n), nil
}

func numbers(fn declare) {
	fn("number", numberType, func(v []ref.Val) ref.Val {
		if n, ok := ParseNumber(str(v[0])); ok {
			return n
		}
		return fail("%q is no number", str(v[0]))
	}, text)
	fn("number", numberType, func(v []ref.Val) ref.Val { return v[0] }, numberType)
	fn("round", numberType, func(v []ref.Val) ref.Val {
		d, err := small(v[1], 0, 100)
		if err != nil {
			return fail("round: %v", err)
		}
		return num(v[0]).Round(int32(d))
	}, numberType, numberType)
	fn("round_to", numberType, func(v []ref.Val) ref.Val { return roundTo(num(v[0]), num(v[1])) }, numberType, numberType)
	for name, f := range map[string]func(d, x *apd.Decimal) (apd.Condition, error){"abs": exact.Abs, "floor": exact.Floor, "ceil": exact.Ceil} {
		fn(name, numberType, func(v []ref.Val) ref.Val {
			r := new(Number)
			if _, err := f(&r.d, &num(v[0]).d); err != nil {
				return fail("%s: %v", name, err)
			}
			return r
		}, numberType)
	}
	for _, t := range []*types.Type{numberType, dateType} {
		fn("min", t, func(v []ref.Val) ref.Val { return lesser(v[0], v[1], -1) }, t, t)
		fn("max", t, func(v []ref.Val) ref.Val { return lesser(v[0], v[1], 1) }, t, t)
	}
}

// roundTo rounds to a multiple of step, halves away from zero, with the
// step's decimals.
func roundTo(n, step *Number) ref.Val {
	if step.d.Sign() <= 0 {
		return fail("round_to: the step has to be above zero")
	}
	q, ok := n.Divide(step).(*Number)
	if !ok {
		return n.Divide(step)
	}
	r, ok := q.Round(0).Multiply(step).(*Number)
	if !ok {
		return fail("round_to: too many digits")
	}
	return r.Round(max(-step.d.Exponent, 0))
}

func lesser(a, b ref.Val, sign types.Int) ref.Val {
	if c, ok := a.(interface{ Compare(ref.Val) ref.Val }).Compare(b).(types.Int); ok && c*sign < 0 {
		return b
	}
	return a
}

func dates(fn declare) {
	fn("date", dateType, func(v []ref.Val) ref.Val {
		if d, ok := ParseDate(str(v[0])); ok {
			return d
		}
		return fail("%q is no date such as 2026-03-11", str(v[0]))
	}, text)
	fn("date", dateType, func(v []ref.Val) ref.Val { return v[0] }, dateType)
	fn("date", dateType, func(v []ref.Val) ref.Val { return NewDate(v[0].(*Moment).t) }, momentType)
	fn("moment", momentType, func(v []ref.Val) ref.Val {
		if m, ok := ParseMoment(str(v[0])); ok {
			return m
		}
		return fail("%q is no moment such as 2026-03-11T07:05:00Z", str(v[0]))
	}, text)
	for name, span := range map[string]func(n int) *Span{"days": func(n int) *Span { return &Span{0, n} },
		"months": func(n int) *Span { return &Span{n, 0} }, "years": func(n int) *Span { return &Span{12 * n, 0} }} {
		fn(name, spanType, func(v []ref.Val) ref.Val {
			n, err := small(v[0], -4_000_000, 4_000_000)
			if err != nil {
				return fail("%s: %v", name, err)
			}
			return span(n)
		}, numberType)
	}
	for name, part := range map[string]func(t time.Time) int{"year": time.Time.Year, "month": func(t time.Time) int { return int(t.Month()) }, "day": time.Time.Day,
		"weekday": func(t time.Time) int { return (int(t.Weekday())+6)%7 + 1 }} {
		fn(name, numberType, func(v []ref.Val) ref.Val {
			n := new(Number)
			n.d.SetInt64(int64(part(v[0].(*Date).t)))
			return n
		}, dateType)
	}
	fn("end_of_month", dateType, func(v []ref.Val) ref.Val {
		t := v[0].(*Date).t
		return &Date{time.Date(t.Year(), t.Month()+1, 0, 0, 0, 0, 0, time.UTC)}
	}, dateType)
}

func texts(fn declare) {
	for _, t := range []*types.Type{text, truth, numberType, dateType, momentType} {
		fn("text", text, func(v []ref.Val) ref.Val {
			switch x := v[0].(type) {
			case types.Bool:
				return types.String(fmt.Sprint(bool(x)))
			case fmt.Stringer:
				return types.String(x.String())
			}
			return v[0]
		}, t)
	}
	for name, f := range map[string]func(string) string{"lower": strings.ToLower, "upper": strings.ToUpper, "trim": strings.TrimSpace} {
		fn(name, text, func(v []ref.Val) ref.Val { return types.String(f(str(v[0]))) }, text)
	}
	fn("pad", text, func(v []ref.Val) ref.Val { return pad(str(v[0]), v[1], "0") }, text, numberType)
	fn("pad", text, func(v []ref.Val) ref.Val { return pad(str(v[0]), v[1], str(v[2])) }, text, numberType, text)
	fn("first", text, func(v []ref.Val) ref.Val { return part(str(v[0]), v[1], true) }, text, numberType)
	fn("last", text, func(v []ref.Val) ref.Val { return part(str(v[0]), v[1], false) }, text, numberType)
	patterns := new(sync.Map)
	fn("replace", text, func(v []ref.Val) ref.Val {
		re, ok := patterns.Load(str(v[1]))
		if !ok {
			x, err := regexp.Compile(str(v[1]))
			if err != nil {
				return fail("replace: %v", err)
			}
			re, _ = patterns.LoadOrStore(str(v[1]), x)
		}
		s, ok := replaced(re.(*regexp.Regexp), str(v[0]), str(v[2]))
		if !ok {
			return fail("replace makes more than 1 MB of a text")
		}
		return types.String(s)
	}, text, text, text)
}

// mostGrowth is how many bytes longer a function may make a text: expressions within each other multiply.
const mostGrowth = 1 << 20

// replaced is s with all that a pattern finds replaced, unless it grows by too much. Nothing is made that is longer.
func replaced(re *regexp.Regexp, s, with string) (string, bool) {
	most := len(s) + mostGrowth
	names := strings.Count(with, "$")
	var b []byte
	last := 0
	for _, m := range re.FindAllStringSubmatchIndex(s, -1) {
		b = append(b, s[last:m[0]]...)
		if len(b)+len(with)+names*(m[1]-m[0]) > most { // a group is no longer than what was found
			return "", false
		}
		b = re.ExpandString(b, with, s, m)
		last = m[1]
	}
	return string(append(b, s[last:]...)), len(b)+len(s)-last <= most
}

func pad(s string, width ref.Val, with string) ref.Val {
	n, err := small(width, 0, 1000)
	if err != nil || len([]rune(with)) != 1 {
		return fail("pad takes a width up to 1000 and one character")
	}
	return types.String(strings.Repeat(with, max(n-len([]rune(s)), 0)) + s)
}

func part(s string, length ref.Val, first bool) ref.Val {
	n, err := small(length, 0, 1<<20)
	r := []rune(s)
	switch {
	case err != nil:
		return fail("%v", err)
	case n >= len(r):
		return types.String(s)
	case first:
		return types.String(r[:n])
	}
	return types.String(r[len(r)-n:])
}

func lookups(fn declare, lists Lists) {
	fn("lookup", text, func(v []ref.Val) ref.Val {
		got, ok, err := lists.Lookup(str(v[0]), str(v[1]), str(v[2]))
		switch {
		case err != nil:
			return fail("lookup: %v", err)
		case !ok:
			return fail("lookup: %q is not in %s", str(v[1]), str(v[0]))
		}
		return types.String(got)
	}, text, text, text)
	fn("translate", text, func(v []ref.Val) ref.Val {
		got, ok, err := lists.Translate(str(v[0]), str(v[1]))
		switch {
		case err != nil:
			return fail("translate: %v", err)
		case !ok:
			return fail("translate: %q is not in %s", str(v[0]), str(v[1]))
		}
		return types.String(got)
	}, text, text)
}
