package sheet

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
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
	for name, text := range map[string]string{"s.csv": snapshot, "e.csv": edited} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	c := &desk.Comparison{Title: "Review", By: "mairead", Now: time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC),
		Snapshot: desk.Source{Path: filepath.Join(dir, "s.csv"), Name: "s.csv"}, Edited: &desk.Source{Path: filepath.Join(dir, "e.csv"), Name: "e.csv"},
		Options: compare.Options{RecordSet: "aids", Key: []string{"aid_no"}}}
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
