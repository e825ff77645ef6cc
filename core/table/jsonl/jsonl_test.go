package jsonl

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

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

// Whatever text a field gets, of whatever type its values are: the object stays
// on its line, has that text, and all else is as it was.
func TestSetKeepsAnObjectOnItsLine(t *testing.T) {
	texts := []string{"5", " 5", "5\n", "5\r\n", "\t5 ", "5e3", "-0", "1.0", "true", "true\n", " null", "null", "{}", "{\n}", `{"a":1}`, "[1,2]", "[1,\n2]", `"`, `"5"`, "\"5\"\n", "\u2028", "\x00", "\ufffd", "é", "😀", "", " "}
	rapid.Check(t, func(t *rapid.T) {
		types := Types{}
		if typ := rapid.SampledFrom([]byte{0, '"', '0', 't', '{', '['}).Draw(t, "type"); typ != 0 {
			types["n"] = typ
		}
		line := rapid.SampledFrom([]string{`{"k":"1","n":5,"z":[1]}`, `{"k":"1","n":null,"z":[1]}`, `{"k":"1","n":true,"z":[1]}`, `{"k":"1","z":[1]}`, `{"k":"1","n":"a","z":[1]}`, `{"k":"1","n":{"a":1},"z":[1]}`}).Draw(t, "line")
		text := rapid.OneOf(rapid.SampledFrom(texts), rapid.String()).Draw(t, "text")
		out, err := Set([]byte(line), record.Record{{Name: "n", Value: record.Text(text)}}, types)
		require.NoError(t, err)
		require.NotContains(t, string(out), "\n")
		m, err := Open("r.jsonl", append(out, '\n'))
		require.NoError(t, err)
		require.Equal(t, 3, len(m.Heading))
		got, err := Record(out)
		require.NoError(t, err)
		v, _ := got.Get("n")
		require.Equal(t, text, v.String())
		z, _ := got.Get("z")
		require.Equal(t, "[1]", z.String())
		added := AppendRecord(nil, record.Record{{Name: "k", Value: record.Text("2")}, {Name: "n", Value: record.Text(text)}}, types)
		require.NotContains(t, string(added), "\n")
		got, err = Record(added)
		require.NoError(t, err)
		v, _ = got.Get("n")
		require.Equal(t, text, v.String())
	})
}

// A text that is not Unicode is refused by its line; it would be read as
// another one, and an edit could vanish.
func TestTextThatIsNotUnicode(t *testing.T) {
	for text, bad := range map[string]bool{
		"\xff": true, "a\xc3": true, `\ud800`: true, `\udc00`: true, `\ud83dx`: true, `\ud83d\u0041`: true, `\ud83d\ud83d`: true, `\\\ud800`: true,
		`\ud83d\ude00`: false, `\\ud800`: false, `\u0041`: false, "\ufffd": false, `\ufffd`: false,
	} {
		for _, form := range []string{"{\"k\":1}\n{\"k\":\"%s\"}\n", "{\"k\":1}\n{\"%s\":1}\n", "[{\"k\":1},\n{\"k\":\"%s\"}]"} {
			_, err := Open("r.jsonl", []byte(strings.Replace(form, "%s", text, 1)))
			if !bad {
				assert.NoError(t, err, text)
				continue
			}
			var e *table.Error
			require.ErrorAs(t, err, &e, text)
			assert.Equal(t, 2, e.Row, text)
		}
	}
}

// A record without its key has none, and what is absent is empty to whoever
// asks for text.
func TestAbsentMembers(t *testing.T) {
	m, err := Open("r.jsonl", []byte(`{"k":"1","v":"a"}`+"\n"+`{"v":"orphan"}`+"\n"+`{"k":"\u0000"}`+"\n"))
	require.NoError(t, err)
	var keys []string
	sc := csv.Body(m)
	for {
		ok, err := sc.Next()
		require.NoError(t, err)
		if !ok {
			break
		}
		keys = append(keys, record.KeyOf(csv.AppendKey(nil, sc.Raw(), []int{0}, m.Comma)).String())
	}
	assert.Equal(t, []string{"1", "", "\x00"}, keys)
}

// Writer writes JSON Lines: one object a record, all values as texts. It is a
// table.Writer.
type Writer struct {
	W      io.Writer
	fields []string
	line   []byte
}

// Write writes a row: first the headings, then records.
func (w *Writer) Write(row []record.Value) error {
	if w.fields == nil {
		for _, v := range row {
			w.fields = append(w.fields, v.String())
		}
		return nil
	}
	r := make(record.Record, len(row))
	for i, v := range row {
		r[i] = record.Field{Name: w.fields[i], Value: v}
	}
	w.line = append(AppendRecord(w.line[:0], r, nil), '\n')
	_, err := w.W.Write(w.line)
	return err
}

// Close ends the table; the io.Writer stays open.
func (w *Writer) Close() error { return nil }
