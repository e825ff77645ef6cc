package expr

import (
	"fmt"
	"reflect"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"github.com/cockroachdb/apd/v3"
)

// numberType is the type of Number in expressions.
var numberType = types.NewObjectType("number", traits.AdderType|traits.SubtractorType|traits.MultiplierType|traits.DividerType|traits.NegatorType|traits.ComparerType)

// exact is how far sums and products are exact: a result of more digits than
// this is an error. Quotients are rounded to so many digits, half to even.
var exact = apd.Context{Precision: 60, MaxExponent: 10_000, MinExponent: -10_000, Traps: apd.DefaultTraps, Rounding: apd.RoundHalfEven}

// Number is an exact decimal number.
type Number struct{ d apd.Decimal }

// ParseNumber reads digits with an optional sign and point; no exponents, no
// separators.
func ParseNumber(text string) (*Number, bool) {
	digits, point, small := 0, -1, int64(0)
	for i := range len(text) {
		switch c := text[i]; {
		case c >= '0' && c <= '9':
			digits++
			small = small*10 + int64(c-'0')
		case c == '.' && point < 0:
			point = i
		case (c == '-' || c == '+') && i == 0:
		default:
			return nil, false
		}
	}
	if digits == 0 || len(text) > 1000 {
		return nil, false
	}
	n := new(Number)
	if digits > 18 {
		_, _, err := n.d.SetString(text)
		return n, err == nil
	}
	n.d.SetInt64(small)
	n.d.Negative = text[0] == '-'
	if point >= 0 {
		n.d.Exponent = -int32(len(text) - 1 - point)
	}
	return n, true
}

// Decimal returns the number; it must not be changed.
func (n *Number) Decimal() *apd.Decimal { return &n.d }

// Decimals is how many digits stand behind the point, without zeros at the end.
func (n *Number) Decimals() int {
	var least apd.Decimal
	least.Reduce(&n.d)
	return max(0, -int(least.Exponent))
}

// String writes the number without an exponent, with the decimals it has.
func (n *Number) String() string { return n.d.Text('f') }

// Canonical writes the number as all that equal it are written: without zeros
// that say nothing, and without the sign of zero.
func (n *Number) Canonical() string {
	var r apd.Decimal
	r.Reduce(&n.d)
	if r.IsZero() {
		return "0"
	}
	return r.Text('f')
}

func (n *Number) ConvertToNative(t reflect.Type) (any, error) {
	if t == reflect.TypeFor[*Number]() {
		return n, nil
	}
	return nil, fmt.Errorf("a number is no %v", t)
}

func (n *Number) ConvertToType(t ref.Type) ref.Val {
	switch t {
	case types.StringType:
		return types.String(n.String())
	case numberType:
		return n
	case types.TypeType:
		return numberType
	}
	return types.NewErr("a number is no %s", t.TypeName())
}

func (n *Number) Equal(other ref.Val) ref.Val {
	o, ok := other.(*Number)
	return types.Bool(ok && n.d.Cmp(&o.d) == 0)
}

func (n *Number) Type() ref.Type { return numberType }
func (n *Number) Value() any     { return n }

func (n *Number) Compare(other ref.Val) ref.Val {
	o, ok := other.(*Number)
	if !ok {
		return noNumber(other)
	}
	return types.Int(n.d.Cmp(&o.d))
}

// noNumber is what an operation on something else than a number gives.
func noNumber(v ref.Val) ref.Val {
	if types.IsError(v) || types.IsUnknown(v) {
		return v
	}
	return types.MaybeNoSuchOverloadErr(v)
}

// with computes a number from two.
func (n *Number) with(other ref.Val, f func(d, x, y *apd.Decimal) (apd.Condition, error)) ref.Val {
	o, ok := other.(*Number)
	if !ok {
		return noNumber(other)
	}
	r := new(Number)
	c, err := f(&r.d, &n.d, &o.d)
	switch {
	case err != nil:
		return types.NewErr("%v", err)
	case c.Inexact() && c.Rounded():
		return types.NewErr("the result has more than %d digits", exact.Precision)
	}
	return r
}

func (n *Number) Add(other ref.Val) ref.Val      { return n.with(other, exact.Add) }
func (n *Number) Subtract(other ref.Val) ref.Val { return n.with(other, exact.Sub) }
func (n *Number) Multiply(other ref.Val) ref.Val { return n.with(other, exact.Mul) }

func (n *Number) Divide(other ref.Val) ref.Val {
	return n.with(other, func(d, x, y *apd.Decimal) (apd.Condition, error) {
		if y.IsZero() {
			return 0, fmt.Errorf("division by zero")
		}
		if _, err := exact.Quo(d, x, y); err != nil {
			return 0, err
		}
		d.Reduce(d)
		return 0, nil
	})
}

func (n *Number) Negate() ref.Val {
	r := new(Number)
	r.d.Neg(&n.d)
	return r
}

// Shift is the number times ten so often.
func (n *Number) Shift(tens int32) *Number {
	x := new(Number)
	x.d.Set(&n.d).Exponent += tens
	if x.d.Exponent > 0 {
		_, _ = exact.Quantize(&x.d, &x.d, 0)
	}
	return x
}

// Round returns the number rounded to so many decimals, halves away from
// zero, with exactly that many.
func (n *Number) Round(decimals int32) *Number {
	r := new(Number)
	c := apd.Context{Precision: 2000, MaxExponent: exact.MaxExponent, MinExponent: exact.MinExponent, Rounding: apd.RoundHalfUp}
	_, _ = c.Quantize(&r.d, &n.d, -decimals) // without traps it has no error
	return r
}
