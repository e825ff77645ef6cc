package desk

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"

	"github.com/zeebo/xxh3"

	"paletwin/internal/disk"
)

// This file is for those who list many dossiers, and look into few of them.

// Folders lists the dossiers' folders by number.
func (d *Desk) Folders() ([]string, error) { return d.names() }

// In opens the dossier in one of all folders; of one of several record sets these, each as a dossier. One that cannot be
// opened is given with its error; where the folder is a copy, there is none, and Copies has it.
func (d *Desk) In(folder string, all []string) []*Dossier {
	t, err := d.open(folder)
	if err != nil {
		return []*Dossier{{desk: d, Dir: filepath.Join(d.dossiers(), folder), Damage: err}}
	}
	if t.copyOf(all) {
		d.Copies = append(d.Copies, &CopyError{folder, t.Meta.Number})
		return nil
	}
	return t.parts()
}

// UndoneBy says, for as long as f runs, in which folders the dossiers stand that undo runs of one, by its number: they are
// opened when they are asked for. all are the folders that there are.
func (d *Desk) UndoneBy(by map[string][]string, all []string, f func()) {
	d.undoing = undoing{names: all, folders: by, by: map[string][]*Dossier{}}
	d.steady = true
	defer func() { d.steady, d.undoing = false, undoing{} }()
	f()
}

// Mark is another one when any file of the dossier in a folder, or of its runs, was written to, came or went: it is made of their names,
// sizes and times. What stands in the folders of several record sets is not looked at.
func (d *Desk) Mark(folder string) (string, error) {
	return markOf(d.FS, filepath.Join(d.dossiers(), folder))
}

func markOf(fsys disk.FS, folder string) (string, error) {
	h := xxh3.New128()
	var number [8]byte
	dirs := []string{"", "runs"}
	for at := 0; at < len(dirs); at++ {
		dir := dirs[at]
		entries, err := fsys.ReadDir(filepath.Join(folder, dir))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		for _, e := range entries {
			name := filepath.Join(dir, e.Name())
			if e.Name() == ".lock" {
				continue
			}
			_, _ = h.WriteString(name) // a hash never fails
			if e.IsDir() {
				if dir == "runs" {
					dirs = append(dirs, name)
				}
				continue
			}
			info, err := e.Info()
			if err != nil {
				return "", fmt.Errorf("%s: %w", name, err)
			}
			for _, n := range []int64{-1, info.Size(), info.ModTime().UnixNano(), disk.Changed(info)} {
				binary.LittleEndian.PutUint64(number[:], uint64(n))
				_, _ = h.Write(number[:])
			}
		}
	}
	sum := h.Sum128().Bytes()
	return hex.EncodeToString(sum[:]), nil
}

// keptName is the file that has what the list of dossiers showed last. It is believed of no dossier whose mark is another one.
const keptName = "list.json"

// KeptList reads what was kept of the list of dossiers; nothing where there is none.
func (d *Desk) KeptList() []byte {
	b, err := disk.ReadFile(d.FS, filepath.Join(d.dossiers(), keptName))
	if err != nil {
		return nil
	}
	return b
}

// KeepList keeps what the list of dossiers shows, where anything is written at all. What goes wrong with it is no matter: it is made again.
func (d *Desk) KeepList(b []byte) {
	if !d.way.Dry {
		_ = disk.WriteBytes(d.FS, filepath.Join(d.dossiers(), keptName), b)
	}
}
