package desk

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Kept is something that a desk keeps under a name.
type Kept struct {
	Kind   string    `json:"kind"` // layout, source, selection, routine, target
	Name   string    `json:"name"`
	File   string    `json:"file,omitempty"`   // from the desk's folder; a target has none
	When   time.Time `json:"when,omitzero"`    // when it was written last
	About  string    `json:"about,omitempty"`  // what it is
	Broken string    `json:"broken,omitempty"` // why it cannot be read
	To     string    `json:"to,omitempty"`     // of a target: where it is
	Trial  bool      `json:"trial,omitempty"`  // of a target: it is for trying
}

// Kept lists what the desk keeps under names, by kind and name. What cannot be read says why.
func (d *Desk) Kept() []Kept {
	var all []Kept
	add := func(kind, folder string, about func(name string) (string, error)) {
		for _, name := range d.yamlNames(folder) {
			file := filepath.Join(folder, name+".yaml")
			k := Kept{Kind: kind, Name: name, File: filepath.ToSlash(file)}
			if info, err := d.FS.Stat(filepath.Join(d.Dir, file)); err == nil {
				k.When = info.ModTime()
			}
			var err error
			if k.About, err = about(name); err != nil {
				k.Broken = err.Error()
			}
			all = append(all, k)
		}
	}
	joined := map[string]bool{}
	for _, name := range d.yamlNames("layouts") {
		joined[name] = true
	}
	for _, name := range d.LayoutNames() {
		delete(joined, name)
	}
	add("layout", "layouts", func(name string) (string, error) {
		if joined[name] {
			return "of a joined sheet", nil
		}
		l, err := d.OpenLayout(d.LayoutPath(name))
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%d fields; key %s", len(l.Fields), strings.Join(l.Key, ",")), nil
	})
	add("source", "sources", func(name string) (string, error) {
		s, err := d.Sender(name)
		if err != nil {
			return "", err
		}
		return s.about(), nil
	})
	add("selection", "selections", func(name string) (string, error) {
		s, err := d.Selection(name)
		if err != nil {
			return "", err
		}
		words := "of " + s.RecordSet
		if s.Target != "" {
			words = "of " + s.Target
		}
		if s.Where != "" {
			words += ", where " + s.Where
		}
		return words, nil
	})
	add("routine", "routines", func(name string) (string, error) {
		r, err := d.Routine(name)
		if err != nil {
			return "", err
		}
		return r.Description, nil
	})
	for _, name := range slices.Sorted(maps.Keys(d.Settings.Targets)) {
		t := d.Settings.Targets[name]
		all = append(all, Kept{Kind: "target", Name: name, To: t.To, Trial: t.Trial})
	}
	return all
}
