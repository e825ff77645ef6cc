package desk

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/internal/disk"
)

// Sender is a source of the desk, with its file and the files of its lists.
type Sender struct {
	*layout.Sender
	Path  string
	lists map[string]string
}

func (d *Desk) senderPath(name string) string {
	return filepath.Join(d.Dir, "sources", stem(name)+".yaml")
}

// SenderError says that there is no source of a name.
type SenderError struct{ Name, There string }

func (e *SenderError) Error() string {
	return "there is no source " + e.Name + "; there are " + either(e.There, "none yet: compare SNAPSHOT FILE --as NAME keeps one")
}

// Sender reads the source with a name: *SenderError where there is none, layout.Errors where it is wrong.
func (d *Desk) Sender(name string) (*Sender, error) {
	path := d.senderPath(name)
	b, err := disk.ReadFile(d.FS, path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &SenderError{name, strings.Join(d.SenderNames(), ", ")}
	}
	if err != nil {
		return nil, err
	}
	src := d.listsBeside(path)
	s, err := layout.ParseSender(d.rel(path), b, src)
	if err != nil {
		return nil, err
	}
	s.Name = name
	return &Sender{s, path, src.found}, nil
}

// SenderNames lists the sources there are.
func (d *Desk) SenderNames() []string { return d.yamlNames("sources") }

// MayKeepSender refuses a source under whose name there is one: *KeptError.
func (d *Desk) MayKeepSender(name string) error {
	if slices.Contains(d.SenderNames(), stem(name)) {
		return &KeptError{"source", name, d.rel(d.senderPath(name))}
	}
	return nil
}

// KeepSender keeps a source under a name, in the place of one that had it, and returns its file. What
// translations the one before had stay.
func (d *Desk) KeepSender(name string, s *layout.Sender) (string, error) {
	path := d.senderPath(name)
	b, err := s.Marshal()
	if err != nil {
		return path, err
	}
	text := "# How files from " + name + " are read: paletwin compare SNAPSHOT FILE --source " + stem(name) + "\n"
	if len(s.Translate) == 0 {
		text += "# Codes of theirs that become ours, by field: a list beside with two columns, or the values themselves.\n" +
			"# translate:\n#   depot: their-depots.csv\n#   status: {values: {OK: in_service}}\n"
	}
	text += string(b)
	if old, err := disk.ReadFile(d.FS, path); err == nil && len(s.Translate) > 0 {
		text += clause(string(old), "translate:")
	}
	return path, writeWithFolder(d.FS, path, []byte(text), shared)
}

// clause is a clause of a YAML file as it is written: its line, and those that are indented below it.
func clause(text, name string) string {
	var b strings.Builder
	in := false
	for line := range strings.Lines(text) {
		if indented := strings.HasPrefix(line, " "); !indented {
			in = strings.HasPrefix(line, name)
		}
		if in {
			b.WriteString(line)
		}
	}
	return b.String()
}

// about says what a source is.
func (s *Sender) about() string {
	if s.Description != "" {
		return s.Description
	}
	var parts []string
	if n := len(s.Columns); n > 0 {
		parts = append(parts, fmt.Sprintf("%d columns mapped", n))
	}
	if s.Sheet != "" {
		parts = append(parts, "sheet "+s.Sheet)
	}
	if s.Missing != "" {
		parts = append(parts, "missing "+s.Missing)
	}
	if s.Blank != "" {
		parts = append(parts, "blank "+s.Blank)
	}
	return strings.Join(parts, ", ")
}

// Over is layout.Sender.Over for a layout with its files. Either may be nil.
func (s *Sender) Over(l *Layout) (*Layout, error) {
	if s == nil {
		return l, nil
	}
	var from *layout.Layout
	if l != nil {
		from = l.Layout
	}
	over, err := s.Sender.Over(from)
	if err != nil || l == nil {
		return l, err
	}
	return &Layout{over, l.Path, l.lists}, nil
}

// keep copies a source and its lists into a draft, beside a layout and its lists, and adds the copies' digests by name.
func (s *Sender) keep(fsys disk.FS, dir string, sums *map[string]string) error {
	if s == nil || s.Path == "" {
		return nil
	}
	from := map[string]string{"source.yaml": s.Path}
	for name, path := range s.lists {
		from["source."+listName(name)] = path
	}
	more, err := keepCopies(fsys, dir, from)
	if err != nil {
		return err
	}
	if *sums == nil {
		*sums = map[string]string{}
	}
	maps.Copy(*sums, more)
	return nil
}

// lost says which columns the copies lack that files of their source had. That of a key is no comparison.
func (c *Comparison) lost(in *inputs) error {
	if c.Edited == nil || len(in.edited) == 0 {
		return nil
	}
	c.Headings = in.edited[0].FileHeadings()
	if c.Sender == nil {
		return nil
	}
	for _, k := range in.edited {
		for _, x := range c.Sender.Lost(k.Image, in.snapshot.Heading) {
			if slices.Contains(c.Options.Key, x.Field) {
				return &compare.Refusal{Code: compare.NoKeyColumn, File: k.Name, Column: x.Field, Text: k.Name + ": " + x.Words(), Columns: k.FileHeadings()}
			}
			f := changeset.SourceColumn.Finding("%s", x.Words())
			f.File, f.Column = k.Name, x.Field
			c.Options.Findings = append(c.Options.Findings, f)
		}
		for _, h := range slices.Sorted(maps.Keys(c.Sender.Columns)) {
			field := c.Sender.Columns[h]
			if !slices.Contains(in.snapshot.Heading, field) {
				f := changeset.SourceColumn.Finding("the heading %q is mapped to %q, and the snapshot has no such field", h, field)
				f.File, f.Column = k.Name, field
				c.Options.Findings = append(c.Options.Findings, f)
			}
		}
	}
	return nil
}
