package desk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"

	"paletwin/internal/disk"
)

// Selection is what was lent, kept under a name to be lent again next month.
type Selection struct {
	RecordSet string   `yaml:"record_set"`
	Fields    []string `yaml:"fields,omitempty"`
	Where     string   `yaml:"where,omitempty"`
}

// ErrSelection says that a selection's file cannot be read.
var ErrSelection = errors.New("it is no selection")

func (d *Desk) selectionPath(name string) string {
	return filepath.Join(d.Dir, "selections", slug(name)+".yaml")
}

// Selection reads the selection with a name.
func (d *Desk) Selection(name string) (*Selection, error) {
	path := d.selectionPath(name)
	b, err := disk.ReadFile(d.FS, path)
	if err != nil {
		return nil, err
	}
	s := new(Selection)
	if err := yaml.UnmarshalWithOptions(b, s, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %w: %s", d.rel(path), ErrSelection, strings.TrimSpace(yaml.FormatError(err, false, true)))
	}
	return s, nil
}

// SelectionNames lists the selections there are.
func (d *Desk) SelectionNames() []string {
	entries, err := d.FS.ReadDir(filepath.Join(d.Dir, "selections"))
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		if n, ok := strings.CutSuffix(e.Name(), ".yaml"); ok {
			names = append(names, n)
		}
	}
	return names
}

// KeepSelection keeps a selection under a name, in the place of one that had
// it, and returns its file.
func (d *Desk) KeepSelection(name string, s *Selection) (string, error) {
	path := d.selectionPath(name)
	for _, dir := range []string{d.Dir, filepath.Dir(path)} {
		if err := d.FS.Mkdir(dir); err != nil && !errors.Is(err, os.ErrExist) && !errors.Is(err, fs.ErrExist) {
			return path, err
		}
	}
	b, err := yaml.Marshal(s)
	if err != nil {
		return path, err
	}
	text := "# Lent again with: paletwin lend SNAPSHOT --again " + slug(name) + "\n" + string(b)
	_, err = disk.WriteFile(d.FS, path, 0o644, func(w io.Writer) error {
		_, err := io.WriteString(w, text)
		return err
	})
	return path, err
}
