package run

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/thorough"
)

// damaged is a small dossier with everything that a dossier can have: a layout
// with a list, decisions of every kind, a run with a conflict, a second one, a
// proof, and a change set that another took the place of.
func damaged(t *testing.T) *bench {
	b := newBench(t, t.TempDir(), faulty.NoSync{}, []byte("k,v,w\n1,a,x\n2,b,x\n3,theirs,x\n4,d,x\n5,e,x\n"))
	require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "layouts"), 0o755))
	for name, text := range map[string]string{"layouts/aids.yaml": "key: k\nfields:\n  k: text\n  v: text\n  w: {kind: reference, to: depots.csv}\n", "depots.csv": "code,name\nx,Old Pier\ny,Tarn\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(b.dir, name), []byte(text), 0o600))
	}
	l, err := b.desk.FindLayout("aids")
	require.NoError(t, err)
	snapshot := "k,v,w\n1,a,x\n2,b,x\n3,c,x\n4,d,x\n5,e,x\n"
	c := b.comparison(desk.Source{Name: "s.csv", Stream: strings.NewReader(snapshot)}, []byte("k,v,w\n1,A,x\n2,b,x\n3,C,x\n4,D,x\n"))
	c.Layout = l
	d, _, err := b.desk.Compare(ctx(), c)
	require.NoError(t, err)
	c = b.comparison(desk.Source{Name: "s.csv", Stream: strings.NewReader(snapshot)}, []byte("k,v,w\n1,A,y\n2,b,x\n3,C,x\n4,D,x\n"))
	c.Layout, c.Into = l, d
	d, _, err = b.desk.Compare(ctx(), c)
	require.NoError(t, err)
	id := func(k string) string {
		return changeset.MakeID("aids", record.NewKey(k), changeset.Amend).String()
	}
	for _, o := range []*desk.Order{{Decision: changeset.Reject, Names: []string{id("4")}, Note: "not this one"}, {Decision: changeset.Approve, Names: []string{id("1") + "/v"}}, {Decision: changeset.Approve, Names: []string{id("3")}}} {
		o.By, o.When = "petr", clock()
		_, err := d.Decide(o)
		require.NoError(t, err)
	}
	for _, first := range []int{1, 0} {
		_, err := b.apply(d, Options{First: first})
		require.NoError(t, err)
	}
	_, err = d.Decide(&desk.Order{Decision: changeset.Hold, Names: []string{id("1") + "/w"}, By: "noor", When: clock()})
	require.NoError(t, err)
	b.went = b.register
	return b
}

// view is what commands make of a dossier: its changes with their decisions,
// its findings, its history, what stands, and what another run would do.
func (b *bench) view() (text string, err error) {
	b.reopen()
	d, err := b.desk.Dossier("1", "")
	if err != nil {
		return "", err
	}
	var out strings.Builder
	counts, err := json.Marshal(d.Set().Changes)
	if err != nil {
		return "", err
	}
	fmt.Fprintln(&out, d.Meta.Title, d.Meta.By, string(counts))
	c, err := d.Changes()
	if err != nil {
		return "", err
	}
	defer c.Close()
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&out, "%s %v\n", line, c.Ledger.States(line, ch))
	}
	all, err := d.Findings()
	if err != nil {
		return "", err
	}
	fmt.Fprintln(&out, all)
	s, err := ReadStatus(d)
	if err != nil {
		return "", err
	}
	for _, r := range s.Runs {
		fmt.Fprintln(&out, r.Head.Target, r.Head.By, r.Counts(), r.Ended)
	}
	seen, err := Conflicts(d)
	if err != nil {
		return "", err
	}
	done, err := standing(d, At{b.went, ""})
	if err != nil {
		return "", err
	}
	var stands []string
	for u, x := range done.all() {
		stands = append(stands, fmt.Sprint(u, x.run, x.Fields, x.Record))
	}
	slices.Sort(stands)
	fmt.Fprintln(&out, s, seen, stands)
	snapshot, err := d.OpenInput(d.Meta.Snapshot)
	if err != nil {
		return "", err
	}
	defer snapshot.Close()
	rep, err := b.apply(d, Options{Rehearse: true})
	if err != nil {
		return "", err
	}
	for _, x := range rep.Attempted {
		fmt.Fprintln(&out, x.ID, x.Outcome, x.Reason, x.Fields)
	}
	return out.String(), nil
}

// spacious are files in whose white space, and in the case of whose names, a
// letter may change and nothing with it.
var spacious = []string{"dossier.json", "head.json"}

// A letter that changed, or an end that is missing, anywhere in any file of a
// dossier: history --check says so, or it is harmless; and no command goes on
// with what is not what was written.
func TestDamageIsNoticedOrHarmless(t *testing.T) {
	b := damaged(t)
	d, err := b.desk.Dossier("1", "")
	require.NoError(t, err)
	require.Empty(t, Check(d))
	var files []string
	require.NoError(t, filepath.WalkDir(d.Dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && e.Name() != ".lock" {
			name, _ := filepath.Rel(b.dir, path)
			files = append(files, name)
		}
		return err
	}))
	assert.Greater(t, len(files), 15)
	for _, name := range files {
		t.Run(filepath.ToSlash(name), func(t *testing.T) {
			t.Parallel()
			damageEverywhere(t, b, name)
		})
	}
}

// damageEverywhere damages a file in a copy of the desk in every place, and
// takes it away.
func damageEverywhere(t *testing.T, from *bench, name string) {
	b := &bench{t: t, fs: from.fs, dir: t.TempDir(), went: from.register}
	b.register = filepath.Join(b.dir, "register.csv")
	require.NoError(t, os.CopyFS(b.dir, os.DirFS(from.dir)))
	require.NoError(t, os.Chmod(filepath.Join(b.dir, desk.SettingsName), 0o600))
	want, err := b.view()
	require.NoError(t, err)
	require.Contains(t, want, "conflict")
	file := filepath.Join(b.dir, name)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	// look returns what the commands make of it, and whether damage is said.
	look := func() (goOn, noticed bool) {
		got, err := b.view()
		noticed = err != nil
		if d, derr := b.desk.Dossier("1", ""); derr == nil {
			noticed = noticed || len(Check(d)) > 0
		}
		return err == nil && got != want, noticed
	}
	first, step := thorough.Every(t, 6)
	for at := first - 1; at < len(whole); at += step {
		flipped := bytes.Clone(whole)
		flipped[at] ^= 1 << (at % 7)
		for what, bytes := range map[string][]byte{"a flip": flipped, "a cut": whole[:at]} {
			require.NoError(t, os.WriteFile(file, bytes, 0o600))
			goOn, noticed := look()
			require.False(t, goOn, "%s at %d of %d: the commands go on", what, at, len(whole))
			require.True(t, noticed || slices.Contains(spacious, filepath.Base(name)), "%s at %d of %d is not noticed", what, at, len(whole))
		}
	}
	if filepath.Base(name) != verifyName { // which nothing relies on, and a kill may leave out
		require.NoError(t, os.Remove(file))
		goOn, noticed := look()
		assert.False(t, goOn, "it is gone: the commands go on")
		assert.True(t, noticed, "that it is gone is not noticed")
	}
	require.NoError(t, os.WriteFile(file, whole, 0o600))
	goOn, noticed := look()
	assert.False(t, goOn || noticed, "put back, it is whole")
}

// older makes of a dossier one as the first version wrote it: no heads, and a
// journal whose lines do not know each other.
func older(t *testing.T, d *desk.Dossier) {
	require.NoError(t, os.Remove(d.Path("head.json")))
	m := *d.Meta
	m.Version, m.Files, m.Digest = 1, nil, ""
	b, err := json.Marshal(&m)
	require.NoError(t, err)
	sum := sha256.Sum256(b)
	m.Digest = "sha256:" + hex.EncodeToString(sum[:])
	b, err = json.Marshal(&m)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(d.Path("dossier.json"), b, 0o600))
	journals, err := filepath.Glob(d.Path("runs/*/journal.jsonl"))
	require.NoError(t, err)
	for _, file := range journals {
		b, err := os.ReadFile(file)
		require.NoError(t, err)
		text := regexp.MustCompile(`,"previous":"[^"]*"`).ReplaceAllString(string(b), "")
		text = regexp.MustCompile(`(?m)^\{"proof".*\n`).ReplaceAllString(text, "")
		text = strings.Replace(text, `"version":3`, `"version":1`, 1)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
}

// An unfinished run of the first version, wherever it was interrupted, is
// finished as it was begun, and is never called damaged.
func TestUnfinishedRunsOfTheFirstVersionAreFinished(t *testing.T) {
	start := template(t)
	open := 0
	eachFault(t, start, faulty.Fail, func(n int, _ *faulty.FS, b *bench, d *desk.Dossier) {
		if _, err := os.Stat(d.Path("runs/1/journal.jsonl")); err == nil {
			open++
		}
		older(t, d)
		b.fs = faulty.NoSync{}
		b.reopen()
		d, err := b.desk.Dossier("1", "")
		require.NoError(t, err)
		require.Empty(t, Check(d), "at %d", n)
		recover(t, b)
	})
	assert.Positive(t, open)
}
