package schema_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
	"paletwin/core/schema"
)

// Where nothing is known of a field it is a text, and equal means equal bytes.
func TestASchemaThatKnowsNothing(t *testing.T) {
	for name, s := range map[string]*schema.Schema{"zero": new(schema.Schema), "of other fields": schema.New(nil, schema.KeyForm{}, []*schema.Field{{Name: "w", Kind: schema.Decimal, Unique: true}})} {
		assert.True(t, s.Equal("v", record.Text(""), record.Null()), "%s: blank against null is no change", name)
		assert.False(t, s.Equal("v", record.Text("0"), record.Null()), name)
		assert.False(t, s.Equal("v", record.Text("8.0"), record.Text("8.00")), name)
		assert.Equal(t, schema.Text, s.Field("v").Kind)
		_, unique := s.Unique("v", record.Text("8.0"))
		assert.False(t, unique)
		assert.True(t, s.OneForm())
		assert.NotEqual(t, s.Key(record.NewKey("417")), s.Key(record.NewKey("00417")))
	}
	assert.Empty(t, new(schema.Schema).System())
}

func TestWhatASchemaKnows(t *testing.T) {
	s := schema.New([]string{"k"}, schema.KeyForm{Trim: true, Zeros: 5, FoldCase: true}, []*schema.Field{
		{Name: "fee", Kind: schema.Decimal, Scale: 2}, {Name: "code", Kind: schema.Text, Unique: true, Compare: schema.Leniency{Case: true}},
		{Name: "changed", Kind: schema.Datetime, Access: schema.System}, {Name: "by", Access: schema.System}})
	assert.True(t, s.Equal("fee", record.Text("29.7"), record.Text("29.70")))
	assert.False(t, s.Equal("code", record.Text("29.7"), record.Text("29.70")))
	assert.True(t, s.Equal("k", record.Text("417"), record.Text("00417")), "a field of the key has the form of keys")
	assert.False(t, s.Equal("k", record.Text("417"), record.Text("00418")))
	assert.False(t, s.Equal("other", record.Text("417"), record.Text("00417")))
	assert.Equal(t, []string{"changed", "by"}, s.System())
	assert.Equal(t, []string{"code"}, s.UniqueFields())
	a, unique := s.Unique("code", record.Text("Abc"))
	require.True(t, unique)
	b, _ := s.Unique("code", record.Text("aBC"))
	assert.Equal(t, a, b)
	_, unique = s.Unique("code", record.Text(""))
	assert.False(t, unique, "blank is nobody's")
	assert.True(t, s.HasKey([]record.Key{record.NewKey("1"), record.NewKey(" 417 ")}, record.NewKey("00417")))
	assert.False(t, s.HasKey([]record.Key{record.NewKey("1"), record.NewKey("418")}, record.NewKey("00417")))
	assert.False(t, s.HasKey(nil, record.NewKey("00417")))
}

// A choice has each of its values once, in the form in which they are compared.
func TestChoices(t *testing.T) {
	f := &schema.Field{Kind: schema.Choice, Compare: schema.Leniency{Case: true, Spaces: true}}
	_, ok := f.SetValues([]string{"in service", "withdrawn"})
	require.True(t, ok)
	v, ok := f.Choice(" IN  SERVICE")
	assert.True(t, ok)
	assert.Equal(t, "in service", v)
	assert.Equal(t, "in service", f.Write("In Service"))
	_, ok = f.Choice("out")
	assert.False(t, ok)
	twice, ok := f.SetValues([]string{"a b", "c", "A  B"})
	assert.False(t, ok)
	assert.Equal(t, "A  B", twice)
}

// Equality is one: whatever is equal to a value is equal to all that it is equal to,
// and keys that name one record name it whatever form is asked about.
func TestEqualityIsAnEquivalence(t *testing.T) {
	kinds := rapid.SampledFrom(schema.Kinds)
	texts := rapid.SampledFrom([]string{"", "0", "-0", "0.0", "7", "07", "7.0", "7.00", "true", "TRUE", "2026-03-11", "2026-03-11T00:00:00Z", "2026-03-11T01:00:00+01:00", "a", "A", " a", "a ", "a\r\n", "a\n", "NULL"})
	rapid.Check(t, func(t *rapid.T) {
		f := &schema.Field{Name: "v", Kind: schema.Kind(kinds.Draw(t, "kind")), Scale: rapid.IntRange(-1, 2).Draw(t, "scale"), Forms: []schema.Form{schema.ISO}, Null: rapid.SampledFrom([]string{"", "NULL"}).Draw(t, "null"),
			Words: map[string]bool{"true": true, "false": false}, Compare: schema.Leniency{Case: rapid.Bool().Draw(t, "case"), Spaces: rapid.Bool().Draw(t, "spaces"), Breaks: rapid.Bool().Draw(t, "breaks")}}
		form := schema.KeyForm{Trim: f.Compare.Spaces, FoldCase: f.Compare.Case, Zeros: rapid.IntRange(0, 4).Draw(t, "zeros"), Prefix: rapid.IntRange(0, 3).Draw(t, "prefix")}
		if form.Prefix > 0 {
			form.Zeros = min(form.Zeros, form.Prefix) // a layout refuses others
		}
		s := schema.New([]string{"k"}, form, []*schema.Field{f})
		a, b, c := texts.Draw(t, "a"), texts.Draw(t, "b"), texts.Draw(t, "c")
		equal := func(a, b string) bool { return s.Equal("v", record.Text(a), record.Text(b)) }
		require.True(t, equal(a, a))
		require.Equal(t, equal(a, b), equal(b, a))
		if equal(a, b) && equal(b, c) {
			require.True(t, equal(a, c), "%q, %q, %q", a, b, c)
		}
		if a != "" && b != "" {
			require.Equal(t, equal(a, b), f.Canonical(a) == f.Canonical(b), "%q and %q", a, b)
		}
		k := record.NewKey(a, b)
		require.Equal(t, s.Key(k), s.Key(s.Key(k)), "a normalised key is its own")
	})
}
