package layout

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
)

const outwardLayout = `record_set: aids
key: k
fields:
  k: text
  due: {kind: date, forms: [dd/mm/yyyy]}
  seen: {kind: datetime, outward: {datetime: "dd.mm.yyyy HH:MM:SSZ"}}
  seasonal: {kind: boolean, true: [yes, J], false: [no]}
  fee: {kind: decimal, scale: 2, outward: {name: FEE, clear: "-1", blank: clears}}
  name: text
outward: {blank: keeps, clear: "NULL", date: mm/dd/yy, true: "1", false: "0"}
`

// What is written in a system's words and read back is the same value.
func TestWordingReadsBack(t *testing.T) {
	l, err := Parse("aids.yaml", []byte(outwardLayout), nil)
	require.NoError(t, err)
	rapid.Check(t, func(rt *rapid.T) {
		when := time.Unix(rapid.Int64Range(0, 1<<31).Draw(rt, "when"), 0).UTC()
		for field, text := range map[string]string{
			"due": when.Format("02/01/2006"), "seen": when.Format(time.RFC3339), "fee": rapid.StringMatching(`[0-9]{1,6}\.[0-9]{2}`).Draw(rt, "fee"),
			"seasonal": rapid.SampledFrom([]string{"yes", "no"}).Draw(rt, "seasonal"), "name": rapid.StringMatching(`[a-z ]{1,9}`).Draw(rt, "name"),
			"not in the layout": rapid.StringMatching(`[a-z ]{1,9}`).Draw(rt, "other"),
		} {
			w, err := l.Wording(field, Outward{})
			require.NoError(rt, err)
			v := record.Text(text)
			assert.True(rt, l.Schema().Equal(field, v, w.Read(w.Write(v))), "%s: %q → %q → %q", field, text, w.Write(v), w.Read(w.Write(v)))
		}
	})
}

// What is said nearer counts: a flag before a field, a field before the whole.
func TestWordingOfWhatIsNearest(t *testing.T) {
	l, err := Parse("aids.yaml", []byte(outwardLayout), nil)
	require.NoError(t, err)
	for _, c := range []struct {
		field         string
		over          Outward
		heading, sign string
		empties       bool
	}{
		{"fee", Outward{}, "FEE", "-1", true},
		{"fee", Outward{Clear: "x"}, "FEE", "x", true},
		{"name", Outward{}, "name", "NULL", true},
		{"unknown", Outward{}, "unknown", "NULL", true},
	} {
		w, err := l.Wording(c.field, c.over)
		require.NoError(t, err)
		sign, ok := w.Empty()
		assert.Equal(t, []any{c.heading, c.sign, c.empties}, []any{w.Heading, sign, ok}, c.field)
		assert.True(t, w.Misread(record.Text(sign)))
		assert.False(t, w.Misread(record.Text("else")))
	}
	var none *Layout
	w, err := none.Wording("fee", Outward{})
	require.NoError(t, err)
	_, ok := w.Empty()
	assert.False(t, ok, "nothing is known of the system")
	w, err = none.Wording("fee", Outward{Blank: BlankClears})
	require.NoError(t, err)
	sign, ok := w.Empty()
	assert.True(t, ok && sign == "")
	_, err = none.Wording("fee", Outward{Date: "dd.mm"})
	assert.Error(t, err)
}
