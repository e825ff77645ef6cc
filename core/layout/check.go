package layout

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/schema"
)

// KeyMissing is the code of a table in which the key has no column. All other
// codes of problems are changeset's.
const KeyMissing = "no-key-column"

// Problem is something wrong with a value, or with a record.
type Problem struct {
	Code  string `json:"code"`
	Field string `json:"field"` // "" if it is the record
	Level string `json:"level"` // stop, warn or note
	Text  string `json:"text"`
}

func (f *Field) problem(code, format string, args ...any) Problem {
	return Problem{code, f.Name, "stop", fmt.Sprintf(format, args...)}
}

// Take reads a value as a copy has it: it is translated, a name becomes the
// code that it stands for, and it gets the field's own form. What is wrong
// with it is said; it is then left as it is.
func (f *Field) Take(text string) (string, []Problem) {
	if f.Null != "" && text == f.Null {
		return "", f.checkBlank()
	}
	if text == "" {
		return "", f.checkBlank()
	}
	if f.Translate != nil {
		to, ps := f.translate(text)
		if ps != nil {
			return text, ps
		}
		text = to
	}
	if f.Kind == schema.Reference {
		code, ok, ambiguous := f.List.resolve(text, f.Compare.Normal(text))
		switch {
		case ambiguous:
			return text, []Problem{f.problem(changeset.ValueAmbiguous.Name, "%q is the name of several in %s; its code is needed", text, f.List.Name)}
		case !ok:
			return text, []Problem{f.problem(changeset.ValueRef.Name, "%q is not in %s%s", text, f.List.Name, nearWords(f.List.near(text)))}
		}
		text = code
	}
	text = f.Write(text)
	return text, f.check(text)
}

// Shows reports whether a text, as a copy has it, is how a value may be shown: the
// name of what a code refers to, even where others have that name, too.
func (f *Field) Shows(text, value string) bool {
	return f.Kind == schema.Reference && f.List != nil && f.List.called(text, f.Compare.Normal(value))
}

func (f *Field) checkBlank() []Problem {
	if f.Required {
		return []Problem{f.problem(changeset.ValueNeeded.Name, "a value is needed")}
	}
	return nil
}

// translate makes the value of another: one that is valid already stays, and
// one that is both is not decided.
func (f *Field) translate(text string) (string, []Problem) {
	to, source := f.Translate.to[text]
	valid := f.valid(text)
	switch {
	case source && (f.Translate.Always || !valid || to == text):
		return to, nil
	case source:
		return text, []Problem{f.problem(changeset.ValueAmbiguous.Name, "%q is a value, and also becomes %q; say always: true if it is always translated", text, to)}
	case valid:
		return text, nil
	}
	sources := slices.Sorted(maps.Keys(f.Translate.to)) // the same file gives the same words each time
	return text, []Problem{f.problem(changeset.ValueUnknown.Name, "%q is no value, and nothing says what it becomes%s", text, nearWords(expr.Near(text, sources)))}
}

// valid reports whether a text is a value already: among the values or codes,
// or what the translation leads to where there are none.
func (f *Field) valid(text string) bool {
	switch f.Kind {
	case schema.Choice:
		_, ok := f.Choice(text)
		return ok
	case schema.Reference:
		_, ok := f.List.code(f.Compare.Normal(text))
		return ok
	}
	for _, to := range f.Translate.to {
		if to == text {
			return true
		}
	}
	return false
}

func nearWords(near []string) string {
	if len(near) == 0 {
		return ""
	}
	return "; near: " + strings.Join(near, ", ")
}

// check says what is wrong with a value that has the field's form and is not
// blank.
func (f *Field) check(text string) []Problem {
	v, ok := f.Value(text)
	if !ok {
		return []Problem{f.problem(changeset.ValueKind.Name, "%q is no %s", text, f.kindWords())}
	}
	if f.Kind == schema.Choice {
		if _, ok := f.Choice(text); !ok {
			return []Problem{f.problem(changeset.ValueChoice.Name, "%q is not among the values%s", text, nearWords(expr.Near(text, f.Values)))}
		}
	}
	var all []Problem
	if n, number := v.(*expr.Number); number && !f.Fits(n) {
		most := fmt.Sprintf("more than %d decimals", f.Scale)
		if f.Kind != schema.Decimal {
			most = "more decimals than " + f.kindWords()
		}
		all = append(all, f.problem(changeset.ValueScale.Name, "%q has %s", text, most))
	}
	if f.Length.Set() {
		n, _ := expr.ParseNumber(fmt.Sprint(len([]rune(text))))
		if outside(&f.Length, n) {
			all = append(all, f.problem(changeset.ValueLength.Name, "%q has %s characters, and %s are asked for", clip(text), n, f.Length.Text))
		}
	}
	if f.Range.Set() && outside(&f.Range, v) {
		all = append(all, f.problem(changeset.ValueRange.Name, "%q is outside %s", text, f.Range.Text))
	}
	if f.Pattern != nil && !f.Pattern.MatchString(text) {
		all = append(all, f.problem(changeset.ValuePattern.Name, "%q does not fit the pattern %s", clip(text), strings.TrimSuffix(strings.TrimPrefix(f.Pattern.String(), "^(?:"), ")$")))
	}
	return all
}

// clip cuts a long value for a message.
func clip(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:24]) + "…" + string(r[len(r)-12:])
	}
	return s
}

// kindWords says what a value of the field looks like.
func (f *Field) kindWords() string {
	switch f.Kind {
	case schema.Date, schema.Datetime:
		forms := make([]string, len(f.Forms))
		for i, x := range f.Forms {
			forms[i] = x.Text
		}
		if len(forms) == 0 {
			return "moment such as 2026-03-11T07:05:00Z"
		}
		return fmt.Sprintf("%s in the form %s", f.Kind, strings.Join(forms, " or "))
	case schema.Boolean:
		return fmt.Sprintf("%s or %s", f.True, f.False)
	case schema.Integer:
		return "whole number"
	case schema.Decimal:
		return "decimal number"
	case schema.Percent:
		example := "12"
		if f.Scale > 0 {
			example += "." + strings.Repeat("5", f.Scale)
		}
		return "percentage such as " + example + "%"
	case schema.Money:
		return "amount such as " + f.Amount.Text
	}
	return string(f.Kind)
}

func outside(b *Bounds, v expr.Value) bool {
	return b.Low != nil && less(v, b.Low) || b.High != nil && less(b.High, v)
}

func less(a, b expr.Value) bool {
	x, ok := a.(interface{ Compare(expr.Value) expr.Value })
	return ok && x.Compare(b).Value() == int64(-1)
}

// CheckMove says whether a number moved further than the layout lets it move
// without a second look.
func (f *Field) CheckMove(from, to string) []Problem {
	if f.Move.Text == "" {
		return nil
	}
	a, ok1 := f.Number(from)
	b, ok2 := f.Number(to)
	if !ok1 || !ok2 {
		return nil
	}
	size, ok := b.Subtract(a).(*expr.Number)
	if !ok {
		return nil
	}
	size = absolute(size)
	far := f.Move.Size != nil && less(f.Move.Size, size)
	if f.Move.Share != nil {
		allowed, ok := absolute(a).Multiply(f.Move.Share).(*expr.Number)
		far = far || ok && less(allowed, size)
	}
	if !far {
		return nil
	}
	return []Problem{{changeset.LimitMove.Name, f.Name, "warn", fmt.Sprintf("moves from %s to %s, more than %s", from, to, f.Move.Text)}}
}

func absolute(n *expr.Number) *expr.Number {
	if n.Decimal().Negative {
		return n.Negate().(*expr.Number)
	}
	return n
}

// CheckRules evaluates the rules that a change could break: those that name a
// changed field of the new state. Where changed is nil, all. A rule that needs
// a value which is empty does not apply.
func (l *Layout) CheckRules(in *expr.Input, changed func(field int) bool) []Problem {
	var all []Problem
	for i := range l.Rules {
		r := &l.Rules[i]
		if changed != nil && !names(r.Check.New(), changed) {
			continue
		}
		ok, err := r.Check.Holds(in)
		switch {
		case ok, errors.Is(err, expr.ErrNull):
			continue
		case err != nil && l.invalid(r, in):
			continue // which is said of the value itself
		}
		p := Problem{Code: changeset.BrokenRule.Name, Level: r.Level, Text: r.Message}
		if err != nil {
			p.Level, p.Text = "stop", fmt.Sprintf("the rule %q cannot be evaluated: %v", r.Name, err)
		}
		for _, f := range r.Check.New() {
			if changed != nil && changed(f) {
				p.Field = l.Fields[f].Name
				all = append(all, p)
			}
		}
		if changed == nil {
			all = append(all, p)
		}
	}
	return all
}

func names(fields []int, changed func(int) bool) bool {
	for _, f := range fields {
		if changed(f) {
			return true
		}
	}
	return false
}

// invalid reports whether a value that the rule names is none of its kind.
func (l *Layout) invalid(r *Rule, in *expr.Input) bool {
	for _, side := range []struct {
		get    expr.Getter
		fields []int
	}{{in.Old, r.Check.Old()}, {in.New, r.Check.New()}} {
		for _, f := range side.fields {
			if side.get != nil && expr.IsInvalid(side.get(f)) {
				return true
			}
		}
	}
	return false
}

// Getter returns the values of a record of texts for expressions. there tells
// what a field holds.
func (l *Layout) Getter(there func(field int) string) expr.Getter {
	return func(i int) expr.Value {
		v, _ := l.Fields[i].Value(there(i))
		return v
	}
}

// Check says what is wrong with a value as it stands, untranslated.
func (f *Field) Check(text string) []Problem { return f.checkHere(text) }
