package layout

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// lists are the lists of the tests, as CSV text by name.
type lists map[string]string

func (l lists) List(name string) (*table.Image, error) {
	text, ok := l[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("there is no such file")}
	}
	return csv.Open(name, []byte(text))
}

var harbour = lists{"depots.csv": "code,name\nD01,Saltreach\nD03,Tarn Mouth\nD07,Old Pier\nD08,Old  pier\n", "codes.csv": "old,new\nX1,D01\nX3,D03\n"}

// parse makes a layout of one field v, and a key.
func parse(t require.TestingT, field, rest string) *Layout {
	l, err := Parse("t.yaml", []byte("key: k\nfields:\n  k: text\n  v: "+field+"\n"+rest), harbour)
	require.NoError(t, err)
	return l
}

// Each clause takes what it should, in the field's own form, and says what is
// wrong with the rest.
func TestClauses(t *testing.T) {
	for _, c := range []struct {
		field string
		good  map[string]string // what the copy has → what is taken
		bad   map[string]string // what the copy has → code and a part of the words
	}{
		{"integer", map[string]string{"7": "7", "-3": "-3", "": ""}, map[string]string{"7.5": changeset.ValueKind.Name + ` "7.5" is no whole number`, "7 ": changeset.ValueKind.Name, "1e3": changeset.ValueKind.Name}},
		{"{kind: decimal, scale: 2}", map[string]string{"31.5": "31.50", "29.70": "29.70", "3": "3.00", "-0.5": "-0.50", "7.500": "7.50"},
			map[string]string{"29.705": changeset.ValueScale.Name + " more than 2 decimals", "12O": changeset.ValueKind.Name, "1,5": changeset.ValueKind.Name}},
		{"{kind: percent, scale: 1}", map[string]string{"12.5%": "12.5%", "0.125": "12.5%", "5 %": "5.0%", "0": "0.0%"},
			map[string]string{"0.12345": changeset.ValueScale.Name + " more decimals", "x%": changeset.ValueKind.Name + " percentage such as 12.5%"}},
		{"{kind: percent, range: 0%..50%}", map[string]string{"0.5": "50%", "7%": "7%"}, map[string]string{"51%": changeset.ValueRange.Name}},
		{"{kind: money, written: \"£1,234.50\"}", map[string]string{"£1,234.50": "£1,234.50", "1234.5": "£1,234.50", "-5": "-£5.00", "(£5.00)": "-£5.00", "£-5": "-£5.00", "12000": "£12,000.00"},
			map[string]string{"£1.234": changeset.ValueScale.Name, "12,50": changeset.ValueKind.Name + " amount such as £1,234.50", "$5": changeset.ValueKind.Name}},
		{"{kind: money, written: \"1.234,50 €\"}", map[string]string{"1.234,50 €": "1.234,50 €", "12,5": "12,50 €", "1234.5": "1.234,50 €", "1.234": "1.234,00 €"}, map[string]string{"1,2,3": changeset.ValueKind.Name}},
		{"{kind: money, written: CHF 1234}", map[string]string{"7": "CHF 7", "CHF 1234567": "CHF 1234567"}, map[string]string{"CHF 7.5": changeset.ValueScale.Name}},
		{"decimal", map[string]string{"31.5": "31.5", "29.70": "29.70"}, map[string]string{"x": changeset.ValueKind.Name}},
		{"date", map[string]string{"2026-03-11": "2026-03-11"}, map[string]string{"2026-02-30": changeset.ValueKind.Name + " in the form yyyy-mm-dd", "11/03/2026": changeset.ValueKind.Name}},
		{"{kind: date, forms: [dd.mm.yyyy, d/m/yy]}", map[string]string{"11.03.2026": "11.03.2026", "1/3/26": "01.03.2026", "2026-03-11": "11.03.2026"}, map[string]string{"31.02.2026": changeset.ValueKind.Name}},
		{"datetime", map[string]string{"2026-03-11T07:05:09Z": "2026-03-11T07:05:09Z", "2026-03-11 07:05": "2026-03-11 07:05"}, map[string]string{"noon": changeset.ValueKind.Name + " moment such as"}},
		{"{kind: datetime, forms: [\"dd/mm/yyyy HH:MM\"]}", map[string]string{"11/03/2026 07:05": "11/03/2026 07:05"}, map[string]string{"2026-03-11T07:05": changeset.ValueKind.Name}},
		{"{kind: boolean, true: [Y, yes], false: [N, no]}", map[string]string{"Y": "Y", "yes": "Y", "YES": "Y", "no": "N"}, map[string]string{"true": changeset.ValueKind.Name + ` "true" is no Y or N`}},
		{"boolean", map[string]string{"TRUE": "true", "False": "false"}, map[string]string{"1": changeset.ValueKind.Name}},
		{"{kind: choice, values: [inner, outer]}", map[string]string{"inner": "inner"}, map[string]string{"iner": changeset.ValueChoice.Name + " near: inner", "Inner": changeset.ValueChoice.Name}},
		{"{kind: choice, values: [inner, outer], compare: ignore case}", map[string]string{"INNER": "inner"}, map[string]string{"roads": changeset.ValueChoice.Name}},
		{"{kind: reference, to: depots.csv}", map[string]string{"D03": "D03"}, map[string]string{"D9": changeset.ValueRef.Name + ` "D9" is not in depots.csv`, "D13": changeset.ValueRef.Name + " near: D03", "Tarn Mouth": changeset.ValueRef.Name}},
		{"{kind: reference, to: {list: depots.csv, by: code, name: name}}", map[string]string{"D03": "D03", "Tarn Mouth": "D03", "tarn  mouth": "D03"},
			map[string]string{"Old Pier": changeset.ValueAmbiguous.Name + " its code is needed", "Tarn Moth": changeset.ValueRef.Name + " Tarn Mouth (D03)"}},
		{"{kind: text, required: true}", map[string]string{"x": "x"}, map[string]string{"": changeset.ValueNeeded.Name}},
		{"{kind: text, length: 2..4}", map[string]string{"åä": "åä", "abcd": "abcd"}, map[string]string{"a": changeset.ValueLength.Name, "abcde": changeset.ValueLength.Name + " has 5 characters, and 2..4"}},
		{"{kind: text, length: 5}", map[string]string{"00417": "00417"}, map[string]string{"0417": changeset.ValueLength.Name}},
		{"{kind: integer, range: 1..40}", map[string]string{"1": "1", "40": "40"}, map[string]string{"0": changeset.ValueRange.Name, "41": changeset.ValueRange.Name + " outside 1..40"}},
		{"{kind: decimal, range: ..9.5}", map[string]string{"-100": "-100", "9.50": "9.50"}, map[string]string{"9.51": changeset.ValueRange.Name}},
		{"{kind: date, range: 2000-01-01..}", map[string]string{"2000-01-01": "2000-01-01"}, map[string]string{"1999-12-31": changeset.ValueRange.Name}},
		{`{kind: text, pattern: "[0-9]{3}|x"}`, map[string]string{"123": "123", "x": "x"}, map[string]string{"1234": changeset.ValuePattern.Name, "ax": changeset.ValuePattern.Name + " [0-9]{3}|x"}},
		{"{kind: text, null: n/a}", map[string]string{"n/a": "", "N/A": "N/A"}, nil},
		{"{kind: text, null: NULL}", map[string]string{"NULL": "", "null": "null"}, nil},
		{"{kind: choice, values: [yes, no, 1.50, 007, 1e5]}", map[string]string{"yes": "yes", "1.50": "1.50", "007": "007", "1e5": "1e5"}, map[string]string{"true": changeset.ValueChoice.Name, "1.5": changeset.ValueChoice.Name}},
		{"{kind: choice, values: [D01, D03], translate: {values: {X1: D01, X3: D03}}}", map[string]string{"X1": "D01", "D03": "D03"}, map[string]string{"X9": changeset.ValueUnknown.Name}},
		{"{kind: choice, values: [a, b], translate: {values: {a: b, b: a}}}", nil, map[string]string{"a": changeset.ValueAmbiguous.Name + ` "a" is a value, and also becomes "b"`}},
		{"{kind: choice, values: [a, b], translate: {always: true, values: {a: b, b: a}}}", map[string]string{"a": "b", "b": "a"}, map[string]string{"c": changeset.ValueUnknown.Name}},
		{"{kind: reference, to: depots.csv, translate: codes.csv}", map[string]string{"X1": "D01", "D07": "D07"}, map[string]string{"X2": changeset.ValueUnknown.Name + " near: X1"}},
	} {
		f := parse(t, c.field, "").Field("v")
		for in, want := range c.good {
			got, ps := f.Take(in)
			assert.Equal(t, want, got, "%s: %q", c.field, in)
			assert.Empty(t, ps, "%s: %q", c.field, in)
		}
		for in, want := range c.bad {
			_, ps := f.Take(in)
			code, words, _ := strings.Cut(want, " ")
			if assert.Len(t, ps, 1, "%s: %q", c.field, in) {
				assert.Equal(t, code, ps[0].Code, "%s: %q", c.field, in)
				assert.Contains(t, ps[0].Text, words, "%s: %q", c.field, in)
			}
		}
	}
}

func TestFormsOfOneValue(t *testing.T) {
	for _, c := range []struct {
		field string
		same  [][2]string
		other [][2]string
	}{
		{"decimal", [][2]string{{"29.70", "29.7"}, {"0.10", ".1"}, {"-0", "0"}}, [][2]string{{"29.70", "29.71"}, {"1,5", "1.5"}, {"", "0"}}},
		{"integer", [][2]string{{"007", "7"}}, [][2]string{{"7", "7.0"}}},
		{"text", nil, [][2]string{{"29.70", "29.7"}, {"A", "a"}}},
		{"{kind: text, compare: [ignore case, ignore spaces]}", [][2]string{{"Old  Pier", " old pier"}}, [][2]string{{"OldPier", "Old Pier"}}},
		{"{kind: text, compare: line breaks alike}", [][2]string{{"a\r\nb", "a\nb"}}, [][2]string{{"a b", "a\nb"}}},
		{"{kind: date, forms: [dd/mm/yyyy, yyyy-mm-dd]}", [][2]string{{"11/03/2026", "2026-03-11"}}, [][2]string{{"11/03/2026", "2026-11-03"}}},
		{"datetime", [][2]string{{"2026-03-11T07:05:00Z", "2026-03-11T08:05:00+01:00"}}, [][2]string{{"2026-03-11T07:05:00", "2026-03-11T07:05:00Z"}}},
		{"{kind: boolean, true: [Y, yes], false: [N]}", [][2]string{{"Y", "YES"}}, [][2]string{{"Y", "N"}}},
		{"{kind: text, null: n/a}", [][2]string{{"n/a", ""}}, [][2]string{{"n/a", "x"}}},
	} {
		l := parse(t, c.field, "")
		for _, p := range c.same {
			assert.True(t, l.Schema().Equal("v", record.Text(p[0]), record.Text(p[1])), "%s: %q", c.field, p)
		}
		for _, p := range c.other {
			assert.False(t, l.Schema().Equal("v", record.Text(p[0]), record.Text(p[1])), "%s: %q", c.field, p)
		}
	}
}

// What a field takes is in its own form: taking it again changes nothing, and
// it is one value with what the copy had.
func TestTakingTwiceIsTakingOnce(t *testing.T) {
	fields := []string{"{kind: decimal, scale: 2}", "{kind: date, forms: [dd.mm.yyyy, yyyy-mm-dd]}", "boolean", "{kind: choice, values: [inner, outer], compare: ignore case}",
		"{kind: reference, to: {list: depots.csv, by: code, name: name}}", "{kind: reference, to: depots.csv, translate: codes.csv}", "{kind: text, null: n/a}"}
	texts := rapid.OneOf(rapid.StringMatching(`-?[0-9]{1,3}(\.[0-9]{1,3})?`), rapid.SampledFrom([]string{"", "n/a", "11.03.2026", "2026-03-11", "TRUE", "Outer", "D03", "tarn mouth", "X1", "X9", "Old Pier"}))
	rapid.Check(t, func(t *rapid.T) {
		f := parse(t, rapid.SampledFrom(fields).Draw(t, "field"), "").Field("v")
		in := texts.Draw(t, "text")
		once, ps := f.Take(in)
		if len(ps) > 0 {
			require.Equal(t, ps[0].Level, "stop")
			return
		}
		twice, ps := f.Take(once)
		require.Empty(t, ps)
		require.Equal(t, once, twice)
		if f.Translate == nil && f.Kind != schema.Reference {
			require.True(t, f.Same(in, once))
		}
	})
}

func TestRulesAndMoves(t *testing.T) {
	l := parse(t, "{kind: decimal, scale: 2, move: {share: 20%, size: 50}}", `  w: decimal
rules:
  - {name: one, check: new.v == null || new.w == null, message: only one of the two}
  - {name: down, check: "new.v >= old.v", level: warn}
  - {name: gone, check: 'act != "delete" || old.w == null', message: still used}
  - {name: ratio, check: new.w / new.v < 3}
`)
	state := func(v, w string) expr.Getter { return l.Getter(func(i int) string { return []string{"1", v, w}[i] }) }
	v := func(f int) bool { return f == 1 }
	said := func(in *expr.Input, changed func(int) bool) (all []string) {
		for _, p := range l.CheckRules(in, changed) {
			all = append(all, p.Level+" "+p.Field+" "+p.Text)
		}
		return all
	}
	assert.Empty(t, said(&expr.Input{Old: state("1", ""), New: state("2", ""), Act: "amend"}, v))
	assert.Equal(t, []string{"stop v only one of the two", "warn v it does not hold that new.v >= old.v", "stop v it does not hold that new.w / new.v < 3"}, said(&expr.Input{Old: state("3", "9"), New: state("2", "9"), Act: "amend"}, v))
	assert.Empty(t, said(&expr.Input{Old: state("", "9"), New: state("", "8"), Act: "amend"}, v), "rules about other fields are not asked")
	assert.Equal(t, []string{"stop  still used"}, said(&expr.Input{Old: state("1", "2"), Act: "delete"}, nil))
	assert.Contains(t, fmt.Sprint(said(&expr.Input{Old: state("", ""), New: state("0", "1"), Act: "add"}, nil)), "cannot be evaluated: division by zero")
	assert.Empty(t, said(&expr.Input{Old: state("1", ""), New: state("x", ""), Act: "amend"}, v), "what is said of the value is not said again")

	f := l.Field("v")
	for _, c := range []struct {
		from, to string
		held     bool
	}{{"100", "120", false}, {"100", "120.01", true}, {"100", "79.99", true}, {"-10", "-12.5", true}, {"1000", "1051", true}, {"0", "1", true}, {"", "5", false}, {"x", "5", false}} {
		assert.Equal(t, c.held, len(f.CheckMove(c.from, c.to)) == 1, "%s to %s", c.from, c.to)
	}
}

func TestLimits(t *testing.T) {
	for _, c := range []struct {
		text   string
		n, all int
		over   bool
	}{{"3", 3, 100, false}, {"3", 4, 100, true}, {"0", 1, 100, true}, {"5%", 5, 100, false}, {"5%", 6, 100, true}, {"0%", 1, 100, true}} {
		l := parse(t, "text", "limits: {delete: "+c.text+"}\n")
		assert.Equal(t, c.over, l.Limits.Delete.Over(c.n, c.all), "%s of %d", c.text, c.n)
		assert.False(t, l.Limits.Amend.Over(c.n, c.all))
	}
}

func TestKeyForms(t *testing.T) {
	for form, same := range map[schema.KeyForm][2]string{{Trim: true}: {" 417 ", "417"}, {FoldCase: true}: {"a-1", "A-1"}, {Zeros: 5}: {"417", "00417"},
		{Prefix: 15}: {"0015f00000PT9AA", "0015f00000PT9AAAA3"}, {Trim: true, Zeros: 5, FoldCase: true}: {" 7", "00007"}} {
		assert.Equal(t, form.Form(same[0]), form.Form(same[1]), "%+v", form)
	}
	assert.NotEqual(t, schema.KeyForm{Zeros: 5}.Form("7a"), schema.KeyForm{Zeros: 5}.Form("0007a"), "only digits have leading zeros")
}

// Zeros up to more characters than tell a record would make one key of many.
func TestKeyFormsThatFitNotTogether(t *testing.T) {
	for form, ok := range map[string]bool{"{zeros: 5}": true, "{prefix: 3}": true, "{zeros: 3, prefix: 3}": true, "{zeros: 5, prefix: 3}": false} {
		_, err := Parse("l.yaml", []byte("record_set: aids\nkey: a\nkey_form: "+form+"\nfields:\n  a: text\n"), nil)
		if ok {
			assert.NoError(t, err, form)
		} else {
			assert.ErrorContains(t, err, "l.yaml line 3", form)
			assert.ErrorContains(t, err, "the first 3 characters would be those of many records", form)
		}
	}
}

// Only a key of one field can be given by the system.
func TestAssignedKeys(t *testing.T) {
	l, err := Parse("l.yaml", []byte("record_set: aids\nkey: a\nfields:\n  a: {kind: integer, key: assigned}\n  b: text\n"), nil)
	require.NoError(t, err)
	assert.True(t, l.Schema().Assigned())
	for _, text := range []string{"key: a\nfields:\n  a: text\n  b: {kind: text, key: assigned}\n", "key: [a, b]\nfields:\n  a: {kind: text, key: assigned}\n  b: text\n"} {
		_, err := Parse("l.yaml", []byte("record_set: aids\n"+text), nil)
		assert.ErrorContains(t, err, "that is not the key", text)
	}
	_, err = Parse("l.yaml", []byte("record_set: aids\nkey: a\nfields:\n  a: {kind: text, key: mine}\n"), nil)
	assert.Error(t, err)
}

// A column is found by the field's name, whatever the case, or by an alias;
// never two for one field.
func TestHeadingsAreRecognised(t *testing.T) {
	l := parse(t, "{aliases: [Value, amount]}", "columns: {ignore: [note]}\n")
	for heading, want := range map[string][]string{"k,v": {"k", "v"}, "K,AMOUNT": {"k", "v"}, "k,Value,v": {"k", "Value", "v"}, "k,value,amount": {"k", "v", "amount"}, "k,x": {"k", "x"}} {
		m, err := csv.Open("h.csv", []byte(heading+"\n1,2,3\n"))
		require.NoError(t, err)
		l.Rename(m)
		assert.Equal(t, want, m.Heading, heading)
	}
	assert.True(t, l.Ignores(" Note"))
}

func TestChecksAWholeTable(t *testing.T) {
	l := parse(t, "{kind: decimal, unique: true}", "  d: {kind: reference, to: depots.csv}\n")
	m, err := csv.Open("t.csv", []byte("k,v,d,z\n1,10,D01,\n2,9.5,D9,\n3,x,D01,\n4,10,,\n"))
	require.NoError(t, err)
	r, err := l.Check(context.Background(), m)
	require.NoError(t, err)
	assert.Equal(t, []string{"z"}, r.Unknown)
	assert.Equal(t, []any{4, 3, "9.5", "10", 3}, []any{r.Fields[1].Filled, r.Fields[1].Distinct, r.Fields[1].Min, r.Fields[1].Max, r.Fields[1].Longest})
	var got []string
	for _, f := range r.Found {
		got = append(got, fmt.Sprint(f.Code, f.Rows))
	}
	assert.Equal(t, []string{"value-kind[4]", "value-unique[5]", "value-reference[3]"}, got)
}

// The draft of a table is a layout, and the table is as it says.
func TestADraftFitsItsTable(t *testing.T) {
	cell := rapid.OneOf(rapid.SampledFrom([]string{"", "true", "false", "2026-03-11", "11/03/2026", "25/03/2026", "00417", "29.70", "7", "-3.5", "D03", "2026-03-11T07:05:00Z", "a: b # c", "'", "{x}", "yes", "~"}),
		rapid.StringOfN(rapid.RuneFrom([]rune("ab0 :#'\"{}[],&*!|>%@`-?\té")), 0, 6, -1))
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		b.WriteString("k,\"a: b\",v\n")
		kind := cell
		if rapid.Bool().Draw(t, "alike") {
			one := cell.Draw(t, "one")
			kind = rapid.Just(one)
		}
		for i := range rapid.IntRange(0, 8).Draw(t, "rows") {
			fmt.Fprintf(&b, "%d,", i)
			b.Write(csv.AppendCell(nil, kind.Draw(t, "a"), ',', false))
			b.WriteByte(',')
			b.Write(csv.AppendCell(nil, cell.Draw(t, "v"), ',', false))
			b.WriteByte('\n')
		}
		m, err := csv.Open("t.csv", []byte(b.String()))
		require.NoError(t, err)
		text, err := Draft(context.Background(), m, "t", []string{"k"}, nil, table.Options{}, nil)
		require.NoError(t, err)
		l, err := Parse("t.yaml", text, harbour)
		require.NoError(t, err, "%s", text)
		r, err := l.Check(context.Background(), m)
		require.NoError(t, err)
		require.Empty(t, r.Found, "%s", text)
		require.Empty(t, r.Unknown)
	})
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("record_set: aids\nkey: [a, b]\nkey_form: {zeros: 5}\nfields:\n  a: text\n  b: {kind: reference, to: {list: depots.csv, name: name}}\n  c: {kind: decimal, scale: 2, move: {share: 20%}}\nrules:\n  - check: new.c > 3\n"))
	f.Add([]byte("fields: {a: {kind: choice, values: [x, y], translate: {values: {z: x}}}}\nkey: a\nlimits: {add: 5%}\noutward: {blank: keeps}\n"))
	f.Add([]byte("a: &x [1]\nb: *x\n? c\n: |\n  d\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		l, err := Parse("f.yaml", data, harbour)
		if err != nil {
			var all Errors
			require.ErrorAs(t, err, &all)
			require.NotEmpty(t, all)
			return
		}
		for i := range l.Fields {
			_, _ = l.Fields[i].Take("x")
			_ = l.Fields[i].Says()
		}
	})
}
