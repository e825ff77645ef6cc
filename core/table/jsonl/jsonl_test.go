package jsonl

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// read reads JSON and returns each record's values, nil for a member that is
// not there.
func read(t *testing.T, text string) (*table.Image, [][]*record.Value) {
	m, err := Open("t.json", []byte(text))
	require.NoError(t, err)
	var all [][]*record.Value
	for s := csv.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			return m, all
		}
		var row []*record.Value
		for _, c := range csv.Split(nil, s.Raw(), m.Comma) {
			if v, there := csv.Value(m, c); there {
				row = append(row, &v)
			} else {
				row = append(row, nil)
			}
		}
		all = append(all, row)
	}
}

func TestNullEmptyAndMissingAreToldApart(t *testing.T) {
	text, null := func(s string) *record.Value { v := record.Text(s); return &v }, record.Null()
	for name, in := range map[string]string{
		"lines": `{"k":"00417","fee":29.70,"v":null}` + "\n\n" + `{"k":"2","v":"","on":true,"list":[1, 2],"a\"b":"x\ny"}` + "\n",
		"array": "[\n" + `{"k":"00417","fee":29.70,"v":null},` + "\n" + `{"k":"2","v":"","on":true,"list":[1, 2],"a\"b":"x\ny"}]`,
	} {
		t.Run(name, func(t *testing.T) {
			m, got := read(t, in)
			assert.Equal(t, []string{"k", "fee", "v", "on", "list", `a"b`}, m.Heading)
			assert.Equal(t, [][]*record.Value{
				{text("00417"), text("29.70"), &null, nil, nil, nil},
				{text("2"), nil, text(""), text("true"), text("[1,2]"), text("x\ny")},
			}, got)
		})
	}
}

func TestBrokenRecordsAreNamed(t *testing.T) {
	for text, row := range map[string]int{`{"k":1}` + "\n" + `{"k":`: 2, `{"k":1}` + "\n" + `[1]`: 2, `{"k":1} {"k":2}`: 1, `[{"k":1},{"k":2},7]`: 3, `{"k":1,"k":2}`: 1} {
		_, err := Open("t.json", []byte(text))
		var e *table.Error
		require.ErrorAs(t, err, &e, text)
		assert.Equal(t, row, e.Row, text)
	}
}

func TestRowsAreTheLines(t *testing.T) {
	m, err := Open("t.jsonl", []byte("{\"k\":1}\n\n{\"k\":2}\n"))
	require.NoError(t, err)
	s := csv.Body(m)
	for _, want := range []int{1, 3} {
		ok, err := s.Next()
		require.True(t, ok && err == nil)
		assert.Equal(t, want, s.Row)
	}
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte(`{"k":"a","v":1}`))
	f.Add([]byte(`[{"k":null},{"v":{"x":[]}}]`))
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := Open("f.json", data); err != nil {
			var e *table.Error
			require.ErrorAs(t, err, &e)
		}
	})
}

// What the Writer writes reads back, null and empty told apart.
func TestWriterReadsBack(t *testing.T) {
	var b bytes.Buffer
	w := &Writer{W: &b}
	for _, row := range [][]record.Value{{record.Text("k"), record.Text("a\"b")}, {record.Text("00417"), record.Null()}, {record.Text("1e5"), record.Text("x\ny <&>")}, {record.Text(""), record.Text("")}} {
		require.NoError(t, w.Write(row))
	}
	require.NoError(t, w.Close())
	m, got := read(t, b.String())
	text, null := func(s string) *record.Value { v := record.Text(s); return &v }, record.Null()
	assert.Equal(t, []string{"k", `a"b`}, m.Heading)
	assert.Equal(t, [][]*record.Value{{text("00417"), &null}, {text("1e5"), text("x\ny <&>")}, {text(""), text("")}}, got)
}
