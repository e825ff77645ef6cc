package layout

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Two texts are one value if, and only if, their canonical texts are equal,
// whatever the field is and whatever they say.
func TestCanonicalIsEquality(t *testing.T) {
	var fields []*Field
	for _, f := range []string{"text", "{kind: text, compare: [ignore case, ignore spaces, line breaks alike]}", "{kind: text, null: NULL}", "integer", "{kind: integer, null: '-'}", "decimal", "{kind: decimal, scale: 2}",
		"date", "{kind: date, forms: [dd.mm.yyyy, d/m/yy]}", "datetime", "{kind: datetime, forms: ['dd/mm/yyyy HH:MM']}", "boolean", "{kind: boolean, true: [Y, yes], false: [N, no]}",
		"{kind: choice, values: [inner, outer]}", "{kind: choice, values: [inner, outer], compare: ignore case}", "{kind: reference, to: depots.csv}"} {
		fields = append(fields, parse(t, f, "").Field("v"))
	}
	texts := []string{"", "3", "03", "+3", "3.0", "3.", "-0", "0", "0.00", "-", "NULL", "null", "1e3", "12345678901234567890.10", "12345678901234567890.1", "2026-03-11", "11.03.2026", "11/3/26", "11.3.2026",
		"2026-03-11T07:05:00Z", "2026-03-11T08:05:00+01:00", "2026-03-11 07:05", "2026-03-11T07:05:00", "2026-03-11T07:05:00.0", "11/03/2026 07:05", "true", "TRUE", "Y", "yes", "y", "no", "N", "inner", "INNER", "Inner ", "a b", "a  b", " a b", "A B", "a\r\nb", "a\nb", "a\rb", " ", "D01", "d01", "Saltreach"}
	for _, f := range fields {
		for _, a := range texts {
			for _, b := range texts {
				require.Equal(t, f.Same(a, b), f.Canonical(a) == f.Canonical(b), "%s: %q and %q: %q and %q", f.Kind, a, b, f.Canonical(a), f.Canonical(b))
			}
		}
	}
	number := rapid.StringMatching(`[-+]?0{0,2}[0-9]{0,3}(\.[0-9]{0,2}0{0,2})?`)
	rapid.Check(t, func(t *rapid.T) {
		f, a, b := rapid.SampledFrom(fields).Draw(t, "field"), number.Draw(t, "a"), number.Draw(t, "b")
		require.Equal(t, f.Same(a, b), f.Canonical(a) == f.Canonical(b), "%s: %q and %q: %q and %q", f.Kind, a, b, f.Canonical(a), f.Canonical(b))
	})
}
