package file_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/target/file"
	"paletwin/internal/target/targettest"
)

// place is a CSV file in a folder of its own.
type place string

func (p place) Open(t *testing.T) target.Target {
	f, err := file.Open(disk.OS{}, string(p), []string{"k"})
	require.NoError(t, err)
	return f
}

func (p place) Set(t *testing.T, key, field, value string) {
	b, err := os.ReadFile(string(p))
	require.NoError(t, err)
	lines := strings.Split(string(b), "\n")
	for i, line := range lines {
		cells := strings.Split(line, ",")
		if cells[0] == key {
			cells[map[string]int{"v": 1, "w": 2}[field]] = value
			lines[i] = strings.Join(cells, ",")
		}
	}
	require.NoError(t, os.WriteFile(string(p), []byte(strings.Join(lines, "\n")), 0o644))
}

func TestFileKeepsTheRules(t *testing.T) {
	targettest.Run(t, func(t *testing.T) targettest.Place {
		p := filepath.Join(t.TempDir(), "register.csv")
		require.NoError(t, os.WriteFile(p, []byte(targettest.Register), 0o644))
		return place(p)
	})
}
