//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/thorough"
)

// forgeries are what a string of a dossier is made.
var forgeries = []string{"", ".", "../../../outside", "../../register.csv", "/tmp/outside", `..\..\outside`, "C:outside", "0002", "0001/x", "99999999999999999999", "'; DROP TABLE aids; --", "\x1b]0;x\a\x1b[2J", "\u202etxt.exe", "a\x00b",
	strings.Repeat("a", 5000), "null", "=1+1", "changes.aids.jsonl", "true", "18446744073709551616"}

// eachString gives each string of a JSON value with what changes it.
func eachString(v any, path string, set func(any), each func(path, was string, set func(any))) {
	switch v := v.(type) {
	case string:
		each(path, v, set)
	case []any:
		for i := range v {
			eachString(v[i], fmt.Sprint(path, "/", i), func(x any) { v[i] = x }, each)
		}
	case map[string]any:
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			eachString(v[k], path+"/"+k, func(x any) { v[k] = x }, each)
		}
	}
}

// resealed is a description with the digest that belongs to it; false is one that cannot be read.
func resealed(v any) ([]byte, bool) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, false
	}
	var m desk.Meta
	if json.Unmarshal(b, &m) != nil {
		return nil, false
	}
	m.Digest = ""
	if b, err = json.Marshal(&m); err != nil {
		return nil, false
	}
	m.Digest = changeset.Checksum(b)
	b, err = json.MarshalIndent(&m, "", "  ")
	return b, err == nil
}

// listing is all that is in a folder, with its size.
func listing(t *testing.T, dir string, but string) map[string]int64 {
	t.Helper()
	all := map[string]int64{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if path == but {
			return filepath.SkipDir
		}
		info, err := d.Info()
		if err == nil && !d.IsDir() {
			all[path] = info.Size()
		}
		return err
	}))
	return all
}

// Whoever can write a dossier's folder can write a description whose digest fits: no command fails over it with a panic, none writes anything
// outside the desk, and none writes over the register what is not the dossier's.
func TestForgedDossiers(t *testing.T) {
	t.Parallel()
	outer := t.TempDir()
	start := filepath.Join(outer, "start")
	require.NoError(t, os.Mkdir(start, 0o755))
	office(t, start)
	out, code := command(t, program, start, nil, "apply", "1", "--to", "register.csv", "--first", "1", "--yes")
	require.Zero(t, code, out)
	description, err := filepath.Glob(filepath.Join(start, "dossiers/*/dossier.json"))
	require.NoError(t, err)
	b, err := os.ReadFile(description[0])
	require.NoError(t, err)
	name, err := filepath.Rel(start, description[0])
	require.NoError(t, err)
	var v any
	require.NoError(t, json.Unmarshal(b, &v))
	n, past, all := 0, 0, 0
	first, step := thorough.Every(t, 23)
	eachString(v, "", nil, func(path, was string, set func(any)) {
		for _, text := range forgeries {
			if n++; path == "/digest" || text == was || (n-first)%step != 0 {
				continue
			}
			all++
			set(text)
			forged, ok := resealed(v)
			set(was)
			if !ok {
				continue
			}
			past++
			play := filepath.Join(outer, fmt.Sprint("play", n))
			dir := filepath.Join(play, "a", "b", "desk")
			require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
			require.NoError(t, os.CopyFS(dir, os.DirFS(start)))
			require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(play, "outside"), []byte("mine"), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), forged, 0o600))
			before := listing(t, play, dir)
			for _, line := range []string{"history", "history --check", "history --open", "desk", "show 1", "show - --json", "review sheet 1 -o sheet.xlsx", "review page 1 -o page.html", "show 1 --wear", "approve 1 --all", "handoff 1 --form sql", "verify 1", "apply 1 --yes", "rollback 1 --apply --yes", "restore 1 --apply --yes", "compare aids.csv edited.csv --key k"} {
				out, code := command(t, program, dir, nil, strings.Fields(line)...)
				where := fmt.Sprintf("%s is %q: %s: %s", path, text, line, out)
				require.NotContains(t, out, "panic:", where)
				require.NotContains(t, out, "goroutine ", where)
				require.Contains(t, []int{0, 1, 2, 3, 4}, code, where)
				require.NotContains(t, out, "\x1b", where)
				require.Equal(t, before, listing(t, play, dir), where)
			}
			for _, row := range strings.Split(register(t, dir), "\n") {
				require.Contains(t, oldRegister+newRegister, row, "%s is %q", path, text)
			}
			require.NoError(t, os.RemoveAll(play))
		}
	})
	t.Logf("%d forgeries, %d past the digest", all, past)
	assert.GreaterOrEqual(t, 2*past, all, "half of them have a digest that fits")
}

// A folder that is no dossier stands in nobody's way.
func TestFoldersThatAreNoDossiers(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	office(t, dir)
	for _, name := range []string{"9998-x", "99999999999999999999-x", "999999999-y"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, "dossiers", name), 0o755))
	}
	_ = os.Mkdir(filepath.Join(dir, "dossiers", "0005-\xff"), 0o755) // where file systems allow it
	out, code := command(t, program, dir, nil, "show", "-")
	require.Zero(t, code, out)
	out, code = command(t, program, dir, nil, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", "next")
	require.Zero(t, code, out)
	require.Contains(t, out, "0002  next")
	out, code = command(t, program, dir, nil, "apply", "1", "--to", "register.csv", "--yes", "--leave-open")
	require.Zero(t, code, out)
}

// No program but this one is started: not for its colours, under whatever terminal.
func TestNothingElseIsStarted(t *testing.T) {
	t.Parallel()
	dir, bin := t.TempDir(), t.TempDir()
	office(t, dir)
	marker := filepath.Join(bin, "started")
	for _, name := range []string{"tmux", "screen", "infocmp", "tput", "stty", "git", "sh", "env"} {
		require.NoError(t, os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\necho "+name+" >> "+marker+"\n"), 0o755))
	}
	for _, term := range []string{"tmux", "screen", "xterm-256color", "vt100"} {
		out, code := command(t, program, dir, []string{"PATH=" + bin, "TERM=" + term, "TMUX=/tmp/tmux-0/default,1,0", "TTY_FORCE=1", "CLICOLOR_FORCE=1", "NO_COLOR=", "COLORTERM="}, "show", "1")
		require.Zero(t, code, out)
	}
	_, err := os.Stat(marker)
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// Sixteen compares at once are sixteen dossiers.
func TestSixteenComparesAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	office(t, dir)
	var wg sync.WaitGroup
	outs, codes := make([]string, 16), make([]int, 16)
	for i := range outs {
		wg.Go(func() {
			outs[i], codes[i] = command(t, program, dir, nil, "compare", "aids.csv", "edited.csv", "--key", "k", "--title", fmt.Sprint("round ", i))
		})
	}
	wg.Wait()
	for i := range outs {
		assert.Zero(t, codes[i], outs[i])
	}
	all, err := filepath.Glob(filepath.Join(dir, "dossiers/*/dossier.json"))
	require.NoError(t, err)
	assert.Len(t, all, 17)
	out, code := command(t, program, dir, nil, "history", "--check")
	assert.Zero(t, code, out)
}

// Files that would fill the memory or never end are refused, in words, within seconds.
func TestNothingIsEndless(t *testing.T) {
	t.Parallel()
	deep := strings.Repeat("[", 200_000)
	laughs := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 9 {
		laughs += fmt.Sprintf("%c: &%c [%s]\n", 'b'+i, 'b'+i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*%c, ", 'a'+i), 10), ", "))
	}
	many := "replace(k, '', 'xxxxxxxxxx')"
	for range 9 {
		many = "replace(" + many + ", '', 'xxxxxxxxxx')"
	}
	for name, x := range map[string]struct {
		file, text string
		args       []string
		code       int
		says       string
	}{
		"settings deep":   {"desk.yaml", "name: " + deep, []string{"history"}, 1, "no file that somebody wrote by hand"},
		"settings laugh":  {"desk.yaml", laughs, []string{"history"}, 1, "what its aliases stand for has more than 1 MB"},
		"layout deep":     {"layouts/aids.yaml", "fields: " + deep, []string{"compare", "aids.csv", "edited.csv", "--record-set", "aids"}, 2, "no file that somebody wrote by hand"},
		"expression":      {"note", "", []string{"derive", "aids.csv", "--key", "k", "--set", "v = " + many}, 0, "replace makes more than 1 MB of a text"},
		"moods":           {"moods.yaml", laughs, []string{"standin", ".", "--with", "memory", "--with", "moods=moods.yaml"}, 2, "more than 1 MB"},
		"routine":         {"routines/x.yaml", laughs, []string{"derive", "--routine", "x", "aids.csv"}, 2, "more than 1 MB"},
		"a device":        {"note", "", []string{"compare", "/dev/zero", "edited.csv", "--key", "k"}, 3, "device"},
		"an endless copy": {"note", "", []string{"compare", "aids.csv", "/dev/zero", "--key", "k"}, 3, "device"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			office(t, dir)
			require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(x.file)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, x.file), []byte(x.text), 0o600))
			began := time.Now()
			out, code := command(t, program, dir, nil, x.args...)
			assert.Contains(t, out, x.says)
			assert.NotContains(t, out, "panic")
			if x.code == 0 {
				assert.Zero(t, code, out)
			} else {
				assert.Contains(t, []int{1, 2, 3}, code, out)
			}
			assert.Less(t, time.Since(began), time.Minute) // seconds, on a machine with nothing else to do
		})
	}
}

// What a desk keeps of records is for its owner alone, whatever the umask.
func TestWhatTheDeskKeepsIsPrivate(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "demo")
	out, code := command(t, program, t.TempDir(), nil, "demo", "service", dir)
	require.Zero(t, code, out)
	for _, folder := range []string{"dossiers", "lent", "taken"} {
		require.NoError(t, filepath.WalkDir(filepath.Join(dir, folder), func(path string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			info, err := d.Info()
			require.NoError(t, err)
			if !d.IsDir() && filepath.Base(path) != ".lock" {
				assert.Zero(t, info.Mode().Perm()&0o077, path)
			}
			return nil
		}))
	}
}
