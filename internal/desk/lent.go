package desk

import (
	"encoding/json"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/table"
	"paletwin/internal/disk"
)

// lentFolder holds what narrow copies were made of, so that one is known again
// after a program has saved it as CSV, which keeps no properties.
const lentFolder = "lent"

// KeepLent keeps what a narrow copy was made of, under the copy's name, and
// returns the file.
func (d *Desk) KeepLent(l *table.Lent, name string) (string, error) {
	stem := strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	path := filepath.Join(d.Dir, lentFolder, l.Snapshot[:8]+"-"+Slug(stem)+".json")
	b, err := json.Marshal(l)
	if err != nil {
		return path, err
	}
	return path, writeWithFolder(d.FS, path, append(b, '\n'), private)
}

// Lends lists what was lent of a snapshot, by the names of the copies. What
// cannot be read is left out: it was kept only to be recognised.
func (d *Desk) Lends(sha256 string) []*table.Lent {
	entries, _ := d.FS.ReadDir(filepath.Join(d.Dir, lentFolder))
	var all []*table.Lent
	for _, e := range entries {
		if len(sha256) < 8 || !strings.HasPrefix(e.Name(), sha256[:8]+"-") {
			continue
		}
		b, err := disk.ReadFile(d.FS, filepath.Join(d.Dir, lentFolder, e.Name()))
		l := new(table.Lent)
		if err == nil && json.Unmarshal(b, l) == nil && l.Version == 1 && l.Snapshot == sha256 {
			all = append(all, l)
		}
	}
	return slices.Clip(all)
}
