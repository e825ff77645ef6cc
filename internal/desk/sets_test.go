package desk_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/compare"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/disk/faulty"
)

const roundLayout = `list: visits
joins:
  visits: {key: id, columns: {visit: id, aid: aid, crew: crew}}
  aids: {key: no, columns: {aid: no, name: name}}
`

// joinedSets is a comparison of a sheet with two record sets.
func joinedSets(t *testing.T, d *desk.Desk, dir string) *desk.Sets {
	require.NoError(t, os.WriteFile(filepath.Join(dir, "round.yaml"), []byte(roundLayout), 0o600))
	j, err := d.OpenJoined(filepath.Join(dir, "round.yaml"))
	require.NoError(t, err)
	s := &desk.Sets{Title: "round", By: "lina", Now: time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC), Joined: j,
		Sheet: &desk.Source{Name: "sheet.csv", Stream: strings.NewReader("visit,aid,crew,name\na,1,z,Skerry\nb,1,x,Skerry Rock\nc,4,y,Voe\n")}}
	for set, text := range map[string]string{"visits": "id,aid,crew\na,1,x\nb,1,x\nc,2,y\n", "aids": "no,name\n1,Skerry\n2,Holm\n"} {
		s.All = append(s.All, &desk.Comparison{Title: "round", By: "lina", Now: s.Now, Snapshot: desk.Source{Name: set + ".csv", Stream: strings.NewReader(text)},
			Options: compare.Options{RecordSet: set, Key: []string{map[string]string{"visits": "id", "aids": "no"}[set]}}})
	}
	return s
}

// TestAFaultWhileSetsAreCompared: a file operation that fails, whichever, leaves no dossier or a whole one.
func TestAFaultWhileSetsAreCompared(t *testing.T) {
	for n := 1; ; n++ {
		dir := t.TempDir()
		f := &faulty.FS{FS: faulty.NoSync{}, Mode: faulty.Fail}
		d, err := desk.Find(f, account.Account{}, dir, dir)
		require.NoError(t, err)
		s := joinedSets(t, d, dir)
		f.At = f.Count() + n
		_, _, failed := d.CompareSets(context.Background(), s)
		hit := f.Hit()
		again, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
		require.NoError(t, err)
		all, err := again.Dossiers()
		require.NoError(t, err)
		for _, x := range all {
			require.NoError(t, x.Damage, "at %d", n)
			_, err := x.Findings()
			require.NoError(t, err, "at %d", n)
			c, err := x.Changes()
			require.NoError(t, err, "at %d", n)
			require.NoError(t, c.Close())
		}
		require.Contains(t, []int{0, 2}, len(all), "at %d", n)
		if failed == nil {
			require.Len(t, all, 2)
		}
		if !hit {
			require.Greater(t, n, 20)
			return
		}
	}
}

// TestAPreviewOfSetsIsTheComparison: what is only looked at is what would be found.
func TestAPreviewOfSetsIsTheComparison(t *testing.T) {
	dir := t.TempDir()
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	previewed, err := d.PreviewSets(context.Background(), joinedSets(t, d, dir))
	require.NoError(t, err)
	whole, compared, err := d.CompareSets(context.Background(), joinedSets(t, d, dir))
	require.NoError(t, err)
	require.Equal(t, []string{"aids", "visits"}, whole.SetNames())
	for i := range compared {
		require.Equal(t, compared[i].Changes.Counts, previewed[i].Changes.Counts)
		require.Equal(t, compared[i].Findings, previewed[i].Findings)
	}
	again, err := d.Dossier("1/aids", "")
	require.NoError(t, err)
	require.True(t, again.IsPart())
	cells, err := again.Worn(context.Background()) // takes the sheet apart once more
	require.NoError(t, err)
	require.Empty(t, cells)
	_, err = d.Dossier("1/crews", "")
	require.ErrorContains(t, err, `no record set "crews"`)
	b, err := os.ReadFile(again.Path("dossier.json"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(again.Path("dossier.json"), []byte(strings.Replace(string(b), "lina", "tomas", 1)), 0o600))
	_, err = d.Dossier("1/aids", "")
	require.ErrorIs(t, err, desk.ErrAltered)
}

// TestAColumnThatMoved: where the rows of most records do not agree in a field, that is said first.
func TestAColumnThatMoved(t *testing.T) {
	dir := t.TempDir()
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	s := joinedSets(t, d, dir)
	visits, aids, sheet := "id,aid,crew\n", "no,name\n", "visit,aid,crew,name\n"
	last := "Name 40"
	for i := range 80 {
		visits += fmt.Sprintf("v%d,%d,x\n", i, i/2)
		sheet += fmt.Sprintf("v%d,%d,x,%s\n", i, i/2, last)
		if i%2 == 0 {
			aids += fmt.Sprintf("%d,Name %d\n", i/2, i/2)
		}
		last = fmt.Sprint("Name ", i/2)
	}
	s.Sheet.Stream = strings.NewReader(sheet)
	for _, c := range s.All {
		c.Snapshot.Stream = strings.NewReader(map[string]string{"visits": visits, "aids": aids}[c.Options.RecordSet])
	}
	results, err := d.PreviewSets(context.Background(), s)
	require.NoError(t, err)
	require.Contains(t, results[0].Findings[0].Text, "of 40 records, the rows of 40 do not agree in name: the column may have moved")
}
