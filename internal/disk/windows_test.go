//go:build windows

package disk

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/windows"
)

// folder makes a folder, which is taken away as the program does it.
func folder(t *testing.T) string {
	dir, err := os.MkdirTemp("", "paletwin-disk-")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, removeAll(dir)) })
	return dir
}

// Names of more than 240 letters are given to the system in its long form, those of shares in theirs; others as they are.
func TestLongNames(t *testing.T) {
	long := strings.Repeat("x", 260)
	for name, want := range map[string]string{
		`C:\a\b`:                       `C:\a\b`,
		`a.csv`:                        `a.csv`,
		`C:\` + long:                   `\\?\C:\` + long,
		`C:/a/` + long:                 `\\?\C:\a\` + long,
		`\\server\share\` + long:       `\\?\UNC\server\share\` + long,
		`//server/share/` + long:       `\\?\UNC\server\share\` + long,
		`\\?\C:\` + long:               `\\?\C:\` + long,
		`\\?\UNC\server\share\` + long: `\\?\UNC\server\share\` + long,
	} {
		p, err := wide(name)
		require.NoError(t, err)
		assert.Equal(t, want, windows.UTF16PtrToString(p), name)
	}
}

// A file that another program has open is replaced once that is over, and is said to be open where it stays so.
func TestRenameWaits(t *testing.T) {
	dir := folder(t)
	from, to := filepath.Join(dir, "new"), filepath.Join(dir, "there")
	require.NoError(t, os.WriteFile(from, []byte("new"), 0o600))
	require.NoError(t, os.WriteFile(to, []byte("old"), 0o600))
	p, err := windows.UTF16PtrFromString(to)
	require.NoError(t, err)
	h, err := windows.CreateFile(p, windows.GENERIC_READ, windows.FILE_SHARE_READ, nil, windows.OPEN_EXISTING, 0, 0)
	require.NoError(t, err)
	require.ErrorIs(t, InUse(to), ErrInUse)
	require.ErrorIs(t, rename(from, to), ErrInUse)
	b, err := os.ReadFile(to)
	require.NoError(t, err)
	require.Equal(t, "old", string(b))
	time.AfterFunc(200*time.Millisecond, func() { _ = windows.CloseHandle(h) })
	require.NoError(t, rename(from, to))
	require.NoError(t, InUse(to))
	b, err = os.ReadFile(to)
	require.NoError(t, err)
	require.Equal(t, "new", string(b))
}

// A lock's file goes with the lock, and a folder whose lock was let go of can have another name.
func TestLocksGo(t *testing.T) {
	dir := filepath.Join(folder(t), "dossier")
	require.NoError(t, os.Mkdir(dir, 0o700))
	lock, err := Acquire(OS{}, filepath.Join(dir, ".lock"), true)
	require.NoError(t, err)
	_, err = Acquire(OS{}, filepath.Join(dir, ".lock"), true)
	require.ErrorIs(t, err, ErrLocked)
	require.True(t, lock.LetGo())
	require.NoError(t, rename(dir, dir+"-aside"))
	require.NoError(t, removeAll(dir+"-aside"))
	require.NoError(t, lock.Unlock())
	lock, err = Acquire(OS{}, dir+".lock", true)
	require.NoError(t, err)
	require.NoError(t, lock.Unlock())
	require.NoFileExists(t, dir+".lock")
}
