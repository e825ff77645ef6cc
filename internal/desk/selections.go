package desk

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"paletwin/core/yamltext"
	"paletwin/internal/disk"
)

// Selection is what was lent or taken, kept under a name for next month.
type Selection struct {
	RecordSet string   `yaml:"record_set"`
	Target    string   `yaml:"target,omitempty"` // of what was taken
	Fields    []string `yaml:"fields,omitempty"`
	Where     string   `yaml:"where,omitempty"`
}

// ErrSelection says that a selection's file cannot be read.
var ErrSelection = errors.New("it is no selection")

func (d *Desk) selectionPath(name string) string {
	return filepath.Join(d.Dir, "selections", stem(name)+".yaml")
}

// Selection reads the selection with a name.
func (d *Desk) Selection(name string) (*Selection, error) {
	path := d.selectionPath(name)
	b, err := disk.ReadFile(d.FS, path)
	if err != nil {
		return nil, err
	}
	s := new(Selection)
	if err := yamltext.Unmarshal(b, s, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %w: %s", d.rel(path), ErrSelection, strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	return s, nil
}

// SelectionNames lists the selections there are.
func (d *Desk) SelectionNames() []string { return d.yamlNames("selections") }

// KeptError says that something else is kept under a name.
type KeptError struct{ What, Name, File string }

func (e *KeptError) Error() string {
	return "the desk keeps another " + e.What + " as " + e.Name + ": " + e.File
}

// MayKeep refuses a selection under whose name another is kept: *KeptError. A target that is not known yet is no difference.
func (d *Desk) MayKeep(name string, s *Selection) error {
	there, err := d.Selection(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	same := err == nil && there.RecordSet == s.RecordSet && there.Where == s.Where && slices.Equal(there.Fields, s.Fields) && (s.Target == "" || s.Target == there.Target)
	if same {
		return nil
	}
	return &KeptError{"selection", name, d.rel(d.selectionPath(name))}
}

// KeepSelection keeps a selection under a name, in the place of one that had
// it, and returns its file.
func (d *Desk) KeepSelection(name string, s *Selection) (string, error) {
	path := d.selectionPath(name)
	b, err := yaml.Marshal(s)
	if err != nil {
		return path, err
	}
	text := "# Lent again with: paletwin lend SNAPSHOT --again " + stem(name) + "\n" + string(b)
	if s.Target != "" {
		text = "# Taken again with: paletwin take --again " + stem(name) + " -o FILE\n" + string(b)
	}
	return path, writeWithFolder(d.FS, path, []byte(text), shared)
}
