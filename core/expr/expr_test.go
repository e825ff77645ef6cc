package expr

import (
	"fmt"
	"regexp"
	"testing"

	"github.com/cockroachdb/apd/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
	"paletwin/internal/thorough"
)

// aids are the fields of the tests: of each type one or two.
var aids = []Field{{Name: "aid_no", Type: Text}, {Name: "name", Type: Text}, {Name: "depot", Type: Text}, {Name: "fee", Type: Decimal}, {Name: "other_fee", Type: Decimal}, {Name: "installed", Type: Day}, {Name: "next_service", Type: Day},
	{Name: "updated_at", Type: Instant}, {Name: "seasonal", Type: Boolean}, {Name: "next port", Type: Text}}

// of makes a record of texts; what is not given is null.
func of(values map[string]string) Getter {
	return func(i int) Value {
		s, ok := values[aids[i].Name]
		if !ok {
			return Null
		}
		var v Value
		switch aids[i].Type {
		case Decimal:
			if n, ok := ParseNumber(s); ok {
				v = n
			}
		case Day:
			if d, ok := ParseDate(s); ok {
				v = d
			}
		case Instant:
			if m, ok := ParseMoment(s); ok {
				v = m
			}
		case Boolean:
			v = Bool(s == "true")
		default:
			v = TextValue(s)
		}
		if v == nil {
			return Invalid("%q is no %s", s, aids[i].Type)
		}
		return v
	}
}

type lists struct{}

func (lists) Lookup(list, value, column string) (string, bool, error) {
	return "Tarn Mouth", list == "depots" && value == "D03" && column == "name", nil
}

func (lists) Translate(value, list string) (string, bool, error) {
	return "X" + value, value == "D03", nil
}

func environment(t require.TestingT) *Env {
	e, err := NewEnv(aids, lists{})
	require.NoError(t, err)
	return e
}

var (
	before = of(map[string]string{"aid_no": "00417", "name": "Old Pier", "depot": "D03", "fee": "29.70", "installed": "2024-01-31", "seasonal": "true", "updated_at": "2026-03-11T07:05:00Z", "next port": "N"})
	after  = of(map[string]string{"aid_no": "00417", "name": "Old Pier", "depot": "D07", "fee": "30.89", "installed": "2024-01-31", "next_service": "2026-03-11", "seasonal": "true"})
)

func TestExpressions(t *testing.T) {
	e := environment(t)
	in := &Input{Old: before, New: after, Key: record.NewKey("00417"), Act: "amend", Row: 18}
	for source, want := range map[string]string{
		"old.fee * 1.04":                         "30.8880",
		"round(old.fee * 1.04, 2)":               "30.89",
		"round(old.fee * 1.04, 2) == new.fee":    "true",
		"old.fee == 29.7 && old.fee == 29.700":   "true",
		"0.1 + 0.2 == 0.3":                       "true",
		"1 / 3 * 3 == 1":                         "false",
		"10 / 4":                                 "2.5",
		"-old.fee + 1":                           "-28.70",
		"round(2.345, 2)":                        "2.35",
		"round(-2.345, 2)":                       "-2.35",
		"round(2, 2)":                            "2.00",
		"round_to(30.888, 0.05)":                 "30.90",
		"round_to(31, 5)":                        "30",
		"max(old.fee, 30)":                       "30",
		"min(date('2026-01-01'), new.installed)": "2024-01-31",
		"abs(-2.5)":                              "2.5",
		"floor(2.5) + ceil(2.5)":                 "5",
		"fee > old.fee":                          "true",
		"new.depot != old.depot && depot in ['D07', 'D08']":      "true",
		"old.next_service == null":                               "true",
		"has(new.next_service)":                                  "true",
		"new.next_service > new.installed":                       "true",
		"new.installed + months(1)":                              "2024-02-29",
		"new.installed + months(13)":                             "2025-02-28",
		"new.installed + days(1)":                                "2024-02-01",
		"new.installed - years(1)":                               "2023-01-31",
		"new.installed + -days(31)":                              "2023-12-31",
		"new.next_service - new.installed":                       "770",
		"end_of_month(date('2026-02-03'))":                       "2026-02-28",
		"year(installed) * 100 + month(installed)":               "202401",
		"weekday(date('2026-11-25'))":                            "3",
		"date(old.updated_at)":                                   "2026-03-11",
		"old.updated_at - moment('2026-03-11T06:05:00Z')":        "1",
		"old.updated_at > moment('2026-03-11T08:04:00+01:00')":   "true",
		"old.name + ' ' + text(old.fee)":                         "Old Pier 29.70",
		"size(old.name) == 8":                                    "true",
		"old.name.size() > 7":                                    "true",
		"old.name.startsWith('Old') && old.name.matches('P.er')": "true",
		"pad('7', 5)":                                            "00007",
		"pad('7', 3, '.')":                                       "..7",
		"first(aid_no, 3) + last(aid_no, 1)":                     "0047",
		"upper(trim(' a ')) + lower('B')":                        "Ab",
		"replace('Fl(2) R', '[0-9]', '#')":                       "Fl(#) R",
		"old.`next port`":                                        "N",
		"number('12.5') + 1":                                     "13.5",
		"lookup('depots', old.depot, 'name')":                    "Tarn Mouth",
		"translate(old.depot, 'x.csv')":                          "XD03",
		"old.seasonal ? 'yes' : 'no'":                            "yes",
		"!old.seasonal || old.seasonal == true":                  "true",
		"act == 'amend' && key == '00417' && row == 18":          "true",
		"'D0' + '7' == new.depot":                                "true",
		"[1, 2.50, 3].exists(x, x == 2.5)":                       "true",
	} {
		p, err := e.Compile(source)
		if !assert.NoError(t, err, source) {
			continue
		}
		v, err := p.Eval(in)
		if assert.NoError(t, err, source) {
			assert.Equal(t, want, fmt.Sprint(v), source)
		}
	}
}

func TestMistakesArePointedAt(t *testing.T) {
	e := environment(t)
	for source, want := range map[string]string{
		"new.dept == 'D07'":                       `column 4: there is no field 'dept' (do you mean depot?)`,
		"depott == 'D07'":                         `column 1: there is no 'depott' (do you mean depot?)`,
		"new.fee == '29.70'":                      `column 9: cannot use == on '(number, text)'`,
		"new.installed > '2026'":                  `a date is written date("2026-03-11")`,
		"new.installed + 90":                      `days are added with days(90)`,
		"new.seasonal == 'true'":                  `true and false stand without quotes`,
		"new.fee = 3":                             `write == for is`,
		"new.fee >":                               `column 10`,
		"old":                                     `it gives a record`,
		"new.fee\n  + old.depot":                  `line 2, column 3`,
		"int(new.name) == 3":                      `there is no 'int'`,
		"size(name) % 2 == 0":                     `column`,
		"[1].all(a, [1].all(b, ''.matches('x')))": "",
	} {
		_, err := e.Compile(source)
		if want == "" {
			assert.NoError(t, err, source)
			continue
		}
		var x *Error
		if assert.ErrorAs(t, err, &x, source) {
			assert.Contains(t, x.Error(), want)
		}
	}
	_, err := e.CompileBool("new.fee * 2")
	assert.ErrorContains(t, err, "it gives a number, and a condition gives true or false")
}

func TestEmptyValuesAndFaults(t *testing.T) {
	e := environment(t)
	in := &Input{Old: before, New: after}
	for source, want := range map[string]string{
		"new.other_fee > 3":                          ErrNull.Error(),
		"old.next_service + days(1) > installed":     ErrNull.Error(),
		"new.other_fee == null || new.other_fee > 3": "",
		"old.fee / (old.fee - 29.7) > 1":             "division by zero",
		"number(old.name) > 1":                       `"Old Pier" is no number`,
		"lookup('depots', 'D9', 'name') == ''":       `"D9" is not in depots`,
	} {
		p, err := e.CompileBool(source)
		require.NoError(t, err, source)
		_, err = p.Holds(in)
		if want == "" {
			assert.NoError(t, err, source)
		} else {
			assert.ErrorContains(t, err, want, source)
		}
	}
	p, err := e.CompileBool("old.fee == null && old.name == null")
	require.NoError(t, err)
	yes, err := p.Holds(&Input{New: after})
	assert.True(t, yes && err == nil, "a record that is not there has no values")
	assert.Equal(t, []int{3, 1}, p.Old())
}

// Sums and products of decimals are exact, and numbers read as they are
// written.
func TestNumbersAreExact(t *testing.T) {
	e := environment(t)
	p, err := e.CompileBool("(old.fee + other_fee) - other_fee == old.fee && old.fee * other_fee == other_fee * old.fee")
	require.NoError(t, err)
	digits := rapid.StringMatching(`-?[1-9][0-9]{0,11}(\.[0-9]{1,8})?`)
	rapid.Check(t, func(t *rapid.T) {
		a, b := digits.Draw(t, "a"), digits.Draw(t, "b")
		yes, err := p.Holds(&Input{Old: of(map[string]string{"fee": a}), New: of(map[string]string{"other_fee": b})})
		require.NoError(t, err)
		require.True(t, yes)
		n, ok := ParseNumber(a)
		require.True(t, ok)
		require.Equal(t, a, n.String())
	})
}

func FuzzCompile(f *testing.F) {
	f.Add("old.fee * 1.04 > 3 && new.depot in ['a']")
	f.Add("lookup('depots', depot, \"name\").matches('(') ? -1 : 1e5")
	e := environment(f)
	f.Fuzz(func(t *testing.T, source string) {
		thorough.Bounded(t, func() {
			p, err := e.Compile(source)
			if err != nil {
				return
			}
			_, _ = p.Eval(&Input{Old: before, New: after}) // whatever it gives, it ends
		})
	})
}

// Numbers are read as the decimal library reads them, and nothing else is one.
func TestParseNumber(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.StringMatching(`[+-]?[0-9]{0,25}\.?[0-9]{0,6}`), rapid.StringOf(rapid.RuneFrom([]rune("0123456789.+-eE ")))).Draw(t, "text")
		n, ok := ParseNumber(text)
		require.Equal(t, regexp.MustCompile(`^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)$`).MatchString(text), ok)
		if !ok {
			return
		}
		want, _, err := apd.NewFromString(text)
		require.NoError(t, err)
		require.Zero(t, want.CmpTotal(n.Decimal()), "%s is %s", text, n)
	})
}
