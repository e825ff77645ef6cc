package file_test

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/file"
	"paletwin/internal/target/targettest"
)

// place is a file in a folder of its own; set changes a value of a record in
// its bytes, as a colleague's program would.
type place struct {
	path string
	o    table.Options
	set  func(t *testing.T, path, key, field, value string)
}

func (p place) Open(t *testing.T) target.Target {
	f, err := file.Open(disk.OS{}, p.path, []string{"k"}, new(schema.Schema), p.o)
	require.NoError(t, err)
	return f
}

func (p place) Set(t *testing.T, key, field, value string) { p.set(t, p.path, key, field, value) }

// setCell changes a cell of CSV text.
func setCell(text, key, field, value string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		if cells := strings.Split(line, ","); cells[0] == key {
			cells[map[string]int{"v": 1, "w": 2}[field]] = value
			lines[i] = strings.Join(cells, ",")
		}
	}
	return strings.Join(lines, "\n")
}

// setMember changes a member of an object that stands on a line of its own.
func setMember(t *testing.T, path, key, field, value string) {
	lines := strings.Split(string(slurp(t, path)), "\n")
	for i, line := range lines {
		if strings.Contains(line, `"k": `+key+",") || strings.Contains(line, `"k":`+key+",") {
			at := strings.Index(line, `"`+field+`": "`) + len(field) + 5
			lines[i] = line[:at] + value + line[at+strings.Index(line[at:], `"`):]
		}
	}
	require.NoError(t, os.WriteFile(path, []byte(strings.Join(lines, "\n")), 0o644))
}

// kinds are the kinds of files that can be targets, each with a way to make
// one of CSV text and to change it from outside.
var kinds = map[string]func(t *testing.T, register string) place{
	"csv": func(t *testing.T, register string) place {
		return place{write(t, "r.csv", []byte(register)), table.Options{}, func(t *testing.T, path, key, field, value string) {
			require.NoError(t, os.WriteFile(path, []byte(setCell(string(slurp(t, path)), key, field, value)), 0o644))
		}}
	},
	"csv utf-16": func(t *testing.T, register string) place {
		e := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
		encode := func(s string) []byte { b, err := e.NewEncoder().Bytes([]byte(s)); require.NoError(t, err); return b }
		return place{write(t, "r.csv", encode(register)), table.Options{}, func(t *testing.T, path, key, field, value string) {
			text, err := e.NewDecoder().Bytes(slurp(t, path))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, encode(setCell(string(text), key, field, value)), 0o644))
		}}
	},
	"jsonl": func(t *testing.T, register string) place {
		var b strings.Builder
		lines := strings.Split(strings.TrimSpace(register), "\n")
		for _, line := range lines[1:] {
			c := strings.Split(line, ",")
			fmt.Fprintf(&b, `{"k": %s, "v": %q, "w": %q}`+"\n", c[0], c[1], c[2])
		}
		return place{write(t, "r.jsonl", []byte(b.String())), table.Options{}, setMember}
	},
	"json": func(t *testing.T, register string) place {
		var b strings.Builder
		b.WriteString("[")
		for i, line := range strings.Split(strings.TrimSpace(register), "\n")[1:] {
			c := strings.Split(line, ",")
			fmt.Fprintf(&b, "%s\n  {\"k\": %s, \"v\": %q, \"w\": %q}", []string{"", ","}[min(i, 1)], c[0], c[1], c[2])
		}
		b.WriteString("\n]\n")
		return place{write(t, "r.json", []byte(b.String())), table.Options{}, setMember}
	},
	"ods": func(t *testing.T, register string) place {
		var rows [][]string
		for line := range strings.Lines(register) {
			rows = append(rows, strings.Split(strings.TrimSpace(line), ","))
		}
		return place{write(t, "r.ods", document(t, rows)), table.Options{}, func(t *testing.T, path, key, field, value string) {
			x, err := open.Open("r.ods", slurp(t, path), table.Options{})
			require.NoError(t, err)
			now := setCell(string(x.Data), key, field, value)
			rows, err := csv.NewReader(strings.NewReader(now)).ReadAll()
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(path, document(t, rows), 0o644))
		}}
	},
	"xlsx":                 func(t *testing.T, register string) place { return workbook(t, register, "") },
	"xlsx with a password": func(t *testing.T, register string) place { return workbook(t, register, targettest.Password) },
}

// workbook is a workbook with a title above the register, styles, and a sheet
// with a formula behind it.
func workbook(t *testing.T, register, password string) place {
	x := excelize.NewFile()
	defer x.Close()
	bold, err := x.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	require.NoError(t, err)
	for i, line := range strings.Split(strings.TrimSpace(register), "\n") {
		for j, c := range strings.Split(line, ",") {
			at := fmt.Sprintf("%c%d", 'A'+j, i+1)
			if j == 0 && i > 0 {
				require.NoError(t, x.SetCellDefault("Sheet1", at, c))
			} else {
				require.NoError(t, x.SetCellStr("Sheet1", at, c))
			}
			if j == 1 {
				require.NoError(t, x.SetCellStyle("Sheet1", at, at, bold))
			}
		}
	}
	_, err = x.NewSheet("Sums")
	require.NoError(t, err)
	require.NoError(t, x.SetCellFormula("Sums", "A1", "COUNTA(Sheet1!A2:A100)"))
	var b bytes.Buffer
	require.NoError(t, x.Write(&b, excelize.Options{Password: password}))
	o := table.Options{Password: password}
	return place{write(t, "r.xlsx", b.Bytes()), o, func(t *testing.T, path, key, field, value string) {
		x, err := excelize.OpenFile(path, excelize.Options{Password: password})
		require.NoError(t, err)
		defer x.Close()
		rows, err := x.GetRows("Sheet1")
		require.NoError(t, err)
		for i, row := range rows {
			if row[0] == key {
				require.NoError(t, x.SetCellStr("Sheet1", fmt.Sprintf("%c%d", map[string]rune{"v": 'B', "w": 'C'}[field], i+1), value))
			}
		}
		require.NoError(t, x.SaveAs(path, excelize.Options{Password: password}))
	}}
}

func write(t *testing.T, name string, b []byte) string {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, b, 0o644))
	return path
}

func slurp(t *testing.T, path string) []byte {
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return b
}

func TestFilesKeepTheRules(t *testing.T) {
	for name, kind := range kinds {
		t.Run(name, func(t *testing.T) {
			targettest.Run(t, func(t *testing.T) targettest.Place { return kind(t, targettest.Register) })
		})
	}
}

// amend is a step that gives a field of a record another value.
func amend(key, field, from, to string) target.Step {
	return target.Step{Act: changeset.Amend, Key: record.NewKey(key), Fields: []changeset.Edit{{Field: field, From: record.Text(from), To: record.Text(to)}}}
}

func TestLettersThatTheEncodingLacksAreRefused(t *testing.T) {
	b, err := charmap.Windows1252.NewEncoder().String("k,v\n1,Åsa\n2,Ida\n")
	require.NoError(t, err)
	path := write(t, "r.csv", []byte(b))
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()
	res, err := f.Write(context.Background(), []target.Step{amend("1", "v", "Åsa", "Øyvind"), amend("2", "v", "Ida", "Zięba")})
	require.NoError(t, err)
	assert.Equal(t, target.Done, res[0].Fate)
	assert.Equal(t, target.Result{Fate: target.Refused, Reason: `v: the file is windows-1252, which has no letter 'ę'`}, res[1])
	assert.Equal(t, "k,v\n1,\xd8yvind\n2,Ida\n", string(slurp(t, path)))
}

func TestFilesThatWouldNotComeBackAreNoTargets(t *testing.T) {
	for name, c := range map[string]struct{ text, code string }{
		"half.csv": {"k,v\n1,\xd8y\n2,\x81\n", "not-utf-8"},
	} {
		_, err := file.Open(disk.OS{}, write(t, name, []byte(c.text)), []string{"k"}, new(schema.Schema), table.Options{Encoding: map[bool]string{true: "shift_jis"}[name == "half.csv"]})
		var e *table.Error
		require.ErrorAs(t, err, &e, name)
		assert.Equal(t, c.code, string(e.Code))
	}
}

// document is an ODS document with rows on its second sheet's place, cells and rows that repeat, and a formula beside.
func document(t *testing.T, rows [][]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	text := `<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:automatic-styles/><office:body><office:spreadsheet><table:table table:name="Aids"><table:table-column table:number-columns-repeated="4"/>`
	for _, row := range rows {
		text += `<table:table-row>`
		for i := 0; i < len(row); {
			n := 1
			for i+n < len(row) && row[i+n] == row[i] {
				n++
			}
			repeat := ""
			if n > 1 {
				repeat = fmt.Sprintf(` table:number-columns-repeated="%d"`, n)
			}
			if row[i] == "" {
				text += `<table:table-cell` + repeat + `/>`
			} else {
				var cell strings.Builder
				require.NoError(t, xml.EscapeText(&cell, []byte(row[i])))
				text += `<table:table-cell` + repeat + ` office:value-type="string" office:string-value="` + cell.String() + `"><text:p/></table:table-cell>`
			}
			i += n
		}
		text += `</table:table-row>`
	}
	text += `<table:table-row table:number-rows-repeated="1000000"><table:table-cell table:number-columns-repeated="16384"/></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`
	for _, p := range [][2]string{{"mimetype", "application/vnd.oasis.opendocument.spreadsheet"}, {"content.xml", text}} {
		w, err := z.Create(p[0])
		require.NoError(t, err)
		_, err = w.Write([]byte(p[1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestTheLastRecordOfJSONLinesStays(t *testing.T) {
	path := write(t, "r.jsonl", []byte("{\"k\":\"1\"}\n{\"k\":\"2\"}\n"))
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()
	res, err := f.Write(context.Background(), []target.Step{{Act: changeset.Delete, Key: record.NewKey("1")}, {Act: changeset.Delete, Key: record.NewKey("2")}})
	require.NoError(t, err)
	assert.Equal(t, target.Done, res[0].Fate)
	assert.Equal(t, target.Refused, res[1].Fate)
	assert.Equal(t, "{\"k\":\"2\"}\n", string(slurp(t, path)))
}

func TestJSONLinesKeepTypesAndLetters(t *testing.T) {
	path := write(t, "r.jsonl", []byte(`{"k":"1","fee":29.70,"on":true,"v":null, "tags":["a" , "b"]}`+"\r\n\r\n"+`{"v":"x","k":"2","fee":null}`+"\r\n"))
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()
	both := amend("1", "fee", "29.70", "30.90")
	both.Fields = append(both.Fields, changeset.Edit{Field: "on", To: record.Text("false")}, changeset.Edit{Field: "v", To: record.Text("y")})
	second := amend("2", "fee", "", "n/a")
	second.Fields = append(second.Fields, changeset.Edit{Field: "on", To: record.Text("true")}, changeset.Edit{Field: "v", To: record.Null()})
	add := target.Step{Act: changeset.Add, Key: record.NewKey("3"), Record: record.Record{{Name: "k", Value: record.Text("3")}, {Name: "fee", Value: record.Text("1.50")}, {Name: "on", Value: record.Text("")}}}
	_, err = f.Write(context.Background(), []target.Step{both, second, add})
	require.NoError(t, err)
	assert.Equal(t, `{"k":"1","fee":30.90,"on":false,"v":"y", "tags":["a" , "b"]}`+"\r\n\r\n"+
		`{"v":null,"k":"2","fee":"n/a","on":true}`+"\r\n"+`{"k":"3","fee":1.50,"on":null}`+"\r\n", string(slurp(t, path)))
}

func TestWorkbooksKeepWhatDoesNotChange(t *testing.T) {
	x := excelize.NewFile()
	money, err := x.NewStyle(&excelize.Style{NumFmt: 4, Font: &excelize.Font{Color: "AA0000"}})
	require.NoError(t, err)
	date, err := x.NewStyle(&excelize.Style{CustomNumFmt: ptr("dd/mm/yyyy")})
	require.NoError(t, err)
	for at, v := range map[string]any{"A1": "k", "B1": "fee", "C1": "due", "D1": "on", "E1": "twice", "A2": "001", "A3": "002", "A4": "003"} {
		require.NoError(t, x.SetCellValue("Sheet1", at, v))
	}
	for row := 2; row <= 4; row++ {
		at := func(col string) string { return fmt.Sprintf("%s%d", col, row) }
		require.NoError(t, x.SetCellDefault("Sheet1", at("B"), fmt.Sprintf("%d.5", row)))
		require.NoError(t, x.SetCellStyle("Sheet1", at("B"), at("B"), money))
		require.NoError(t, x.SetCellDefault("Sheet1", at("C"), fmt.Sprint(46090+row)))
		require.NoError(t, x.SetCellStyle("Sheet1", at("C"), at("C"), date))
		require.NoError(t, x.SetCellBool("Sheet1", at("D"), true))
		require.NoError(t, x.SetCellFormula("Sheet1", at("E"), at("B")+"*2"))
	}
	require.NoError(t, x.SetColWidth("Sheet1", "B", "B", 31))
	_, err = x.NewSheet("Notes")
	require.NoError(t, err)
	require.NoError(t, x.SetCellStr("Notes", "C7", "keep me"))
	path := filepath.Join(t.TempDir(), "r.xlsx")
	require.NoError(t, x.SaveAs(path))
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()

	first := amend("001", "fee", "2.5", "3.25")
	first.Fields = append(first.Fields, changeset.Edit{Field: "due", To: record.Text("2026-12-24")}, changeset.Edit{Field: "on", To: record.Text("false")})
	add := target.Step{Act: changeset.Add, Key: record.NewKey("004"), Record: record.Record{{Name: "k", Value: record.Text("004")}, {Name: "fee", Value: record.Text("29.70")}, {Name: "due", Value: record.Text("2026-03-11")}}}
	res, err := f.Write(context.Background(), []target.Step{first, amend("002", "twice", "", "7"), amend("003", "fee", "4.5", strings.Repeat("x", 32_768)), add})
	require.NoError(t, err)
	assert.Equal(t, []target.Fate{target.Done, target.Refused, target.Refused, target.Done}, []target.Fate{res[0].Fate, res[1].Fate, res[2].Fate, res[3].Fate})
	assert.Equal(t, "cell E3 holds a formula, which is not overwritten", res[1].Reason)

	y, err := excelize.OpenFile(path, excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	defer y.Close()
	for at, want := range map[string]struct {
		value string
		typ   excelize.CellType
		style int
	}{
		"B2": {"3.25", excelize.CellTypeUnset, money}, "C2": {"46380", excelize.CellTypeUnset, date}, "D2": {"0", excelize.CellTypeBool, 0},
		"B3": {"3.5", excelize.CellTypeUnset, money}, "A3": {"002", excelize.CellTypeSharedString, 0},
		"B5": {"29.70", excelize.CellTypeSharedString, money}, "C5": {"46092", excelize.CellTypeUnset, date}, "A5": {"004", excelize.CellTypeSharedString, 0},
	} {
		v, err := y.GetCellValue("Sheet1", at)
		require.NoError(t, err)
		typ, _ := y.GetCellType("Sheet1", at)
		style, _ := y.GetCellStyle("Sheet1", at)
		assert.Equal(t, want.value, v, at)
		assert.Equal(t, want.typ, typ, at)
		assert.Equal(t, want.style, style, at)
	}
	formula, _ := y.GetCellFormula("Sheet1", "E2")
	width, _ := y.GetColWidth("Sheet1", "B")
	note, _ := y.GetCellValue("Notes", "C7")
	assert.Equal(t, []any{"B2*2", 31.0, "keep me"}, []any{formula, width, note})
}

func ptr[T any](v T) *T { return &v }

// Whatever the register and the steps: what is written reads back as the
// steps say, in every kind of file, and deleting and adding back gives the
// same records in the same order.
func TestDeletesComeBackInTheirPlace(t *testing.T) {
	for name, kind := range kinds {
		if name == "xlsx with a password" {
			continue // a second for each key that is derived
		}
		comeBack(t, name, kind, false)
		if name == "xlsx" || name == "ods" {
			comeBack(t, name+", rows kept", kind, true)
		}
	}
}

func comeBack(t *testing.T, name string, kind func(t *testing.T, register string) place, keep bool) {
	t.Run(name, func(t *testing.T) {
		rapid.Check(t, func(rt *rapid.T) {
			n := rapid.IntRange(1, 9).Draw(rt, "records")
			register := "k,v,w\n"
			for i := 1; i <= n; i++ {
				register += fmt.Sprintf("%d,%s,%s\n", i, rapid.StringMatching(`[a-zé0-9.]{0,4}`).Draw(rt, "v"), rapid.StringMatching(`[a-z0-9]{1,3}`).Draw(rt, "w"))
			}
			at := kind(t, register)
			was := slurp(t, at.path)
			f := at.Open(t)
			defer f.Close()
			if keep {
				f.(*file.File).KeepRows()
			}
			before := order(t, f)
			var keys []record.Key
			for i := 1; i <= n; i++ {
				if i > 1 && rapid.Bool().Draw(rt, "goes") {
					keys = append(keys, record.NewKey(fmt.Sprint(i)))
				}
			}
			states, err := f.Current(context.Background(), keys)
			require.NoError(t, err)
			var away, back []target.Step
			for i, k := range keys {
				away = append(away, target.Step{Act: changeset.Delete, Key: k, Record: states[i].Record})
				back = append(back, target.Step{Act: changeset.Add, Key: k, Record: states[i].Record, Form: states[i].Form})
			}
			_, err = f.Write(context.Background(), away)
			require.NoError(t, err)
			require.Len(t, order(t, f), len(before)-len(keys))
			_, err = f.Write(context.Background(), rapid.Permutation(back).Draw(rt, "back"))
			require.NoError(t, err)
			require.Equal(t, before, order(t, f))
			if !strings.HasPrefix(name, "xlsx") && !strings.HasPrefix(name, "ods") {
				require.Equal(t, string(was), string(slurp(t, at.path)))
			}
		})
	})
}

// order is a target's records in their order.
func order(t *testing.T, f target.Target) []string {
	img, _, err := f.Table(context.Background())
	require.NoError(t, err)
	var keys []string
	for _, line := range strings.Split(strings.TrimSpace(string(img.Data[img.Body:])), "\n") {
		if line != "" {
			keys = append(keys, line)
		}
	}
	return keys
}

// A record that once ended the file without a line end comes back before what
// others have put at its end since: both stand on lines of their own.
func TestALastRecordComesBackBeforeAnother(t *testing.T) {
	for name, c := range map[string]struct{ was, now, want string }{
		"r.csv":   {"k,v\n1,a\n2,b", "k,v\n1,a\n3,theirs\n", "k,v\n1,a\n2,b\n3,theirs\n"},
		"r.jsonl": {`{"k":1,"v":"a"}` + "\n" + `{"k":2,"v":"b"}`, `{"k":1,"v":"a"}` + "\n" + `{"k":3,"v":"theirs"}`, `{"k":1,"v":"a"}` + "\n" + `{"k":2,"v":"b"}` + "\n" + `{"k":3,"v":"theirs"}`},
	} {
		path := write(t, name, []byte(c.was))
		f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
		require.NoError(t, err)
		s, err := f.Current(context.Background(), []record.Key{record.NewKey("2")})
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.NoError(t, os.WriteFile(path, []byte(c.now), 0o644))
		f, err = file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
		require.NoError(t, err)
		_, err = f.Write(context.Background(), []target.Step{{Act: changeset.Add, Key: record.NewKey("2"), Record: s[0].Record, Form: s[0].Form}})
		require.NoError(t, err)
		require.NoError(t, f.Close())
		assert.Equal(t, c.want, string(slurp(t, path)), name)
	}
}

// A cell that was a number, a truth value or a date is one again when it comes
// back, whatever it was made in between.
func TestCellsComeBackInTheirTypes(t *testing.T) {
	x := excelize.NewFile()
	require.NoError(t, x.SetSheetRow("Sheet1", "A1", &[]any{"k", "v", "w", "d"}))
	require.NoError(t, x.SetSheetRow("Sheet1", "A2", &[]any{"1", 42, true, 46092}))
	style, err := x.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	require.NoError(t, x.SetCellStyle("Sheet1", "D2", "D2", style))
	var b bytes.Buffer
	require.NoError(t, x.Write(&b))
	require.NoError(t, x.Close())
	path := write(t, "r.xlsx", b.Bytes())
	types := func() (all []excelize.CellType) {
		x, err := excelize.OpenFile(path)
		require.NoError(t, err)
		defer x.Close()
		for _, at := range []string{"B2", "C2", "D2"} {
			typ, err := x.GetCellType("Sheet1", at)
			require.NoError(t, err)
			all = append(all, typ)
		}
		return all
	}
	before := types()
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()
	s, err := f.Current(context.Background(), []record.Key{record.NewKey("1")})
	require.NoError(t, err)
	was := map[string]string{}
	forward := target.Step{Act: changeset.Amend, Key: record.NewKey("1")}
	back := target.Step{Act: changeset.Amend, Key: record.NewKey("1"), Form: s[0].Form}
	for _, field := range []string{"v", "w", "d"} {
		v, _ := s[0].Record.Get(field)
		was[field] = v.String()
		forward.Fields = append(forward.Fields, changeset.Edit{Field: field, From: v, To: record.Text("text " + field)})
		back.Fields = append(back.Fields, changeset.Edit{Field: field, From: record.Text("text " + field), To: v})
	}
	for _, step := range []target.Step{forward, back} {
		res, err := f.Write(context.Background(), []target.Step{step})
		require.NoError(t, err)
		require.Equal(t, []target.Result{{}}, res)
		if step.Fields[0].From.String() == was["v"] {
			assert.NotEqual(t, before, types())
		}
	}
	assert.Equal(t, before, types())
}

// A file has its records under their keys in any form that the schema takes for one.
func TestKeysInEveryForm(t *testing.T) {
	for name, c := range map[string]struct{ was, now string }{
		"register.csv":   {"k,v\na-1,x\nB-2,y\nb-2 ,y\nc-3,w\n", "k,v\na-1,z\nB-2,y\nb-2 ,y\n"},
		"register.jsonl": {"{\"k\":\"a-1\",\"v\":\"x\"}\n{\"k\":\"B-2\"}\n{\"k\":\"b-2 \"}\n{\"k\":\"c-3\"}\n", "{\"k\":\"a-1\",\"v\":\"z\"}\n{\"k\":\"B-2\"}\n{\"k\":\"b-2 \"}\n"},
		"register.json":  {`{"value": [{"k":"a-1","v":"x"}, {"k":"B-2"}, {"k":"b-2 "}, {"k":"c-3"}]}`, `{"value": [{"k":"a-1","v":"z"}, {"k":"B-2"}, {"k":"b-2 "}]}`},
	} {
		path := write(t, name, []byte(c.was))
		f, err := file.Open(disk.OS{}, path, []string{"k"}, schema.New([]string{"k"}, schema.KeyForm{FoldCase: true, Trim: true}, nil), table.Options{})
		require.NoError(t, err)
		states, err := f.Current(t.Context(), []record.Key{record.NewKey("A-1"), record.NewKey("B-2"), record.NewKey("C-3"), record.NewKey("d-4")})
		require.NoError(t, err)
		assert.Equal(t, []int{1, 2, 1, 0}, []int{states[0].Count, states[1].Count, states[2].Count, states[3].Count}, "one that stands there in two forms is there twice")
		_, err = f.Write(t.Context(), []target.Step{{Act: changeset.Amend, Key: record.NewKey("A-1"), Fields: []changeset.Edit{{Field: "v", From: record.Text("x"), To: record.Text("z")}}},
			{Act: changeset.Delete, Key: record.NewKey("C-3"), Record: states[2].Record}})
		require.NoError(t, err)
		got, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, c.now, string(got))
		require.NoError(t, f.Close())
	}
}

// A record that is new to a list is written over as many lines as the others.
func TestNewRecordsOfAList(t *testing.T) {
	const was = "[\n    {\n        \"k\": 1,\n        \"v\": \"a\"\n    }\n]\n"
	path := write(t, "r.json", []byte(was))
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()
	add := target.Step{Act: changeset.Add, Key: record.NewKey("2"), Record: record.Record{{Name: "k", Value: record.Text("2")}, {Name: "v", Value: record.Text("b")}}}
	_, err = f.Write(t.Context(), []target.Step{add})
	require.NoError(t, err)
	assert.Equal(t, "[\n    {\n        \"k\": 1,\n        \"v\": \"a\"\n    },\n    {\n        \"k\": 2,\n        \"v\": \"b\"\n    }\n]\n", string(slurp(t, path)))
	_, err = f.Write(t.Context(), []target.Step{{Act: changeset.Delete, Key: record.NewKey("2"), Record: add.Record}})
	require.NoError(t, err)
	assert.Equal(t, was, string(slurp(t, path)))
}

// What stands between the objects of a list is as uneven as somebody wrote it, and goes back so.
func TestSeparatorsOfAList(t *testing.T) {
	const was = "[ {\"k\":\"1\"},\n\n{\"k\":\"2\"} , {\"k\":\"3\"},{\"k\":\"4\"}\n]"
	path := write(t, "r.json", []byte(was))
	f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(t, err)
	defer f.Close()
	for _, gone := range [][]string{{"1"}, {"2"}, {"4"}, {"1", "2"}, {"2", "3"}, {"3", "4"}, {"1", "3"}, {"1", "2", "4"}} {
		var keys []record.Key
		for _, k := range gone {
			keys = append(keys, record.NewKey(k))
		}
		states, err := f.Current(t.Context(), keys)
		require.NoError(t, err)
		var away, back []target.Step
		for i, k := range keys {
			away = append(away, target.Step{Act: changeset.Delete, Key: k, Record: states[i].Record})
			back = append(back, target.Step{Act: changeset.Add, Key: k, Record: states[i].Record, Form: states[i].Form})
		}
		_, err = f.Write(t.Context(), away)
		require.NoError(t, err)
		_, err = f.Write(t.Context(), back)
		require.NoError(t, err)
		require.Equal(t, was, string(slurp(t, path)), gone)
	}
}

// A file that is written to in its place, while it is summed and kept, is not taken for what was read.
func TestAFileThatIsWrittenToWhileItIsKept(t *testing.T) {
	text := "k,v\n1,a\n2,b\n"
	open := func(then string) *file.File {
		path := filepath.Join(t.TempDir(), "r.csv")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		f, err := file.Open(disk.OS{}, path, []string{"k"}, new(schema.Schema), table.Options{})
		require.NoError(t, err)
		if then != "" {
			w, err := os.OpenFile(path, os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = w.WriteString(then)
			require.NoError(t, err)
			require.NoError(t, w.Close())
		}
		f.Summing()
		return f
	}
	f := open("")
	sum, err := f.Summed(t.Context())
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256([]byte(text))), sum)
	require.NoError(t, f.Refresh(t.Context()))
	again, err := f.Summed(t.Context())
	require.NoError(t, err)
	assert.Equal(t, sum, again)
	require.NoError(t, f.Close())
	f = open("k,v\n1,A\n")
	_, err = f.Summed(t.Context())
	require.ErrorIs(t, err, target.ErrMoved)
	require.ErrorIs(t, f.Backup(t.Context(), new(bytes.Buffer)), target.ErrMoved)
	require.NoError(t, f.Close())
}
