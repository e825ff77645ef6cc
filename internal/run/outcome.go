package run

import (
	"encoding/csv"
	"io"
	"path/filepath"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// writeOutcome writes outcome.csv: a row a record, with exact values.
func writeOutcome(t *desk.Dossier, file string, steps []*Step) error {
	_, err := disk.WriteFile(t.FS(), filepath.Clean(file), 0o600, func(w io.Writer) error {
		cw := csv.NewWriter(w)
		heading := append([]string{"act"}, t.Set().Key...)
		if err := cw.Write(append(heading, "changes", "outcome", "reason", "time", "id")); err != nil {
			return err
		}
		for _, s := range steps {
			row := append([]string{s.Act.String()}, s.Key.Parts()...)
			if err := cw.Write(append(row, s.changes(), string(s.Outcome), s.Reason, s.When.UTC().Format(time.RFC3339), s.ID.String())); err != nil {
				return err
			}
		}
		cw.Flush()
		return cw.Error()
	})
	return err
}

// changes writes what the step changes in words: "depot: D03 → D07".
func (s *Step) changes() string {
	if s.Act != changeset.Amend {
		return ""
	}
	parts := make([]string, len(s.Fields))
	for i, f := range s.Fields {
		parts[i] = f.Field + ": " + f.From.String() + " → " + f.To.String()
	}
	return strings.Join(parts, "; ")
}
