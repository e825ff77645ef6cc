package run

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/thorough"
)

var fuzzedPrevious = regexp.MustCompile(`"previous":"[^"]*"`)

// FuzzJournal reads journals and rollback files that may be anything, their chains done anew. What is read adds up, within bounds.
func FuzzJournal(f *testing.F) {
	for _, version := range []string{"v1", "v2", "v3", "v4", "v5"} {
		found, err := filepath.Glob(filepath.Join("../../cmd/paletwin/testdata", version, "dossiers/*/runs/*/journal.jsonl"))
		require.NoError(f, err)
		for _, name := range found {
			journal, err := os.ReadFile(name)
			require.NoError(f, err)
			rollback, err := os.ReadFile(filepath.Join(filepath.Dir(name), rollbackName))
			require.NoError(f, err)
			f.Add(journal, rollback)
		}
	}
	f.Fuzz(func(t *testing.T, journal, rollback []byte) {
		last := ""
		var linked []byte
		for line := range bytes.Lines(journal) {
			line = fuzzedPrevious.ReplaceAllLiteral(line, []byte(`"previous":"`+last+`"`))
			last = desk.LineDigest(line)
			linked = append(linked, line...)
		}
		thorough.Bounded(t, func() {
			planned, err := readRollback(rollback, true)
			if err != nil {
				return
			}
			r := &Record{open: map[changeset.ID]bool{}}
			if err := r.read(linked, planned); err != nil {
				return
			}
			c := r.Counts()
			assert.LessOrEqual(t, c.Done+c.Settled+c.Conflict+c.Refused+c.Unknown+c.Skipped+c.Undone, len(r.Steps))
			for _, s := range r.Steps {
				_ = s.Key.String()
				_, _ = s.Record.Get("k")
			}
			_ = r.Head.At()
		})
	})
}
