package desk

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"paletwin/internal/disk"
)

// takenFolder holds what snapshots that were taken of a database were taken of, so
// that one is known again: its CSV tells null from the empty text.
const takenFolder = "taken"

// Taken is a snapshot that was taken of a target.
type Taken struct {
	Version  int               `json:"version"`
	Target   string            `json:"target"`
	Snapshot string            `json:"snapshot"` // SHA-256 of the file
	Size     int64             `json:"size"`
	Records  int               `json:"records"`
	Key      []string          `json:"key"`
	Types    map[string]string `json:"types"` // of the fields, as the target writes them
	Fields   []string          `json:"fields,omitempty"`
	Where    string            `json:"where,omitempty"`
	By       string            `json:"by"`
	When     time.Time         `json:"when"`
}

// KeepTaken keeps what was taken, under the name of the file that it is in.
func (d *Desk) KeepTaken(t *Taken, name string) error {
	b, err := json.Marshal(t)
	if err != nil {
		return err
	}
	path := filepath.Join(d.Dir, takenFolder, t.Snapshot[:8]+"-"+Slug(strings.TrimSuffix(filepath.Base(name), filepath.Ext(name)))+".json")
	return writeWithFolder(d.FS, path, append(b, '\n'), private)
}

// TakenAs returns what a file was taken of, nil where it was not. What cannot be read
// counts for nothing: it is kept only to be recognised.
func (d *Desk) TakenAs(path string) *Taken {
	info, err := d.FS.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return nil
	}
	return d.takenAs(info.Size(), sync.OnceValues(func() (string, error) { return disk.Sum(d.FS, path) }))
}

// Taken returns what the dossier's snapshot was taken of, nil where it was not.
func (t *Dossier) Taken() *Taken {
	in := t.Meta.Snapshot
	if in == nil {
		return nil
	}
	return t.desk.takenAs(in.Size, func() (string, error) { return in.SHA256, nil })
}

// takenAs is TakenAs of a file of so many bytes, whose digest is asked for where it decides.
func (d *Desk) takenAs(size int64, sum func() (string, error)) *Taken {
	entries, _ := d.FS.ReadDir(filepath.Join(d.Dir, takenFolder))
	for _, e := range entries {
		b, err := disk.ReadFile(d.FS, filepath.Join(d.Dir, takenFolder, e.Name()))
		t := new(Taken)
		if err != nil || json.Unmarshal(b, t) != nil || t.Version != 1 || t.Size != size {
			continue
		}
		if is, err := sum(); err == nil && t.Snapshot == is {
			return t
		}
	}
	return nil
}
