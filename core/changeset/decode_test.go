package changeset

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
)

// Members may stand in any order, with blanks between, and others among them: what is read is the same.
func TestLinesAreReadInAnyOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawChange(t)
		line := AppendLine(nil, c)
		var members map[string]json.RawMessage
		require.NoError(t, json.Unmarshal(line, &members))
		for _, name := range []string{"fields", "record"} { // json.Marshal puts names in order
			var of map[string]json.RawMessage
			if members[name] != nil {
				require.NoError(t, json.Unmarshal(members[name], &of))
				b, err := json.MarshalIndent(of, " ", "\t")
				require.NoError(t, err)
				members[name] = b
			}
		}
		members["later"] = json.RawMessage(`{"a":[1,null,true,"x"],"b":{}}`)
		other, err := json.MarshalIndent(members, "", " ")
		require.NoError(t, err)
		want, err := Line(line[:len(line)-1]).Change(fields)
		require.NoError(t, err)
		got, err := Line(other).Change(fields)
		require.NoError(t, err)
		require.Equal(t, want, got)
	})
}

// What is no line of a change set is an error that says so, and nothing else.
func TestOddLines(t *testing.T) {
	const id = `"id":"0123456789abcdef","act":"amend","key":["1"]`
	for _, text := range []string{``, `null`, `[]`, `{}`, `{` + id, `{"act":"amend","key":["1"]}`, `{"id":"xyz","act":"amend"}`, `{"id":5,"act":"amend"}`,
		`{` + id + `,"id":"0123456789abcdef"}`, `{` + id + `,"act":"mend"}`, `{` + id + `} x`, `{` + id + `,"fields":{"other":{"from":"a","to":"b"}}}`, `{` + id + `,"fields":{"depot":{"from":1,"to":"b"}}}`,
		`{` + id + `,"fields":{"depot":{"from":"a"},"depot":{"to":"b"}}}`, `{` + id + `,"record":{"nobody":"x"}}`, `{` + id + `,"key":"1"}`, `{` + id + `,"fields":[]}`} {
		_, err := Line(text).Change(fields)
		assert.Error(t, err, text)
	}
	c, err := Line(`{` + id + `,"linked":null,"fields":{"depot":{"to":"\u00e9\ud800\"x","from":null,"held":["a\nb"]},"name":{}}}`).Change(fields)
	require.NoError(t, err)
	assert.Equal(t, []FieldChange{{Edit: Edit{Field: "name", From: record.Null(), To: record.Null()}},
		{Edit: Edit{Field: "depot", From: record.Null(), To: record.Text("é\ufffd\"x")}, Held: []string{"a\nb"}}}, c.Fields)
}
