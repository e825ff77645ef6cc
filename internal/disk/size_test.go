package disk_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/internal/disk"
)

// boasting are files that say they are larger than any memory.
type boasting struct{ disk.OS }

type boaster struct{ disk.File }

type boast struct{ fs.FileInfo }

func (b boasting) Open(name string) (disk.File, error) {
	f, err := b.OS.Open(name)
	return boaster{f}, err
}

func (b boaster) Stat() (fs.FileInfo, error) {
	info, err := b.File.Stat()
	return boast{info}, err
}

func (boast) Size() int64 { return 1 << 60 }

// A file is what can be read of it, whatever it says of its size.
func TestASizeIsNotBelieved(t *testing.T) {
	name := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(name, []byte("text"), 0o600))
	b, err := disk.ReadFile(boasting{}, name)
	require.NoError(t, err)
	require.Equal(t, "text", string(b))
}
