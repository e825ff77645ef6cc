package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// source copies what is tracked of the source into a new folder.
func source(t *testing.T) string {
	list := exec.Command("git", "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	list.Dir = ".."
	names, err := list.Output()
	require.NoError(t, err)
	dir := t.TempDir()
	for _, name := range strings.Split(strings.TrimSuffix(string(names), "\x00"), "\x00") {
		b, err := os.ReadFile(filepath.Join("..", name))
		if os.IsNotExist(err) {
			continue // taken out, and not committed yet
		}
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o644))
	}
	return dir
}

// The same source in two folders, at two times, gives the same archives; they have what people need, and what the licences ask for.
func TestTheSameBytes(t *testing.T) {
	var first map[string][]byte
	var dirs []string
	for range 2 {
		dir := source(t)
		dirs = append(dirs, dir)
		run := exec.Command("go", "run", "./release", "-o", "out", "-systems", "linux/amd64,windows/amd64")
		run.Dir = dir
		out, err := run.CombinedOutput()
		require.NoError(t, err, "%s", out)
		made := map[string][]byte{}
		entries, err := os.ReadDir(filepath.Join(dir, "out"))
		require.NoError(t, err)
		for _, e := range entries {
			made[e.Name()], err = os.ReadFile(filepath.Join(dir, "out", e.Name()))
			require.NoError(t, err)
		}
		require.Len(t, made, 3)
		if first == nil {
			first = made
			continue
		}
		for name, b := range made {
			assert.True(t, bytes.Equal(first[name], b), name)
		}
	}
	for name, b := range first {
		if name == "SHA256SUMS" {
			continue
		}
		files := unpacked(t, name, b)
		stem := strings.TrimSuffix(strings.TrimSuffix(name, ".zip"), ".tar.gz") + "/"
		program := map[bool]string{true: "paletwin.exe", false: "paletwin"}[strings.HasSuffix(name, ".zip")]
		for _, want := range []string{program, "INSTALL.md", "LICENCES.txt", "MODULES.txt", "man/man1/paletwin-compare.1", "completions/paletwin.bash", "completions/_paletwin", "completions/paletwin.fish", "completions/paletwin.ps1"} {
			assert.NotEmpty(t, files[stem+want], "%s: %s", name, want)
		}
		for _, says := range []string{"The Go programming language: LICENSE", "modernc.org/sqlite", "SIL OPEN FONT LICENSE", "Apache License"} {
			assert.Contains(t, files[stem+"LICENCES.txt"], says, name)
		}
		assert.Contains(t, files[stem+"MODULES.txt"], "github.com/jackc/pgx/v5 v5.", name)
		for _, dir := range dirs {
			assert.False(t, strings.Contains(files[stem+program], dir), "%s names the folder in which it was built", name)
		}
		assert.Contains(t, string(first["SHA256SUMS"]), name)
	}
}

func unpacked(t *testing.T, name string, data []byte) map[string]string {
	files := map[string]string{}
	read := func(name string, r io.Reader) {
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		files[name] = string(b)
	}
	if strings.HasSuffix(name, ".zip") {
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		for _, f := range z.File {
			r, err := f.Open()
			require.NoError(t, err)
			read(f.Name, r)
		}
		return files
	}
	g, err := gzip.NewReader(bytes.NewReader(data))
	require.NoError(t, err)
	for r := tar.NewReader(g); ; {
		h, err := r.Next()
		if err == io.EOF {
			return files
		}
		require.NoError(t, err)
		read(h.Name, r)
	}
}
