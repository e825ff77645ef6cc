package desk

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"paletwin/core/layout"
	"paletwin/core/schema"
	"paletwin/core/shape"
	"paletwin/core/table"
	"paletwin/internal/disk"
)

// Layout is a layout with its file and the files of its lists.
type Layout struct {
	*layout.Layout
	Path  string
	lists map[string]string // the lists' files by the names that the layout gives them
}

// Reading completes how a table of the record set is read: its columns get the names of fields, and
// one in another shape that the layout speaks of a row for each record. l may be nil.
func Reading(l *layout.Layout, o table.Options, snapshot bool) table.Options {
	if l != nil {
		o.SheetAs = l.SheetAs
	}
	o.Rename = func(m *table.Image) {
		layout.NameColumns(m, o.Columns)
		l.Rename(m)
	}
	o.Reshape = func(m *table.Image) (*table.Image, error) { return shape.Of(l, m, snapshot) }
	return o
}

// knows counts the headings that a layout, a source's columns or the snapshot know. l may be nil.
func (l *Layout) knows(columns map[string]string, snapshot []string) func([]string) int {
	known := map[string]bool{}
	add := func(h string) { known[layout.HeadingForm(h)] = true }
	for h := range columns {
		add(h)
	}
	for _, h := range snapshot {
		add(h)
	}
	if l != nil {
		for i := range l.Fields {
			for _, h := range append([]string{l.Fields[i].Name}, l.Fields[i].Aliases...) {
				add(h)
			}
		}
	}
	delete(known, "")
	if len(known) == 0 {
		return nil
	}
	return func(headings []string) (n int) {
		for _, h := range headings {
			if known[layout.HeadingForm(h)] {
				n++
			}
		}
		return n
	}
}

// Stands completes how the snapshot is read by what the layout says of where it stands.
func (l *Layout) Stands(o *table.Options) {
	o.HeadingRow, o.Sheet = cmp.Or(o.HeadingRow, l.HeadingRow), cmp.Or(o.Sheet, l.Sheet)
	o.Encoding, o.Delimiter = cmp.Or(o.Encoding, l.Encoding), cmp.Or(o.Delimiter, l.Delimiter)
}

// Reading is the function of this name for this layout, which may be nil.
func (l *Layout) Reading(o table.Options, snapshot bool) table.Options {
	if l == nil {
		if o.Columns != nil {
			o.Rename = func(m *table.Image) { layout.NameColumns(m, o.Columns) }
		}
		return o
	}
	return Reading(l.Layout, o, snapshot)
}

// LayoutPath is where a record set's layout stands on the desk: in layouts, whatever the set is called.
func (d *Desk) LayoutPath(set string) string {
	if !isName(set+".yaml") || device.MatchString(set) {
		set = stem(set)
	}
	return filepath.Join(d.Dir, "layouts", set+".yaml")
}

// FindLayout opens the layout of a record set; nil if it has none.
func (d *Desk) FindLayout(set string) (*Layout, error) {
	l, err := d.OpenLayout(d.LayoutPath(set))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return l, err
}

// OpenLayout opens a layout. Its lists are looked for beside it, in the
// desk's folder, and in those that desk.yaml names. Errors are layout.Errors where it is wrong.
func (d *Desk) OpenLayout(path string) (*Layout, error) { return d.openLayout(path, nil) }

// openLayout is OpenLayout on the way from other layouts, whose files above
// lists.
func (d *Desk) openLayout(path string, above []string) (*Layout, error) {
	b, err := disk.ReadFile(d.FS, path)
	if err != nil {
		return nil, err
	}
	src := d.listsBeside(path)
	l, err := layout.Parse(d.rel(path), b, src)
	if err != nil {
		return nil, err
	}
	if l.RecordSet == "" {
		l.RecordSet = strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	}
	above = append(slices.Clone(above), path)
	for i := range l.Fields {
		if err := d.follow(path, &l.Fields[i], above); err != nil {
			return nil, err
		}
	}
	return &Layout{l, path, src.found}, nil
}

// follow goes on to the layout of the record set that a field refers to, and
// refuses a way that leads back: records that need each other can be neither
// added nor deleted in an order.
func (d *Desk) follow(path string, f *layout.Field, above []string) error {
	if f.List == nil {
		return nil
	}
	next := filepath.Join(filepath.Dir(path), f.List.Set()+".yaml")
	if next == path {
		return nil // a record may refer to another of its own set
	}
	if slices.Contains(above, next) {
		return layout.Errors{{File: d.rel(path), Line: f.Line, Column: 1, Text: "the references go round in a circle: field " + f.Name + " leads back to " + d.rel(next),
			Hint: "make one of the fields a text, or its list a file of its own"}}
	}
	_, err := d.openLayout(next, above)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// rel is a file's name as a person at the desk would type it.
func (d *Desk) rel(path string) string {
	if r, err := filepath.Rel(d.Dir, path); err == nil && !strings.HasPrefix(r, "..") {
		return r
	}
	return path
}

// lists opens the lists of a layout.
type lists struct {
	fsys     disk.FS
	password string
	dirs     []string
	found    map[string]string
}

// errOutside says that a list is in a folder that is not the desk's business.
var errOutside = errors.New("it is outside of the desk; if it is meant, name its folder in desk.yaml, lists: [FOLDER]")

// within reports whether a file is in one of the folders in which lists may be, links followed: a layout that somebody else wrote reads
// nothing elsewhere.
func (s *lists) within(path string) bool {
	file := real(path)
	return slices.ContainsFunc(s.dirs, func(dir string) bool {
		r, err := filepath.Rel(real(dir), file)
		return err == nil && filepath.IsLocal(r)
	})
}

// real is a path with its links followed, as far as it is there.
func real(path string) string {
	if r, err := filepath.EvalSymlinks(path); err == nil {
		return r
	}
	return filepath.Clean(path)
}

// listsBeside are the lists that a file of the desk may name: beside it, in the desk's folder, and in those that desk.yaml names.
func (d *Desk) listsBeside(path string) *lists {
	return &lists{fsys: d.FS, password: d.Password, found: map[string]string{}, dirs: append([]string{filepath.Dir(path), d.Dir, filepath.Dir(filepath.Dir(path))}, d.Settings.Lists...)}
}

// List opens a list: the first file of its name, or of its name with an
// ending, in the folders that are looked at.
func (s *lists) List(name string) (*table.Image, error) {
	outside := false
	for _, dir := range s.dirs {
		for _, ext := range []string{"", ".csv", ".xlsx"} {
			path, sheet := filepath.Join(dir, name+ext), ""
			if filepath.IsAbs(name) {
				path = name + ext
			}
			if i := strings.LastIndexByte(path, '#'); i > 0 && ext == "" { // a sheet of a workbook
				if _, err := s.fsys.Stat(path); err != nil {
					path, sheet = path[:i], path[i+1:]
				}
			}
			if info, err := s.fsys.Stat(path); err != nil || info.IsDir() {
				continue
			}
			if !s.within(path) {
				outside = true
				continue
			}
			s.found[name] = path
			b, err := disk.ReadFile(s.fsys, path)
			if err != nil {
				return nil, err
			}
			return openBytes(filepath.Base(path), b, table.Options{Password: s.password, Sheet: sheet})
		}
	}
	err := errors.New("there is no such file")
	if outside {
		err = errOutside
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: err}
}

// keptLists opens the lists that a dossier keeps.
type keptLists struct{ t *Dossier }

func (k keptLists) List(name string) (*table.Image, error) {
	b, err := k.t.readKept(listName(name))
	if err != nil {
		return nil, err
	}
	_, sheet, _ := strings.Cut(name, "#")
	return openBytes(name, b, table.Options{Password: k.t.desk.Password, Sheet: sheet})
}

// listName is what a list is called in a dossier.
func listName(name string) string { return "list." + Slug(strings.TrimSuffix(name, ".csv")) }

// LayoutName is what the layout of a record set is called in a dossier.
func LayoutName(set string) string { return "layout." + Slug(set) + ".yaml" }

// keepLayout copies a layout and its lists into a draft, and returns the copies'
// digests by name.
func keepLayout(fsys disk.FS, dir, set string, l *Layout) (map[string]string, error) {
	if l == nil {
		return nil, nil
	}
	from := map[string]string{LayoutName(set): l.Path}
	for name, path := range l.lists {
		from[listName(name)] = path
	}
	return keepCopies(fsys, dir, from)
}

// keepCopies copies files into a draft, by the names that they get there, and returns the copies' digests.
func keepCopies(fsys disk.FS, dir string, from map[string]string) (map[string]string, error) {
	sums := make(map[string]string, len(from))
	for name, path := range from {
		to := filepath.Join(dir, name)
		err := disk.Copy(fsys, path, to)
		if err == nil {
			sums[name], err = disk.Sum(fsys, to)
		}
		if err != nil {
			return nil, err
		}
	}
	return sums, nil
}

// readKept reads a copy of a layout or a list and checks its digest.
func (t *Dossier) readKept(name string) ([]byte, error) {
	b, err := disk.ReadFile(t.desk.FS, t.Path(name))
	want, known := t.Meta.Files[name]
	switch sum := sha256.Sum256(b); {
	case errors.Is(err, fs.ErrNotExist) && known:
		return nil, &DamageError{t.Path(name), ErrMissing}
	case err != nil:
		return nil, err
	case (known || t.Covered()) && hex.EncodeToString(sum[:]) != want:
		return nil, &DamageError{t.Path(name), ErrAltered}
	}
	return b, nil
}

// CheckKept compares the files that dossier.json has digests of with these.
func (t *Dossier) CheckKept() error {
	for name := range t.Meta.Files {
		if _, err := t.readKept(name); err != nil {
			return err
		}
	}
	return nil
}

// Layout returns the layout that the dossier was made with, or nil. A dossier
// that undoes another has that one's.
func (t *Dossier) Layout() (*layout.Layout, error) {
	if t.layoutRead {
		return t.layout, nil
	}
	file := t.Path(LayoutName(t.Set().Name))
	b, err := t.readKept(LayoutName(t.Set().Name))
	switch {
	case errors.Is(err, fs.ErrNotExist) && t.Meta.Undoes != nil:
		from, ferr := t.desk.Dossier(t.Meta.Undoes.Dossier, "")
		if ferr != nil {
			return nil, ferr
		}
		t.layout, err = from.Layout()
	case errors.Is(err, fs.ErrNotExist):
		err = nil
	case err == nil:
		if t.layout, err = layout.Parse(t.Rel(file), b, keptLists{t}); err != nil {
			var damage *DamageError
			if !errors.As(err, &damage) { // of a list
				err = &DamageError{file, err}
			}
		}
	}
	if err == nil && t.layout != nil {
		err = t.addedAlong()
	}
	t.layoutRead = err == nil
	return t.layout, err
}

// OutwardLayout is the dossier's layout with what that of the desk says by now of the system that takes load files: how it wants
// values may have been learnt since.
func (t *Dossier) OutwardLayout() (*layout.Layout, error) {
	l, err := t.Layout()
	if err != nil || l == nil {
		return l, err
	}
	now, err := t.desk.FindLayout(t.Set().Name)
	if err != nil || now == nil {
		return l, err
	}
	return l.Speaking(now.Layout), nil
}

// Schema returns what says when two of the dossier's values or keys are one.
func (t *Dossier) Schema() (*schema.Schema, error) {
	l, err := t.Layout()
	s := l.Schema()
	if t.Tells() {
		s = s.Telling()
	}
	return s, err
}

// LayoutNames lists the record sets that have a layout on the desk, without those of joined sheets.
func (d *Desk) LayoutNames() []string {
	return slices.DeleteFunc(d.yamlNames("layouts"), func(name string) bool {
		b, err := disk.ReadFile(d.FS, d.LayoutPath(name))
		return err == nil && layout.IsJoined(b)
	})
}

// yamlNames lists the YAML files of one of the desk's folders, without the ending.
func (d *Desk) yamlNames(folder string) []string {
	entries, err := d.FS.ReadDir(filepath.Join(d.Dir, folder))
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

// WriteNew writes a file that is not there yet, with its folder and the one
// above; it returns fs.ErrExist where it is.
func WriteNew(fsys disk.FS, path string, b []byte) error {
	if _, err := fsys.Lstat(path); err == nil {
		return &fs.PathError{Op: "write", Path: path, Err: fs.ErrExist}
	}
	return writeWithFolder(fsys, path, b, shared)
}

// Modes of files on the desk: those that people write and share, and those that have keys of records.
const (
	shared  fs.FileMode = 0o644
	private fs.FileMode = 0o600
)

func writeWithFolder(fsys disk.FS, path string, b []byte, mode fs.FileMode) error {
	for _, dir := range []string{filepath.Dir(filepath.Dir(path)), filepath.Dir(path)} {
		if err := fsys.Mkdir(dir); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	_, err := disk.WriteUnsummed(fsys, path, mode, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
	return err
}
