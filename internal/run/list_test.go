package run

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// shown is the list of dossiers as it is shown, newest first, and what was looked up for it.
func (b *bench) shown() (words []string, l *List) {
	l, err := ListOf(b.desk)
	require.NoError(b.t, err)
	for rows := range l.Backward() {
		for _, r := range rows {
			line, err := json.Marshal(r)
			require.NoError(b.t, err)
			words = append(words, fmt.Sprint(string(line), r.Path, r.Damage, r.Err))
		}
	}
	l.Keep()
	return words, l
}

// Whatever is done to dossiers, and whatever is written to their files, the list that was kept shows what a list that is made anew shows;
// and what was not written to is not opened again.
func TestTheKeptListIsTheList(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "list")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		b := newBench(t, dir, disk.OS{}, []byte("k,v\n1,a\n2,b\n3,c\n"))
		n, spoiled := 0, false
		for range rapid.IntRange(1, 8).Draw(t, "deeds") {
			all, err := b.desk.Dossiers()
			require.NoError(t, err)
			switch deed := rapid.IntRange(0, 8).Draw(t, "deed"); {
			case deed < 2 || len(all) == 0:
				n++
				edited := strings.ReplaceAll(b.bytes(), ",", fmt.Sprintf(",%d", n))
				d := b.compare([]byte(b.bytes()), []byte(strings.Replace(edited, fmt.Sprintf("k,%dv", n), "k,v", 1)))
				if rapid.Bool().Draw(t, "apply at once") {
					_, err := b.apply(d, Options{First: rapid.IntRange(0, 2).Draw(t, "first")})
					require.NoError(t, err)
				}
			default:
				d := rapid.SampledFrom(all).Draw(t, "dossier")
				if d.Damage != nil {
					continue
				}
				switch deed {
				case 2:
					_, _ = b.apply(d, Options{}) // some are done, or closed
				case 3, 4:
					if d.Meta.Undoes == nil || deed == 4 {
						f := b.target()
						back, err := Rollback(ctx(), d, f, Undo{By: "petr", Now: clock})
						require.NoError(t, f.Close())
						if err == nil { // there may be nothing to undo
							b.approve(back)
							_, _ = b.apply(back, Options{})
						}
					}
				case 5:
					require.NoError(t, d.Close(&desk.Closed{By: "petr", When: clock()}))
				case 6:
					require.NoError(t, d.Reopen())
				case 7, 8:
					spoil(t, d)
					spoiled = true
				}
			}
			if rapid.Bool().Draw(t, "looked at") {
				b.shown()
			}
		}
		kept, _ := b.shown()
		again, l := b.shown()
		require.NoError(t, os.Remove(filepath.Join(b.desk.Dir, "dossiers", "list.json")))
		anew, _ := b.shown()
		require.Equal(t, anew, kept)
		require.Equal(t, anew, again)
		require.True(t, spoiled || len(l.read) == 0, "opened again: %v", l.read)
	})
}

// spoil writes to a file of a dossier: a byte becomes another, the file is cut, or goes. Its time may be what it was.
func spoil(t *rapid.T, d *desk.Dossier) {
	var files []string
	for _, pattern := range []string{"dossier.json", "head.json", "decisions.jsonl", "runs/*/journal.jsonl", "runs/*/rollback.jsonl"} {
		found, err := filepath.Glob(filepath.Join(d.Dir, pattern))
		require.NoError(t, err)
		files = append(files, found...)
	}
	name := rapid.SampledFrom(files).Draw(t, "file")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	info, err := os.Stat(name)
	require.NoError(t, err)
	switch rapid.IntRange(0, 2).Draw(t, "how") {
	case 0:
		text[rapid.IntRange(0, len(text)-1).Draw(t, "at")] ^= 1
		require.NoError(t, os.WriteFile(name, text, 0o600))
		if disk.Changed(info) != 0 && rapid.Bool().Draw(t, "with its old time") {
			require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime()))
		}
	case 1:
		require.NoError(t, os.WriteFile(name, text[:len(text)/2], 0o600))
	case 2:
		require.NoError(t, os.Remove(name))
	}
}

// A dossier is looked up again when it was undone, and when a file of it was written to.
func TestTheListIsLookedUpAgain(t *testing.T) {
	b := newBench(t, t.TempDir(), disk.OS{}, []byte("k,v\n1,a\n"))
	d := b.compare([]byte("k,v\n1,a\n"), []byte("k,v\n1,A\n"))
	_, err := b.apply(d, Options{})
	require.NoError(t, err)
	done, _ := b.shown()
	kept, err := os.Stat(filepath.Join(b.desk.Dir, "dossiers", "list.json"))
	require.NoError(t, err)
	_, l := b.shown()
	assert.Empty(t, l.read, "nothing was written to")
	again, err := os.Stat(filepath.Join(b.desk.Dir, "dossiers", "list.json"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(kept, again), "nor is the list, where it says the same")
	back := b.rollback(d)
	made, _ := b.shown()
	assert.Equal(t, done, made[1:], "it is not undone yet")
	_, err = b.apply(back, Options{})
	require.NoError(t, err)
	undone, _ := b.shown()
	assert.Contains(t, undone[1], "undone whole by 0002")
	require.NoError(t, os.Truncate(filepath.Join(back.Dir, "runs", "1", "journal.jsonl"), 10))
	spoilt, _ := b.shown()
	assert.Contains(t, spoilt[0], "journal.jsonl")
	assert.NotEqual(t, undone[1], spoilt[1], "whether it was undone cannot be told")
}

// A list that somebody else wrote, or a part of one, is none.
func TestForgedLists(t *testing.T) {
	dir := t.TempDir()
	b := newBench(t, dir, disk.OS{}, []byte("k,v\n1,a\n"))
	d := b.compare([]byte("k,v\n1,a\n"), []byte("k,v\n1,A\n"))
	_, err := b.apply(d, Options{})
	require.NoError(t, err)
	want, _ := b.shown()
	file := filepath.Join(b.desk.Dir, "dossiers", "list.json")
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, text := range []string{"", "{", "null", `{"paletwin":"list","version":1}`, `{"paletwin":"list","version":1,"dossiers":{"0001-law":null}}`,
		`{"paletwin":"list","version":1,"dossiers":{"0001-law":{}}}`, strings.Replace(string(good), `"version":1`, `"version":99`, 1), string(good[:len(good)/2])} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		got, _ := b.shown()
		assert.Equal(t, want, got, "%.60s", text)
	}
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.MkdirAll(file, 0o755)) // nothing can be kept
	got, _ := b.shown()
	assert.Equal(t, want, got)
}
