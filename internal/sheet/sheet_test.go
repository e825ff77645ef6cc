package sheet

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/officetest"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// snapshot and edited hold what spreadsheets spoil and what steers text.
const snapshot = "aid_no,name,cell,fee\n00101,Old Pier,MAR-2,29.70\n00102,=1+2,2E5,30.00\n1E5,\"a\nb\",3-4,1.10\n00104,@SUM(A1),007,x\n00105,+44,TRUE,y\n"
const edited = "aid_no,name,cell,fee\n00101,=HYPERLINK(\"http://x\"),OCT-4,29.7\n00102,-1,12E3,31.00\n1E5,\"\u202eabc\u0007\",3-5,\n00106,=cmd|' /C calc'!A0,JUN/3,5.00\n00105,+44,TRUE,z\n"

// matter makes a dossier of them.
func matter(t require.TestingT, dir string) *desk.Contents {
	return contents(t, dir, []byte(snapshot), []byte(edited), "aid_no")
}

// contents makes a dossier of a snapshot and its copy.
func contents(t require.TestingT, dir string, snapshot, edited []byte, key string) *desk.Contents {
	for name, text := range map[string][]byte{"s.csv": snapshot, "e.csv": edited} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	c := &desk.Comparison{Title: "Review", By: "mairead", Now: time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC),
		Snapshot: desk.Source{Path: filepath.Join(dir, "s.csv"), Name: "s.csv"}, Edited: &desk.Source{Path: filepath.Join(dir, "e.csv"), Name: "e.csv"},
		Options: compare.Options{RecordSet: "aids", Key: []string{key}}}
	dossier, _, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	m, err := dossier.Contents()
	require.NoError(t, err)
	return m
}

// units are all the units of a matter, by their refs.
func units(m *desk.Contents) []string {
	var refs []string
	for _, s := range m.Changes {
		for u := range s.States {
			refs = append(refs, m.Ref(s, u))
		}
	}
	return refs
}

// readBook reads the decisions of a workbook.
func readBook(t require.TestingT, file string) []Said {
	var all []Said
	for _, name := range Sheets {
		m, err := desk.OpenTable(disk.OS{}, file, "r", table.Options{Sheet: name})
		if err != nil {
			continue // a sheet without rows
		}
		said, problems, ok, err := Read(m.Image)
		require.NoError(t, err)
		require.True(t, ok)
		require.Empty(t, problems)
		require.NoError(t, m.Close())
		all = append(all, said...)
	}
	return all
}

// What is decided in the workbook is what is collected, whatever it is.
func TestWhatIsDecidedInASheetIsCollected(t *testing.T) {
	dir := t.TempDir()
	m := matter(t, dir)
	defer m.Close()
	refs := units(m)
	require.Len(t, refs, 12)
	var b bytes.Buffer
	require.NoError(t, Write(&b, m))
	rapid.Check(t, func(t *rapid.T) {
		x, err := excelize.OpenReader(bytes.NewReader(b.Bytes()))
		require.NoError(t, err)
		defer x.Close()
		want := map[string]Said{}
		for _, sheet := range Sheets {
			rows, err := x.GetRows(sheet)
			require.NoError(t, err)
			for n, row := range rows[1:] {
				d := rapid.SampledFrom([]string{"", "approve", "hold", "reject"}).Draw(t, "decision")
				note := rapid.SampledFrom([]string{"", "=1+1", "'quoted", "ask Petr Šimek"}).Draw(t, "note")
				at := len(rows[0])
				cell := func(i int) string { c, _ := excelize.CoordinatesToCellName(i, n+2); return c }
				require.NoError(t, x.SetCellStr(sheet, cell(at-2), d))
				require.NoError(t, x.SetCellStr(sheet, cell(at-1), note))
				require.NoError(t, x.SetCellStr(sheet, cell(2), "spoilt"))
				if d != "" {
					want[row[0]] = Said{Decision: changeset.Decision(d), Note: unguard(note)}
				}
			}
		}
		file := filepath.Join(dir, "back.xlsx")
		require.NoError(t, x.SaveAs(file))
		c := Match(m, readBook(t, file), "lina", false)
		assert.Empty(t, c.Changed)
		assert.Zero(t, c.Other)
		got, stopped := 0, len(c.Stopped)
		for _, g := range c.Groups {
			for id, fields := range g.Units {
				for _, f := range fields {
					got++
					assert.Equal(t, want[refOf(m, id, f)], Said{Decision: g.Decision, Note: g.Note})
				}
			}
		}
		assert.Equal(t, len(want), got+stopped)
	})
}

func refOf(m *desk.Contents, id changeset.ID, field string) string {
	for _, s := range m.Changes {
		for u := range s.States {
			if s.ID == id && s.States[u].Field == field {
				return m.Ref(s, u)
			}
		}
	}
	return ""
}

// The CSV form survives a spreadsheet program, which wears all else.
func TestASpreadsheetDoesNotTouchWhatIsReadBack(t *testing.T) {
	officetest.Need(t)
	m := matter(t, t.TempDir())
	defer m.Close()
	var b bytes.Buffer
	require.NoError(t, WriteCSV(&b, m))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	at := len(rows[0])
	for i, row := range rows[1:] {
		for _, c := range row {
			assert.False(t, c != "" && strings.ContainsAny(c[:1], "=+-@"), "%q is a formula to a program", c)
			assert.NotContains(t, c, "\u202e")
			assert.NotContains(t, c, "\a")
		}
		row[at-3] = []string{"approve", "HOLD", " Rejected "}[i%3]
		row[at-2] = fmt.Sprintf("note %d", i)
	}
	file := filepath.Join(t.TempDir(), "back.csv")
	var out bytes.Buffer
	require.NoError(t, csv.NewWriter(&out).WriteAll(rows))
	require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
	for _, f := range []string{file, officetest.Convert(t, file, "de-DE", "", "ods"), officetest.Convert(t, file, "en-US", "", "xlsx")} {
		x, err := desk.OpenTable(disk.OS{}, f, filepath.Base(f), table.Options{})
		require.NoError(t, err)
		said, problems, ok, err := Read(x.Image)
		require.NoError(t, err)
		require.NoError(t, x.Close())
		require.True(t, ok)
		assert.Empty(t, problems)
		assert.Len(t, said, len(rows)-1, "%s", f)
		c := Match(m, said, "lina", false)
		assert.Empty(t, c.Changed, "%s", f)
		assert.Zero(t, c.Other, "%s", f)
	}
}

// The workbook may be saved by another program, in another format.
func TestAnotherProgramSavesTheWorkbook(t *testing.T) {
	officetest.Need(t)
	m := matter(t, t.TempDir())
	defer m.Close()
	var b bytes.Buffer
	require.NoError(t, Write(&b, m))
	x, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	want := 0
	for _, sheet := range Sheets {
		rows, err := x.GetRows(sheet)
		require.NoError(t, err)
		for n := range rows[1:] {
			cell, err := excelize.CoordinatesToCellName(len(rows[0])-2, n+2)
			require.NoError(t, err)
			require.NoError(t, x.SetCellStr(sheet, cell, "hold"))
			want++
		}
	}
	file := filepath.Join(t.TempDir(), "back.xlsx")
	require.NoError(t, x.SaveAs(file))
	for _, format := range []string{"xlsx", "ods"} {
		said := readBook(t, officetest.Convert(t, file, "fr-FR", "", format))
		assert.Len(t, said, want, format)
		assert.Empty(t, Match(m, said, "lina", false).Changed, format)
	}
}

// Decisions on what has changed since, twice on one thing, or on nothing, are
// told apart.
func TestOldAndContradictingSheets(t *testing.T) {
	m := matter(t, t.TempDir())
	defer m.Close()
	refs := units(m)
	said := []Said{{Ref: refs[0], Decision: changeset.Hold, Place: "row 2"}, {Ref: strings.ToUpper(refs[0]), Decision: changeset.Reject, Place: "row 3"},
		{Ref: refs[1][:len(refs[1])-8] + "00000000", Decision: changeset.Hold, Place: "row 4"}, {Ref: refs[2], Decision: changeset.Hold, Place: "row 5", Set: "s000000000000"}}
	c := Match(m, said, "lina", false)
	assert.Equal(t, []Problem{{"row 3", "says reject, and row 2 says hold of the same"}}, c.Twice)
	assert.Equal(t, []string{"row 4"}, c.Changed)
	assert.Equal(t, 1, c.Other)
	require.Len(t, c.Groups, 1)
	assert.Equal(t, 2, c.Groups[0].Count)
	_, _, ok := ReadPage([]byte(`{"paletwin":"decisions","version":2}`))
	assert.False(t, ok)
	page, problems, ok := ReadPage([]byte(`{"paletwin":"decisions","version":1,"set":"s1","decisions":[{"change":"` + refs[0] + `","decision":"approve","note":"n"},{"change":"x","decision":"hold"},{"change":"` + refs[0] + `","decision":"yes"}]}`))
	assert.True(t, ok)
	assert.Equal(t, []Said{{refs[0], changeset.Approve, "n", "s1", "decision 1"}}, page)
	assert.Len(t, problems, 2)
}

// TestSheetsOfOtherDossiers: a decision counts in the dossier that it was made on, under a ref of before there were any that say so, too; one
// letter of a ref that is another never decides on anything else.
func TestSheetsOfOtherDossiers(t *testing.T) {
	m := matter(t, t.TempDir())
	defer m.Close()
	refs := units(m)
	said := func(refs ...string) (all []Said) {
		for i, r := range refs {
			all = append(all, Said{Ref: r, Decision: changeset.Approve, Place: strconv.Itoa(i)})
		}
		return all
	}
	count := func(c *Collected) (n int) {
		for _, g := range c.Groups {
			n += g.Count
		}
		return n + c.Same + len(c.Stopped)
	}
	c := Match(m, said(refs...), "lina", false)
	assert.Equal(t, len(refs), count(c))
	old := make([]string, len(refs))
	for i, r := range refs {
		p := strings.Split(r, "-")
		old[i] = p[0] + "-" + p[1] + "-" + p[4][:8]
	}
	c = Match(m, said(old...), "lina", false)
	assert.Len(t, c.Foreign, len(refs), "a dossier with an id never gave such refs out")
	id := m.Dossier.Meta.ID
	m.Dossier.Meta.ID = ""
	c = Match(m, said(old...), "lina", false)
	assert.Equal(t, len(refs), count(c))
	assert.Equal(t, len(refs), c.Old)
	assert.Len(t, Match(m, said(refs...), "lina", false).Foreign, len(refs))
	m.Dossier.Meta.ID = strings.Repeat("0", 32)
	assert.Len(t, Match(m, said(refs...), "lina", false).Foreign, len(refs))
	m.Dossier.Meta.ID = id
	rapid.Check(t, func(rt *rapid.T) {
		at := rapid.IntRange(0, len(refs)-1).Draw(rt, "ref")
		i := rapid.IntRange(0, len(refs[at])-1).Draw(rt, "letter")
		r := []byte(refs[at])
		r[i] = rapid.SampledFrom([]byte("0123456789abcdefw-r ")).Draw(rt, "by")
		if _, known := desk.ParseRef(string(r)); !known || strings.TrimSpace(string(r)) == refs[at] {
			return
		}
		round := strings.Split(string(r), "-")[3] != strings.Split(refs[at], "-")[3]
		c := Match(m, said(string(r)), "lina", false)
		if n := count(c); n > 0 {
			assert.True(rt, round, "%s stands for %s", r, refs[at])
		}
	})
}

// TestACellOfARecordIsThatRecord: what stands in a cell of the whole record can be taken apart again, whatever its values say.
func TestACellOfARecordIsThatRecord(t *testing.T) {
	m := &desk.Contents{}
	m.Header.Key = []string{"k"}
	text := rapid.OneOf(rapid.SampledFrom([]string{"Old Pier", "x; fee: 99.00", `"; fee: "1`, `say "no"`, "a: b", ";", " ; ", "x\ny", "; fee: 99", `""`, "1;2", "é; ü"}), rapid.String())
	rapid.Check(t, func(rt *rapid.T) {
		var r record.Record
		want := [][2]string{}
		for _, name := range []string{"k", "name", "a: b", "fee"} {
			v := text.Draw(rt, name)
			r = append(r, record.Field{Name: name, Value: record.Text(v)})
			if name != "k" && !record.Text(v).Blank() {
				want = append(want, [2]string{name, v})
			}
		}
		got := [][2]string{}
		rest := m.Whole(r)
		part := func(end string) string {
			if strings.HasPrefix(rest, `"`) {
				var b strings.Builder
				for i := 1; i < len(rest); i++ {
					if rest[i] != '"' {
						b.WriteByte(rest[i])
					} else if i+1 < len(rest) && rest[i+1] == '"' {
						b.WriteByte('"')
						i++
					} else {
						rest = rest[i+1:]
						break
					}
				}
				rest = strings.TrimPrefix(rest, end)
				return b.String()
			}
			var v string
			v, rest, _ = strings.Cut(rest, end)
			return v
		}
		for rest != "" {
			name := part(": ")
			got = append(got, [2]string{name, part("; ")})
		}
		assert.Equal(rt, want, got)
	})
}
