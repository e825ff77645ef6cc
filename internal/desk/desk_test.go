package desk

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/internal/account"
	"paletwin/internal/disk"
)

func newDesk(t *testing.T) *Desk {
	d, err := Find(disk.OS{}, account.Account{}, t.TempDir(), "")
	require.NoError(t, err)
	return d
}

func comparison(title, edited string) *Comparison {
	return &Comparison{Title: title, By: "lina", Now: time.Unix(1e9, 0),
		Snapshot: Source{Name: "s.csv", Stream: strings.NewReader("k,v\n1,a\n2,b\n3,c\n")},
		Edited:   &Source{Name: "e.csv", Stream: strings.NewReader(edited)},
		Options:  compare.Options{RecordSet: "aids", Key: []string{"k"}}}
}

func make1(t *testing.T, d *Desk, title, edited string) *Dossier {
	x, _, err := d.Compare(context.Background(), comparison(title, edited))
	require.NoError(t, err)
	return x
}

func TestSlugs(t *testing.T) {
	for title, want := range map[string]string{"Autumn round!": "autumn-round", "Été à Łódź": "été-à-łódź", "../../etc/passwd": "etc-passwd", "...": "update", "": "update",
		strings.Repeat("langer titel ", 9): "langer-titel-langer-titel-langer-titel-la"} {
		assert.Equal(t, want, Slug(title), title)
	}
}

// However many make dossiers at once, each has a number of its own.
func TestNumbersAreNeverGivenTwice(t *testing.T) {
	d := newDesk(t)
	make1(t, d, "first", "k,v\n1,A\n2,b\n3,c\n")
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for {
				_, _, err := d.Compare(context.Background(), comparison("more", "k,v\n1,A\n2,b\n3,c\n"))
				if err == nil {
					return
				}
				assert.ErrorIs(t, err, disk.ErrLocked, "a busy desk is said, and nothing else goes wrong")
			}
		})
	}
	wg.Wait()
	all, err := d.Dossiers()
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, x := range all {
		require.NoError(t, x.Damage)
		assert.False(t, seen[x.Meta.Number])
		seen[x.Meta.Number] = true
	}
	assert.Len(t, seen, 9)
	require.NoError(t, os.RemoveAll(all[4].Dir))
	assert.Equal(t, "0010", make1(t, d, "next", "k,v\n1,A\n2,b\n3,c\n").Meta.Number, "the highest and one, gaps or not")
}

// A crash between the two renames of comparing anew is put right by whoever
// looks next.
func TestReplacedFoldersComeBack(t *testing.T) {
	d := newDesk(t)
	x := make1(t, d, "round", "k,v\n1,A\n2,b\n3,c\n")
	require.NoError(t, os.Rename(x.Dir, filepath.Join(filepath.Dir(x.Dir), replaced+filepath.Base(x.Dir))))
	all, err := d.Dossiers()
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.NoError(t, all[0].Damage)
	assert.DirExists(t, x.Dir)
}

// Comparing anew keeps number, decisions and the old change set.
func TestCompareInto(t *testing.T) {
	d := newDesk(t)
	x := make1(t, d, "round", "k,v\n1,A\n2,B\n3,c\n")
	_, err := x.Decide(&Order{Decision: changeset.Approve, By: "lina", When: time.Unix(1e9, 0)})
	require.NoError(t, err)
	for round := 1; round <= 2; round++ {
		c := comparison("ignored", "k,v\n1,A\n2,other\n3,c\n")
		c.Into = x
		_, _, err = d.Compare(context.Background(), c)
		require.NoError(t, err)
	}
	y, err := d.Dossier("round", "")
	require.NoError(t, err)
	assert.Equal(t, "0001", y.Meta.Number)
	assert.FileExists(t, y.Path("changes.aids.1.jsonl"))
	assert.FileExists(t, y.Path("changes.aids.2.jsonl"))
	c, err := y.Changes()
	require.NoError(t, err)
	defer c.Close()
	var got []changeset.Decision
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		require.NoError(t, err)
		got = append(got, c.Ledger.States(line, ch)[0].Decision)
	}
	assert.Equal(t, []changeset.Decision{changeset.Approve, changeset.Open}, got)
}

// A comparison that fails leaves no trace, not even of a desk.
func TestFailedComparisonsLeaveNothing(t *testing.T) {
	d := newDesk(t)
	_, _, err := d.Compare(context.Background(), comparison("round", "k,v\n7,A\n8,b\n"))
	require.Error(t, err)
	entries, err := os.ReadDir(d.Dir)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// Whatever byte of a dossier's files is changed, something says so.
func TestEveryFileIsChecked(t *testing.T) {
	d := newDesk(t)
	x := make1(t, d, "round", "k,v\n1,A\n2,B\n3,c\n,x\n")
	_, err := x.Decide(&Order{Decision: changeset.Approve, By: "lina", When: time.Unix(1e9, 0)})
	require.NoError(t, err)
	for _, name := range []string{"dossier.json", "snapshot.csv", "edited.csv", "changes.aids.jsonl", "findings.jsonl"} {
		good, err := os.ReadFile(x.Path(name))
		require.NoError(t, err)
		bad := bytes.Clone(good)
		at := bytes.IndexByte(bad, 'k')
		require.GreaterOrEqual(t, at, 0, name)
		bad[at] = 'j'
		require.NoError(t, os.WriteFile(x.Path(name), bad, 0o600))
		assert.Error(t, whole(d), name)
		require.NoError(t, os.WriteFile(x.Path(name), good, 0o600))
		assert.NoError(t, whole(d), name)
	}
}

// whole opens and reads everything of the first dossier.
func whole(d *Desk) error {
	x, err := d.Dossier("1", "")
	if err != nil {
		return err
	}
	for _, in := range x.Inputs() {
		if err := x.CheckInput(in); err != nil {
			return err
		}
	}
	if _, err := x.Findings(); err != nil {
		return err
	}
	c, err := x.Changes()
	if err != nil {
		return err
	}
	return c.Close()
}
