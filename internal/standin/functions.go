package standin

import (
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/cockroachdb/apd/v3"

	"paletwin/core/expr"
	"paletwin/internal/odata"
)

// function is a canonical function (URL Conventions 5.1.1.5 on). A null among what it is
// given makes it null.
type function struct {
	takes []odata.Kind // Null is any kind; those in optional may be left out
	least int          // how many at least
	gives odata.Kind   // Null is the kind of what it takes first
	does  func(v []odata.Value) odata.Value
}

func texts(n int) []odata.Kind {
	all := make([]odata.Kind, n)
	for i := range all {
		all[i] = odata.String
	}
	return all
}

func whole(n int64) odata.Value {
	return odata.Value{Kind: odata.Int64, Text: strconv.FormatInt(n, 10)}
}

// ofTime makes a function of a date or a moment.
func ofTime(part func(t time.Time) int) function {
	return function{[]odata.Kind{odata.DateTimeOffset}, 1, odata.Int64, func(v []odata.Value) odata.Value {
		t, ok := v[0].Time()
		if !ok {
			return odata.Value{}
		}
		return whole(int64(part(t)))
	}}
}

func ofText(f func(s string) string) function {
	return function{texts(1), 1, odata.String, func(v []odata.Value) odata.Value { return odata.Text(f(v[0].Text)) }}
}

func ofTexts(f func(s, part string) bool) function {
	return function{texts(2), 2, odata.Boolean, func(v []odata.Value) odata.Value { return odata.True(f(v[0].Text, v[1].Text)) }}
}

// rounding makes a function that rounds a number to a whole one.
func rounding(how apd.Rounder) function {
	return function{[]odata.Kind{odata.Decimal}, 1, odata.Null, func(v []odata.Value) odata.Value {
		n, ok := v[0].Number()
		if !ok {
			return odata.Value{}
		}
		ctx := exact.WithPrecision(200)
		ctx.Rounding = how
		var d apd.Decimal
		if _, err := ctx.Quantize(&d, n.Decimal(), 0); err != nil {
			return odata.Value{}
		}
		w, _ := odata.Parse(d.Text('f'), v[0].Kind)
		return w
	}}
}

// functions are those that are served, by their names.
func functions() map[string]function {
	return map[string]function{
		"contains":   ofTexts(strings.Contains),
		"startswith": ofTexts(strings.HasPrefix),
		"endswith":   ofTexts(strings.HasSuffix),
		"tolower":    ofText(strings.ToLower),
		"toupper":    ofText(strings.ToUpper),
		"trim":       ofText(strings.TrimSpace),
		"length": {texts(1), 1, odata.Int64, func(v []odata.Value) odata.Value {
			return whole(int64(utf8.RuneCountInString(v[0].Text)))
		}},
		"indexof": {texts(2), 2, odata.Int64, func(v []odata.Value) odata.Value {
			i := strings.Index(v[0].Text, v[1].Text)
			if i > 0 {
				i = utf8.RuneCountInString(v[0].Text[:i])
			}
			return whole(int64(i))
		}},
		"concat": {texts(2), 2, odata.String, func(v []odata.Value) odata.Value { return odata.Text(v[0].Text + v[1].Text) }},
		"substring": {[]odata.Kind{odata.String, odata.Int64, odata.Int64}, 2, odata.String, func(v []odata.Value) odata.Value {
			return odata.Text(substring(v))
		}},
		"year":   ofTime(time.Time.Year),
		"month":  ofTime(func(t time.Time) int { return int(t.Month()) }),
		"day":    ofTime(time.Time.Day),
		"hour":   ofTime(time.Time.Hour),
		"minute": ofTime(time.Time.Minute),
		"second": ofTime(time.Time.Second),
		"date": {[]odata.Kind{odata.DateTimeOffset}, 1, odata.Date, func(v []odata.Value) odata.Value {
			return odata.Value{Kind: odata.Date, Text: v[0].Text[:min(10, len(v[0].Text))]}
		}},
		"round":   rounding(apd.RoundHalfUp),
		"floor":   rounding(apd.RoundFloor),
		"ceiling": rounding(apd.RoundCeiling),
	}
}

// substring counts characters; what lies outside the text is left out.
func substring(v []odata.Value) string {
	all := []rune(v[0].Text)
	from, _ := strconv.ParseInt(v[1].Text, 10, 64)
	from = min(max(from, 0), int64(len(all)))
	all = all[from:]
	if len(v) > 2 {
		n, _ := strconv.ParseInt(v[2].Text, 10, 64)
		all = all[:min(max(n, 0), int64(len(all)))]
	}
	return string(all)
}

var served = functions()

// function reads the call of a function, whose name has been read.
func (p *parser) function(t token) *expression {
	defer p.deeper()()
	name := strings.ToLower(t.text)
	p.expect("(")
	var args []*expression
	for !p.isSign(")") {
		args = append(args, p.or())
		if !p.isSign(",") {
			break
		}
		p.next()
	}
	p.expect(")")
	if name == "now" && len(args) == 0 {
		return constant(odata.Value{Kind: odata.DateTimeOffset, Text: p.now.UTC().Format(time.RFC3339)}, "now()")
	}
	f, ok := served[name]
	if !ok {
		panic(notHere("the function %s", t.text))
	}
	if len(args) < f.least || len(args) > len(f.takes) {
		p.tok = t
		p.fail("%s takes %s", t.text, counted(f))
	}
	text := t.text + "("
	for i, a := range args {
		text += a.text
		if i+1 < len(args) {
			text += ","
		}
		want := f.takes[i]
		fits := a.kind == want || a.kind == odata.Null || want == odata.Decimal && a.kind.Numeric() || want == odata.DateTimeOffset && a.kind == odata.Date
		if !fits {
			p.tok = t
			p.fail("%s is not for %s, which is %s", t.text, a.text, a.kind)
		}
	}
	kind := f.gives
	if kind == odata.Null {
		kind = args[0].kind
	}
	return &expression{kind: kind, text: text + ")", eval: func(r *Record) odata.Value {
		var room [3]odata.Value
		v := room[:0]
		for _, a := range args {
			x := a.eval(r)
			if x.IsNull() {
				return x
			}
			v = append(v, x)
		}
		return f.does(v)
	}}
}

func counted(f function) string {
	if f.least != len(f.takes) {
		return itoa(f.least) + " or " + itoa(len(f.takes)) + " arguments"
	}
	if f.least == 1 {
		return "one argument"
	}
	return itoa(f.least) + " arguments"
}

func itoa(n int) string { return strconv.Itoa(n) }

// short is a text for a message.
func short(s string) string {
	if r := []rune(s); len(r) > 60 {
		s = string(r[:59]) + "…"
	}
	return strconv.Quote(s)
}

// near is a hint at names that differ by a letter or two; "" is none.
func near(name string, names []string) string {
	if n := expr.Near(name, names); len(n) > 0 {
		return "; did you mean " + strings.Join(n, " or ") + "?"
	}
	return ""
}

func (s *Set) fieldNames() (names []string) {
	for _, f := range s.Fields {
		names = append(names, f.Name)
	}
	return names
}

func (s *Set) navNames() (names []string) {
	for _, n := range s.Navs {
		names = append(names, n.Name)
	}
	return names
}
