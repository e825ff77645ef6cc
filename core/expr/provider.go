package expr

import (
	"fmt"
	"reflect"
	"strings"
	"unicode"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/env"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// recordType is the type of old and new.
var recordType = types.NewObjectType("record")

// state is a record in an expression.
type state struct{ get Getter }

func (s *state) ConvertToNative(t reflect.Type) (any, error) { return native(s, t) }
func (s *state) ConvertToType(ref.Type) ref.Val              { return types.NewErr("a record is nothing else") }
func (s *state) Equal(other ref.Val) ref.Val                 { return types.Bool(s == other) }
func (s *state) Type() ref.Type                              { return recordType }
func (s *state) Value() any                                  { return s }

// provider knows the types of ours and the fields of records.
type provider struct {
	*types.Registry
	env *Env
}

func (p *provider) FindStructType(name string) (*types.Type, bool) {
	if name == "record" {
		return types.NewTypeTypeWithParam(recordType), true
	}
	return p.Registry.FindStructType(name)
}

func (p *provider) FindStructFieldNames(name string) ([]string, bool) {
	if name != "record" {
		return p.Registry.FindStructFieldNames(name)
	}
	var all []string
	for _, f := range p.env.fields {
		all = append(all, f.Name)
	}
	return all, true
}

func (p *provider) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	if name != "record" {
		return p.Registry.FindStructFieldType(name, field)
	}
	i, ok := p.env.at[field]
	if !ok {
		return nil, false
	}
	return &types.FieldType{Type: p.env.fields[i].Type.cel(),
		IsSet:   func(target any) bool { return get(target.(*state).get, i) != Null },
		GetFrom: func(target any) (any, error) { return get(target.(*state).get, i), nil }}, true
}

func (p *provider) NativeToValue(v any) ref.Val {
	if r, ok := v.(ref.Val); ok {
		return r
	}
	return p.Registry.NativeToValue(v)
}

// envSubset is the part of CEL's own library that is there.
type envSubset = env.LibrarySubset

func newSubset(functions ...string) *envSubset {
	s := env.NewLibrarySubset()
	for _, f := range functions {
		s.AddIncludedFunctions(env.NewFunction(f))
	}
	return s
}

// issue makes an *Error of the first thing that is wrong with an expression.
func (e *Env) issue(source string, iss *cel.Issues) error {
	first := iss.Errors()[0]
	x := &Error{Source: source, Line: first.Location.Line(), Column: first.Location.Column() + 1, Text: plain(first.Message)}
	if strings.HasPrefix(first.Message, "Syntax error: ") {
		x.Text = syntax(source, x)
	}
	x.Hint = e.hint(x.Text)
	return x
}

// syntax says what is missing, or too much, where an expression cannot be read, and puts the place behind what was read last.
func syntax(source string, x *Error) string {
	lines := strings.Split(source, "\n")
	if x.Line < 1 || x.Line > len(lines) {
		return "it cannot be read"
	}
	line := []rune(lines[x.Line-1])
	if strings.TrimSpace(source) == "" {
		x.Line, x.Column = 1, 1
		return "it is empty"
	}
	at := min(max(x.Column-1, 0), len(line))
	if quotes := strings.Count(string(line), `"`); quotes%2 == 1 && strings.Contains(x.Text, "token recognition error") {
		x.Column = strings.LastIndex(string(line), `"`) + 1
		return "a text begins with a quote here, and does not end"
	}
	before := strings.TrimRight(string(line[:at]), " \t")
	for before == "" && x.Line > 1 {
		x.Line--
		before = strings.TrimRight(lines[x.Line-1], " \t")
		at = len([]rune(before))
	}
	rest := strings.TrimSpace(string(line[min(at, len(line)):]))
	last := lastSign(before)
	switch open := strings.Count(source, "(") - strings.Count(source, ")"); {
	case strings.HasPrefix(rest, "=") && !strings.HasPrefix(rest, "=="):
		return "= does not compare: write == for is, != for is not"
	case last != "" && (rest == "" || !startsValue(rest)):
		x.Column = len([]rune(before)) + 1
		return "a value is missing after " + last
	case rest == "" && open > 0:
		return "a ) is missing at the end"
	case open < 0 && strings.HasPrefix(rest, ")"):
		return "a ) is too many"
	case rest == "":
		return "it ends too early"
	case last == "" && wordSigns[strings.ToLower(firstWord(rest))] != "":
		return firstWord(rest) + " is written " + wordSigns[strings.ToLower(firstWord(rest))] + " here"
	case last == "" && before != "" && startsValue(rest):
		return fmt.Sprintf("something is missing between %s and %s: == or &&, perhaps", lastWord(before), firstWord(rest))
	}
	return firstWord(rest) + " cannot stand here"
}

// wordSigns are words that people write for signs.
var wordSigns = map[string]string{"and": "&&", "or": "||", "not": "!", "is": "==", "und": "&&", "oder": "||", "<>": "!="}

var signs = []string{"==", "!=", "<=", ">=", "&&", "||", "<", ">", "+", "-", "*", "/", "(", ",", "[", "!", "?", ":"}

// lastSign is the sign with which a text ends; "" is none.
func lastSign(s string) string {
	for _, sign := range signs {
		if strings.HasSuffix(s, sign) {
			return sign
		}
	}
	if w := lastWord(s); w == "in" {
		return w
	}
	return ""
}

func lastWord(s string) string {
	i := strings.LastIndexAny(s, " \t(),[]")
	return s[i+1:]
}

func firstWord(s string) string {
	switch i := strings.IndexAny(s, " \t(),[]"); {
	case i > 0:
		return s[:i]
	case i == 0:
		return s[:1]
	}
	return s
}

// startsValue reports whether a value could begin so.
func startsValue(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("\"'([-!_.", r)
}

// plain puts CEL's names of types and operators into words.
var plainer = strings.NewReplacer("wrapper(string)", "text", "wrapper(bool)", "true-or-false", "string", "text", "bool", "true-or-false", "null_type", "null",
	"found no matching overload for", "cannot use", "applied to", "on", "undeclared reference to", "there is no", " (in container '')", "",
	"undefined field", "there is no field", "'_==_'", "==", "'_!=_'", "!=", "'_<_'", "<", "'_<=_'", "<=", "'_>_'", ">", "'_>=_'", ">=", "'_+_'", "+", "'_-_'", "-",
	"'_*_'", "*", "'_/_'", "/", "'_&&_'", "&&", "'_||_'", "||", "'-_'", "-", "'!_'", "!", "'@in'", "in", "Syntax error: ", "")

func plain(message string) string {
	message, _, _ = strings.Cut(message, " (did you mean")
	return plainer.Replace(message)
}

// hint says what is probably meant.
func (e *Env) hint(text string) string {
	switch {
	case strings.Contains(text, "there is no"):
		name := between(text, "'", "'")
		var names []string
		for _, f := range e.fields {
			names = append(names, f.Name)
		}
		if n := Near(name, names); len(n) > 0 {
			return "do you mean " + strings.Join(n, " or ") + "?"
		}
		return ""
	case strings.Contains(text, "(number, text)"), strings.Contains(text, "(text, number)"):
		return "number(x) makes a number of a text, text(x) a text of a number; texts stand in quotes"
	case strings.Contains(text, "(date, text)"), strings.Contains(text, "(text, date)"):
		return `a date is written date("2026-03-11")`
	case strings.Contains(text, "(date, number)"):
		return "days are added with days(90), months with months(3)"
	case strings.Contains(text, "text, null"), strings.Contains(text, "null, text"):
		return ""
	case strings.Contains(text, "(true-or-false, text)"):
		return "true and false stand without quotes"
	case strings.Contains(text, "token recognition error"), strings.Contains(text, "mismatched input '='"):
		return "texts stand in quotes, equal is ==, and is &&, or is ||"
	}
	return ""
}

func between(s, from, to string) string {
	_, s, _ = strings.Cut(s, from)
	s, _, _ = strings.Cut(s, to)
	return s
}

// Near returns the names that differ from name by a letter or two, or in case
// alone; at most three.
func Near(name string, names []string) []string {
	var near []string
	for limit := 1; limit <= 2 && len(near) == 0; limit++ {
		for _, n := range names {
			if d := damerauLevenshtein(strings.ToLower(name), strings.ToLower(n), limit); d <= limit && len(name) > limit && len(near) < 3 {
				near = append(near, n)
			}
		}
	}
	return near
}

// distance is how many letters have to be put in, taken out, replaced or
// exchanged with their neighbour to make b of a; more than limit is limit+1.
func damerauLevenshtein(a, b string, limit int) int {
	x, y := []rune(a), []rune(b)
	if len(x)-len(y) > limit || len(y)-len(x) > limit {
		return limit + 1
	}
	rows := [3][]int{make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		row, up, upper := rows[i%3], rows[(i-1)%3], rows[(i+1)%3]
		row[0] = i
		for j := 1; j <= len(y); j++ {
			same := 1
			if x[i-1] == y[j-1] {
				same = 0
			}
			row[j] = min(up[j]+1, row[j-1]+1, up[j-1]+same)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], upper[j-2]+1)
			}
		}
	}
	return rows[len(x)%3][len(y)]
}

// ofSize makes a number of what size gives.
func ofSize(v ref.Val) ref.Val {
	n, ok := v.(types.Int)
	if !ok {
		return types.MaybeNoSuchOverloadErr(v)
	}
	r, ok := ParseNumber(fmt.Sprint(int64(n)))
	if !ok {
		return types.NewErr("no size")
	}
	return r
}
