//go:build unix

package desk

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/internal/disk"
)

// shortener shortens a file as soon as the first changes come.
type shortener struct{ file string }

func (s shortener) WriteEncoded([]byte, []*changeset.Change) error { return os.Truncate(s.file, 0) }

// A file that is shortened while it is read gives an error, never a crash,
// wherever the reading is.
func TestShortenedWhileRead(t *testing.T) {
	var a, b bytes.Buffer
	for i := range 60_000 {
		a.WriteString(strconv.Itoa(i) + ",1.5,aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n")
		b.WriteString(strconv.Itoa(i) + ",2.5,aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n")
	}
	for _, when := range []string{"before", "meanwhile"} {
		dir := t.TempDir()
		one, two := filepath.Join(dir, "a.csv"), filepath.Join(dir, "b.csv")
		require.NoError(t, os.WriteFile(one, append([]byte("k,fee,v\n"), a.Bytes()...), 0o600))
		require.NoError(t, os.WriteFile(two, append([]byte("k,fee,v\n"), b.Bytes()...), 0o600))
		x, err := OpenTable(disk.OS{}, one, "a.csv", table.Options{})
		require.NoError(t, err)
		y, err := OpenTable(disk.OS{}, two, "b.csv", table.Options{})
		require.NoError(t, err)
		if when == "before" {
			require.NoError(t, os.Truncate(two, 4096))
		}
		_, err = compare.Run(context.Background(), x.Image, y.Image, compare.Options{RecordSet: "t", Key: []string{"k"}}, shortener{two})
		assert.ErrorIs(t, err, table.ErrChanged, when)
		assert.False(t, y.Unchanged(disk.OS{}, two))
		require.NoError(t, x.Close())
		require.NoError(t, y.Close())
	}
}
