package changeset

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
)

// What is packed comes back as it was, whatever bytes stand in it, null and empty told apart.
func TestPackedComesBack(t *testing.T) {
	text := rapid.OneOf(rapid.String(), rapid.StringN(100, 300, -1), rapid.Just(""), rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) }))
	value := rapid.Custom(func(t *rapid.T) record.Value {
		if rapid.Bool().Draw(t, "null") {
			return record.Null()
		}
		return record.Text(text.Draw(t, "text"))
	})
	rapid.Check(t, func(t *rapid.T) {
		edits := rapid.SliceOf(rapid.Custom(func(t *rapid.T) Edit {
			return Edit{text.Draw(t, "field"), value.Draw(t, "from"), value.Draw(t, "to"), text.Draw(t, "linked")}
		})).Draw(t, "edits")
		p := Pack(edits)
		require.ElementsMatch(t, edits, p.Edits())
		require.Equal(t, len(edits), p.Len())
		require.Equal(t, len(edits) == 0, p.None())
		require.Equal(t, Pack(edits), p)
		var r record.Record
		for i, e := range edits {
			r = append(r, record.Field{Name: e.Field, Value: e.To})
			require.Equal(t, e, p.Edits()[i])
		}
		require.Equal(t, r, r.Pack().Record())
		for _, e := range edits {
			want, _ := r.Get(e.Field)
			got, there := r.Pack().Get(e.Field)
			require.True(t, there)
			require.Equal(t, want, got)
		}
	})
}
