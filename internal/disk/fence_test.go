package disk

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestNothingLeadsOut plants links at random below a desk and has every operation try random names: what stands outside is neither read nor
// changed, and what stands inside is reached as without a fence.
func TestNothingLeadsOut(t *testing.T) {
	n := 0
	rapid.Check(t, func(rt *rapid.T) {
		n++
		top := filepath.Join(t.TempDir(), "case")
		require.NoError(rt, os.RemoveAll(top))
		dir, outside := filepath.Join(top, "desk"), filepath.Join(top, "outside")
		for _, d := range []string{"own/a/b", "own/c", "free"} {
			require.NoError(rt, os.MkdirAll(filepath.Join(dir, d), 0o755))
		}
		require.NoError(rt, os.MkdirAll(outside, 0o755))
		require.NoError(rt, os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o644))
		require.NoError(rt, os.WriteFile(filepath.Join(dir, "own/a/f"), []byte("inside"), 0o644))
		at := []string{"own/l1", "own/a/l2", "own/a/b/l3", "own/c/l4"}
		to := []string{outside, filepath.Join(outside, "secret"), filepath.Join(outside, "new"), "../../outside", "../../../outside/secret", "a", "../a", "a/f", "l1", "../l1", "f", "../../own/a/f", dir, "."}
		for _, l := range at {
			if rapid.Bool().Draw(rt, "link") {
				require.NoError(rt, os.Symlink(rapid.SampledFrom(to).Draw(rt, "to"), filepath.Join(dir, l)))
			}
		}
		f := &Fence{FS: OS{}, Dir: dir, Own: []string{"own"}, To: AsMade}
		names := append([]string{"own", "own/a", "own/a/f", "own/new", "own/a/b", "own/a/b/deep"}, at...)
		for _, l := range at {
			names = append(names, l+"/secret", l+"/new", l+"/f", l+"/l1")
		}
		for range rapid.IntRange(1, 6).Draw(rt, "operations") {
			name := filepath.Join(dir, rapid.SampledFrom(names).Draw(rt, "name"))
			op := rapid.SampledFrom([]string{"open", "map", "create", "append", "mkdir", "mkdirall", "stat", "readdir", "remove", "removeall", "rename", "lock", "write"}).Draw(rt, "operation")
			real, rerr := filepath.EvalSymlinks(name)
			leaves := rerr == nil && real != dir && !strings.HasPrefix(real, dir+"/")
			var err error
			switch op {
			case "open":
				var file File
				if file, err = f.Open(name); err == nil {
					_ = file.Close()
				}
			case "map":
				var m *Mapping
				if m, err = f.Map(name); err == nil {
					assert.NotEqual(rt, "secret", string(m.Data))
					_ = m.Close()
				}
			case "create":
				var file File
				if file, err = f.Create(name, 0o600); err == nil {
					_ = file.Close()
				}
			case "append":
				err = Append(f, name, 0, []byte("written"))
			case "mkdir":
				err = f.Mkdir(name)
			case "mkdirall":
				err = f.MkdirAll(name)
			case "stat":
				_, err = f.Stat(name)
			case "readdir":
				_, err = f.ReadDir(name)
			case "remove":
				err = f.Remove(name)
			case "removeall":
				err = f.RemoveAll(name)
			case "rename":
				err = f.Rename(name, filepath.Join(dir, rapid.SampledFrom(names).Draw(rt, "to what")))
			case "lock":
				var l *Lock
				if l, err = Acquire(f, name, false); err == nil {
					_ = l.Unlock()
				}
			case "write":
				err = WriteBytes(f, name, []byte("written"))
			}
			if leaves && op != "remove" && op != "removeall" && op != "rename" && op != "write" && op != "create" && op != "mkdir" {
				require.ErrorIs(rt, err, ErrLeadsOut, "%s %s", op, name)
			}
			if !leaves && rerr == nil && (op == "stat" || op == "open") {
				assert.NotErrorIs(rt, err, ErrLeadsOut, "%s %s", op, name)
			}
			entries, derr := os.ReadDir(outside)
			require.NoError(rt, derr)
			require.Len(rt, entries, 1, "%s %s made something outside", op, name)
			b, derr := os.ReadFile(filepath.Join(outside, "secret"))
			require.NoError(rt, derr)
			require.Equal(rt, "secret", string(b), "%s %s", op, name)
			if _, gone := os.Lstat(filepath.Join(dir, "own")); gone != nil {
				return
			}
		}
	})
}

// TestTheFenceGivesAway: what is made in a desk's own folders has the mode that is asked for, whatever the umask; what is made elsewhere is as
// it was.
func TestTheFenceGivesAway(t *testing.T) {
	dir := t.TempDir()
	info, err := os.Stat(dir)
	require.NoError(t, err)
	a, told := AccessOf(info)
	if !told {
		t.Skip("files have no owners here")
	}
	f := &Fence{FS: OS{}, Dir: dir, Own: []string{"own", "desk.yaml"}, To: Owners{UID: -1, GID: a.GID, Group: true}}
	require.NoError(t, f.MkdirAll(filepath.Join(dir, "own", "deep", "er")))
	require.NoError(t, WriteBytes(f, filepath.Join(dir, "own", "deep", "file"), []byte("x")))
	require.NoError(t, WriteBytes(f, filepath.Join(dir, "desk.yaml"), []byte("x")), "through a temporary name that is not the desk's own")
	require.NoError(t, WriteBytes(f, filepath.Join(dir, "free"), []byte("x")))
	require.NoError(t, Append(f, filepath.Join(dir, "own", "grows"), 0, []byte("x")))
	l, err := Acquire(f, filepath.Join(dir, "own", ".lock"), false)
	require.NoError(t, err)
	require.NoError(t, l.Unlock())
	for name, want := range map[string]fs.FileMode{"own": 0o770, "own/deep": 0o770, "own/deep/er": 0o770, "own/deep/file": 0o660, "desk.yaml": 0o660, "own/grows": 0o660, "own/.lock": 0o660, "free": 0o600} {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode().Perm(), name)
		assert.Equal(t, info.IsDir(), info.Mode()&fs.ModeSetgid != 0, name)
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "own", "grows"), 0o600))
	require.NoError(t, os.Chmod(filepath.Join(dir, "own", "deep"), 0o700))
	n, err := f.OpenUp()
	require.NoError(t, err)
	assert.Equal(t, 2, n)
}

// TestWhatStandsForAFile: a file of which only a stand-in is on this machine is not called missing.
func TestWhatStandsForAFile(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "own"), 0o755))
	f := &Fence{FS: OS{}, Dir: dir, Own: []string{"own"}, To: AsMade}
	name := filepath.Join(dir, "own", "snapshot.csv")
	_, err := f.Open(name)
	require.ErrorIs(t, err, fs.ErrNotExist)
	for _, stub := range []string{".snapshot.csv.icloud", "snapshot.csv.nextcloud", "snapshot.csv.owncloud"} {
		at := filepath.Join(dir, "own", stub)
		require.NoError(t, os.WriteFile(at, nil, 0o600))
		_, err = f.Map(name)
		require.ErrorIs(t, err, ErrCloud, stub)
		require.NoError(t, os.Remove(at))
	}
}

// TestLeftovers: what killed commands left of a name goes when it is written anew, and nothing else does.
func TestLeftovers(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "register.csv")
	stay := []string{".register.csv.paletwin-lock", ".register.csv.old.3f9c1b7d.paletwin-new", ".register.csv.3f9c1b7.paletwin-new", ".register.csv.3f9c1b7d.paletwin-newer", "register.csv.3f9c1b7d.paletwin-new", ".other.csv.3f9c1b7d.paletwin-new", ".register.csv.3f9c1bXd.paletwin-new"}
	for _, n := range append([]string{".register.csv.paletwin-new", ".register.csv.3f9c1b7d.paletwin-new", ".register.csv.00000000.paletwin-new"}, stay...) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), nil, 0o600))
	}
	require.NoError(t, WriteBytes(OS{}, name, []byte("k\n")))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	assert.ElementsMatch(t, append(stay, "register.csv"), names)
	assert.NotEqual(t, TempName("a"), TempName("b"))
	long := filepath.Join(dir, strings.Repeat("é", 120))
	require.NoError(t, os.WriteFile(TempName(long), nil, 0o600))
	require.NoError(t, WriteBytes(OS{}, long, []byte("k\n")))
	assert.NoFileExists(t, TempName(long))
}
