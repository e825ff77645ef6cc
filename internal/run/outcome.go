package run

import (
	"bufio"
	"io"
	"path/filepath"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/table/csv"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// writeOutcome writes outcome.csv: a row a record, with exact values.
func writeOutcome(t *desk.Dossier, file string, steps []*Step) error {
	_, err := disk.WriteUnsummed(t.FS(), filepath.Clean(file), 0o600, func(w io.Writer) error { return appendOutcomes(w, t.Set().Key, steps) })
	return err
}

func appendOutcomes(w io.Writer, key []string, steps []*Step) error {
	out := bufio.NewWriterSize(w, 1<<16)
	var room []byte // for what a step changes
	row := cell(nil, "act")
	for _, k := range key {
		row = cell(row, k)
	}
	for _, h := range []string{"changes", "outcome", "reason", "time", "id"} {
		row = cell(row, h)
	}
	for i := 0; ; i++ {
		if _, err := out.Write(append(row, '\n')); err != nil {
			return err
		}
		if i == len(steps) {
			return out.Flush()
		}
		room = steps[i].appendChanges(room[:0])
		row = steps[i].appendOutcome(row[:0], room)
	}
}

// cell appends a cell to a row of CSV.
func cell[T string | []byte](row []byte, text T) []byte {
	if len(row) > 0 {
		row = append(row, ',')
	}
	return csv.AppendCell(row, text, ',', false)
}

// appendOutcome appends a step's row, without its line end; changes is what it changes in words.
func (s *Step) appendOutcome(row, changes []byte) []byte {
	row = cell(row, s.Act.String())
	for _, part := range s.Key.Parts() {
		row = cell(row, part)
	}
	row = cell(row, changes)
	row = cell(row, string(s.Outcome))
	row = cell(row, s.Reason)
	row = s.When.Time().AppendFormat(append(row, ','), time.RFC3339)
	return cell(row, s.ID.String())
}

// appendChanges appends what the step changes in words: "depot: D03 → D07".
func (s *Step) appendChanges(b []byte) []byte {
	if s.Act != changeset.Amend {
		return b
	}
	for f := range s.Fields.All() {
		if len(b) > 0 {
			b = append(b, "; "...)
		}
		b = append(append(b, f.Field...), ": "...)
		b = append(append(b, f.From.String()...), " → "...)
		b = append(b, f.To.String()...)
	}
	return b
}
