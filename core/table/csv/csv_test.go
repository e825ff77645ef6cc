package csv

import (
	"bytes"
	stdcsv "encoding/csv"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/table"
)

// read splits data into rows of decoded cells.
func read(data []byte, comma byte) (rows [][]string, numbers []int, err error) {
	s := NewScanner(data, 0, comma)
	var split Row
	for {
		ok, err := s.Next()
		if !ok || err != nil {
			return rows, numbers, err
		}
		var row []string
		cells := Split(nil, s.Raw(), comma)
		split.Split(s.Raw(), comma, 0)
		for i, c := range cells {
			row = append(row, string(Unquote(c)))
			one, there := Cell(s.Raw(), i, comma)
			if !there || !bytes.Equal(one, c) || !bytes.Equal(split.Cell(i), c) {
				return nil, nil, errors.New("Cell, Split and Row.Split disagree")
			}
		}
		if err := sameIsRight(&split, row, comma); err != nil {
			return nil, nil, err
		}
		if len(cells) != s.Width() || len(cells) != split.Len() {
			return nil, nil, errors.New("Width and Split disagree")
		}
		rows, numbers = append(rows, row), append(numbers, s.Line)
	}
}

// sameIsRight writes the row's cells in quotes and not, and asks Same.
func sameIsRight(r *Row, cells []string, comma byte) error {
	for _, quoted := range []bool{false, true} {
		var raw []byte
		for i, c := range cells {
			if i > 0 {
				raw = append(raw, comma)
			}
			raw = AppendCell(raw, c, comma, quoted)
		}
		order := make([]int, len(cells))
		for i := range order {
			order[i] = i
		}
		if !r.Same(raw, comma, order) {
			continue // it may always ask for a closer look
		}
		for i, c := range Split(nil, raw, comma) {
			if !bytes.Equal(Unquote(c), Unquote(r.Cell(i))) {
				return errors.New("Same says that rows are which are not")
			}
		}
	}
	return nil
}

// standard reads data with encoding/csv.
func standard(data []byte, comma rune, lazy bool) (rows [][]string, lines []int, err error) {
	r := stdcsv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord, r.Comma, r.LazyQuotes = -1, comma, lazy
	for {
		row, err := r.Read()
		if err == io.EOF {
			return rows, lines, nil
		}
		if err != nil {
			return nil, nil, err
		}
		line, _ := r.FieldPos(0)
		rows, lines = append(rows, row), append(lines, line)
	}
}

// asStandard makes encoding/csv's one change: CR LF inside quotes becomes LF.
func asStandard(rows [][]string) [][]string {
	var changed [][]string
	for _, row := range rows {
		c := make([]string, len(row))
		for i := range row {
			c[i] = strings.ReplaceAll(row[i], "\r\n", "\n")
		}
		changed = append(changed, c)
	}
	return changed
}

func FuzzAgainstEncodingCSV(f *testing.F) {
	for _, seed := range []string{
		"a,b\n1,2\n", "a;b\r\n\"x\"\"y\";\"1\r\n2\"\r\n", "\n\n,\n", "a,\"b", "a,\"b\"c\n", "3\" pipe,\"3\"\" pipe\"\n", "a\r", "\"a\"\r", "\"\",\"\"",
		"a,b\n\"x\n\ny\",2\n\n\n3,4", "\"a\rb\",\"\r\n\"\r\n", "a\r\r\nb", "\ufeffa,b\n", "\"\"\"\"\n", ",\"a\n\"", "\x00",
	} {
		f.Add([]byte(seed), byte(','))
	}
	f.Add([]byte("a;b;\"c;\"\n"), byte(';'))
	f.Fuzz(func(t *testing.T, data []byte, comma byte) {
		if comma != ',' && comma != ';' && comma != '\t' {
			comma = ','
		}
		if bytes.IndexByte(data, 0) >= 0 { // refused before it is split, so that a lone NUL can be Absent
			require.Error(t, CheckText("fuzz.csv", data, 0, len(data)))
			return
		}
		rows, lines, err := read(data, comma)
		if err != nil {
			var e *table.Error
			require.ErrorAs(t, err, &e)
			_, _, stdErr := standard(data, rune(comma), false)
			require.Error(t, stdErr, "refused: %v", err)
			return
		}
		want, wantLines, stdErr := standard(data, rune(comma), true)
		require.NoError(t, stdErr, "accepted by us: %q", rows)
		assert.Equal(t, want, asStandard(rows))
		assert.Equal(t, wantLines, lines)
		if strict, _, err := standard(data, rune(comma), false); err == nil {
			assert.Equal(t, strict, asStandard(rows))
		}
	})
}

func FuzzOpen(f *testing.F) {
	f.Add([]byte("aid_no,name\n00101,Old Pier\n"))
	f.Add([]byte("\xff\xfea\x00"))
	f.Add([]byte("\"a\nb\",c\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := Open("fuzz.csv", data)
		if err != nil {
			var e *table.Error
			require.ErrorAs(t, err, &e)
			return
		}
		assert.LessOrEqual(t, m.Body, len(m.Data))
		assert.Positive(t, m.HeadingRow)
		for s := Body(m); ; {
			ok, err := s.Next()
			if !ok || err != nil {
				return
			}
			assert.Greater(t, s.Row, m.HeadingRow)
		}
	})
}

func TestOpenFindsDialect(t *testing.T) {
	for _, c := range []struct {
		name, data string
		comma      byte
		heading    []string
		row        int
		found      table.Found
	}{
		{"comma", "a,b\n1,2\n", ',', []string{"a", "b"}, 1, table.Found{Newline: "lf"}},
		{"semicolon with commas inside", "a;b\n1,5;2,5\n3;4\n", ';', []string{"a", "b"}, 1, table.Found{Newline: "lf"}},
		{"tab, CRLF", "a\tb\r\n1\t2\r\n", '\t', []string{"a", "b"}, 1, table.Found{Newline: "crlf"}},
		{"byte-order mark, all quoted", "\ufeff\"a\",\"b\"\n", ',', []string{"a", "b"}, 1, table.Found{Newline: "lf", BOM: true, Quoted: true}},
		{"blank lines above", "\n,\na,b\n1,2\n", ',', []string{"a", "b"}, 3, table.Found{Newline: "lf", HeadingRow: 3}},
		{"one column", "code\nD01\n", ',', []string{"code"}, 1, table.Found{Newline: "lf"}},
		{"trailing delimiter", "a,b,\n1,2,\n", ',', []string{"a", "b"}, 1, table.Found{Newline: "lf"}},
		{"heading over two lines", "\"a\nx\",b\n1,2\n", ',', []string{"a\nx", "b"}, 1, table.Found{Newline: "lf"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			m, err := Open("t.csv", []byte(c.data))
			require.NoError(t, err)
			c.found.Format, c.found.Encoding, c.found.Delimiter = "csv", "utf-8", string(c.comma)
			assert.Equal(t, c.heading, m.Heading)
			assert.Equal(t, c.comma, m.Comma)
			assert.Equal(t, c.row, m.HeadingRow)
			assert.Equal(t, c.found, m.Found)
		})
	}
}

func TestRowAndLineNumbers(t *testing.T) {
	m, err := Open("t.csv", []byte("a,b\n\"x\ny\",1\n\nz,2\n"))
	require.NoError(t, err)
	s := Body(m)
	ok, err := s.Next()
	require.True(t, ok && err == nil)
	assert.Equal(t, []int{2, 2}, []int{s.Row, s.Line})
	ok, err = s.Next()
	require.True(t, ok && err == nil)
	assert.Equal(t, []int{4, 5}, []int{s.Row, s.Line}, "the blank line is a row, the line break inside the cell is none")
}

func TestSameSeesThroughQuotes(t *testing.T) {
	var r Row
	r.Split([]byte(`a,,"b,c",d`), ',', 0)
	for raw, want := range map[string]bool{
		`a,,"b,c",d`: true, `"a","","b,c","d"`: true, `a,,"b,c","d"`: true,
		`a,,"b,c",e`: false, `a,,"b,c"`: false, `a,,"b,c",d,`: false, `"a"",","b,c",d`: false, `"a,","b,c",d`: false,
	} {
		assert.Equal(t, want, r.Same([]byte(raw), ',', []int{0, 1, 2, 3}), raw)
	}
	for raw, want := range map[string]bool{`d,"b,c",a`: true, `"d","b,c","a"`: true, `d,"b,c"`: false, `d,"b,c",a,`: false, `d,b,c,a`: false, `a,"b,c",d`: false} {
		assert.Equal(t, want, r.Same([]byte(raw), ',', []int{3, 2, 0}), raw)
	}
	assert.False(t, r.Same([]byte(`a,b`), ',', []int{0, 4}), "the row has no such cell")
}

func TestAppendCellReadsBack(t *testing.T) {
	for _, v := range []string{"", "a", "a,b", `say "x"`, "two\nlines", "\r", "ü", " x "} {
		for _, quoted := range []bool{false, true} {
			raw := AppendCell(nil, v, ',', quoted)
			assert.Equal(t, v, string(Unquote(raw)))
			assert.Len(t, Split(nil, raw, ','), 1)
		}
	}
}

// TestSkipLeadsToACell: a cell is the same from any step of its row on.
func TestSkipLeadsToACell(t *testing.T) {
	cell := rapid.SampledFrom([]string{"", "a", `"x,y"`, `"say ""no"""`, "\"l1\nl2\"", "é"})
	rapid.Check(t, func(rt *rapid.T) {
		cells := rapid.SliceOfN(cell, 1, 12).Draw(rt, "cells")
		raw := []byte(strings.Join(cells, ","))
		n, step := rapid.IntRange(0, 13).Draw(rt, "cell"), rapid.IntRange(0, 13).Draw(rt, "step")
		at := Skip(raw, step, ',')
		require.Equal(rt, step < len(cells), at >= 0, "%d of %d", step, len(cells))
		if at < 0 || n < step {
			return
		}
		want, there := Cell(raw, n, ',')
		got, is := Cell(raw[at:], n-step, ',')
		require.Equal(rt, there, is)
		require.Equal(rt, string(want), string(got))
	})
}
