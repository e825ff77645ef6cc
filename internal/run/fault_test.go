package run

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/thorough"
)

const (
	oldRegister = "k,v,w\n1,a,x\n2,b,x\n3,\"c\",x\n\n4,d,x\n5,e,x\n"
	editedCopy  = "k,v,w\n1,A,x\n2,b,x\n3,C,x\n4,d,x\n6,f,y\n"
	newRegister = "k,v,w\n1,A,x\n2,b,x\n3,\"C\",x\n\n4,d,x\n6,f,y\n"
)

// template makes a desk with one approved dossier, once; each case gets a
// copy of it.
func template(t *testing.T) string {
	dir := t.TempDir()
	b := newBench(t, dir, faulty.NoSync{}, []byte(oldRegister))
	b.compare([]byte(oldRegister), []byte(editedCopy))
	return dir
}

func fresh(t *testing.T, template string, fsys disk.FS) (*bench, *desk.Dossier) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(template)))
	require.NoError(t, os.Chmod(filepath.Join(dir, desk.SettingsName), 0o600))
	b := &bench{t, fsys, dir, filepath.Join(dir, "register.csv"), nil, ""}
	b.reopen()
	d, err := b.desk.Dossier("1", "")
	require.NoError(t, err)
	return b, d
}

// eachFault lets the first, the second, the third … file operation of an apply
// fail, until one goes through, and calls after behind each.
func eachFault(t *testing.T, start string, mode faulty.Mode, after func(n int, f *faulty.FS, b *bench, d *desk.Dossier)) {
	first, step := thorough.Every(t, 4)
	for n := first; ; n += step {
		f := &faulty.FS{FS: faulty.NoSync{}, Mode: mode}
		b, d := fresh(t, start, f)
		f.At = f.Count() + n
		_, err := b.apply(d, Options{})
		if !f.Hit() {
			require.NoError(t, err)
			return
		}
		after(n, f, b, d)
	}
}

// TestFaultAtEveryOperation lets the first, the second, the third … file
// operation of an apply fail, in every way, until one goes through. After
// each the register is whole, old or new; apply again completes; nothing is
// done twice, nothing lost; and the rollback gives the start again.
func TestFaultAtEveryOperation(t *testing.T) {
	start := template(t)
	covered := 0
	for _, mode := range []faulty.Mode{faulty.Fail, faulty.Short, faulty.Full, faulty.Late} {
		eachFault(t, start, mode, func(n int, f *faulty.FS, b *bench, _ *desk.Dossier) {
			covered++
			now := b.bytes()
			require.Contains(t, []string{oldRegister, newRegister}, now, "%s at %d: %s", mode, n, f.Log[len(f.Log)-1])
			recover(t, b)
			if t.Failed() {
				t.Fatalf("%s at operation %d: %s", mode, n, f.Log[f.At-1])
			}
		})
	}
	t.Logf("%d points covered", covered)
	assert.Greater(t, covered, thorough.Few(200, 40))
}

// recover finishes what was interrupted with a file system that works, and
// takes it back.
func recover(t *testing.T, b *bench) {
	b.fs = faulty.NoSync{}
	b.reopen()
	d, err := b.desk.Dossier("1", "")
	require.NoError(t, err)
	done := 0
	for {
		rep, err := b.apply(d, Options{})
		require.NoError(t, err)
		if rep.Run == 0 {
			break
		}
		done += rep.Steps.Done
		assert.Zero(t, rep.Steps.Conflict+rep.Steps.Refused)
		assert.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
	}
	assert.LessOrEqual(t, done, 4, "nothing twice")
	assert.Equal(t, newRegister, b.bytes())
	s, err := ReadStatus(d)
	require.NoError(t, err)
	assert.Equal(t, 4, s.Steps.Done, "nothing lost, nothing twice")
	back := b.rollback(d)
	_, err = b.apply(back, Options{})
	require.NoError(t, err)
	assert.Equal(t, oldRegister, b.bytes())
	assert.Empty(t, Check(d))
	left, err := filepath.Glob(filepath.Join(b.dir, ".register*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// A fault while a dossier is made leaves nothing or all of it; a fault while
// deciding leaves the decision made or not.
func TestFaultWhileComparingAndDeciding(t *testing.T) {
	for n := 1; ; n++ {
		f := &faulty.FS{FS: faulty.NoSync{}, Mode: faulty.Fail, At: n}
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "r.csv"), []byte(oldRegister), 0o600))
		err := compareFiles(f, dir)
		if !f.Hit() {
			require.NoError(t, err)
			break
		}
		d, derr := desk.Find(faulty.NoSync{}, account.Account{}, dir, dir)
		require.NoError(t, derr)
		all, derr := d.Dossiers()
		require.NoError(t, derr)
		for _, x := range all {
			require.NoError(t, x.Damage, "at %d: %s", n, f.Log[n-1])
			c, err := x.Changes()
			require.NoError(t, err)
			require.NoError(t, c.Close())
			assert.Empty(t, Check(x))
		}
		require.NoError(t, compareFiles(faulty.NoSync{}, dir), "the next one goes through")
	}
}

func compareFiles(fsys disk.FS, dir string) error {
	d, err := desk.Find(fsys, account.Account{}, dir, dir)
	if err != nil {
		return err
	}
	b := &bench{fs: fsys, dir: dir, desk: d}
	x, _, err := d.Compare(ctx(), b.comparison(desk.Source{Path: filepath.Join(dir, "r.csv"), Name: "r.csv"}, []byte(editedCopy)))
	if err != nil {
		return err
	}
	_, err = x.Decide(b.everything())
	return err
}

// Whatever is renamed into place was synced after its last write, and its
// folder is synced after.
func TestSyncedRenamedFolderSynced(t *testing.T) {
	f := &faulty.FS{FS: disk.OS{}}
	b, d := fresh(t, template(t), f)
	_, err := b.apply(d, Options{})
	require.NoError(t, err)
	renames := 0
	for i, line := range f.Log {
		what, names, _ := strings.Cut(line, " ")
		if what != "rename" {
			continue
		}
		renames++
		from, to, _ := strings.Cut(names, " ")
		synced := false
		for _, before := range f.Log[:i] {
			switch before {
			case "sync " + from:
				synced = true
			case "write " + from:
				synced = false
			}
		}
		assert.True(t, synced, "%s is renamed unsynced", from)
		assert.Contains(t, f.Log[i+1:], "syncdir "+filepath.Dir(to), "the folder of %s", to)
	}
	assert.GreaterOrEqual(t, renames, 5, "backup, rollback file, register, outcome, proof")
	begun := slicesIndex(f.Log, "rename", "journal.jsonl")
	intent := slicesIndex(f.Log, "append", "journal.jsonl")
	register := slicesIndex(f.Log, "rename", "register.csv")
	rollback := slicesIndex(f.Log, "rename", "rollback.jsonl")
	backup := slicesIndex(f.Log, "rename", "backup.csv")
	assert.True(t, backup < rollback && rollback < begun && begun < intent && intent < register, "backup, rollback file and intent come first")
}

func slicesIndex(log []string, what, name string) int {
	for i, line := range log {
		if strings.HasPrefix(line, what+" ") && strings.HasSuffix(line, name) {
			return i
		}
	}
	return -1
}
