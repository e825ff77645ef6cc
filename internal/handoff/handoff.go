// Package handoff takes changes to systems that only take files. It writes
// load files of them and, beside these, the load files that undo exactly
// them; and it reads the results that such a system answers with.
//
// A System is a target like any other, but for one thing: what becomes of a
// step is known only when its answer is collected, or when a fresh export is
// held against it. What the system has is known from an export: the snapshot,
// or a newer one.
//
// Load files hold exact values. The guard against formulas is for review
// sheets alone.
package handoff

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/table/jsonl"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Form is a form of load files.
type Form string

const (
	CSV       Form = "csv"
	XLSX      Form = "xlsx"
	JSONL     Form = "jsonl"
	SQL       Form = "sql"
	JSONPatch Form = "json-patch"
)

// Forms are all of them.
var Forms = []Form{CSV, XLSX, JSONL, SQL, JSONPatch}

// rows reports whether the form is a table, for which there are shapes.
func (f Form) rows() bool { return f == CSV || f == XLSX || f == JSONL }

// Shape says which cells of amended records are sent.
type Shape string

const (
	Grouped  Shape = "grouped"   // one file for each set of fields that change together
	Sparse   Shape = "sparse"    // one file, in which cells that do not change are empty
	PerField Shape = "per-field" // one file for each field
	Full     Shape = "full"      // one file with all fields that may be written
)

// Shapes are all of them.
var Shapes = []Shape{Grouped, Sparse, PerField, Full}

// Options say what the load files look like.
type Options struct {
	Form       Form
	Shape      Shape
	Dialect    Dialect // of SQL
	Into       string  // of SQL: the table's name; "" is the record set's
	Delimiter  byte    // of CSV; 0 is the export's, or a comma
	Encoding   string  // of CSV; "" is the export's, or UTF-8
	LineEnds   string  // of CSV: "lf" or "crlf"; "" is the export's, or lf
	Outward    layout.Outward
	Full       bool  // deletes with all fields, not only the key's
	MaxRecords int   // in a file; 0 is any
	MaxBytes   int64 // of a file; 0 is any
}

// Error is a hand-off that cannot be made as it was asked for.
type Error struct {
	Code string
	Text string
}

func (e *Error) Error() string { return e.Text }

// Codes of errors.
const (
	NeedsCurrent = "needs-current" // a fresh export is needed
	NeedsFresh   = "needs-fresh"   // a fresh export is to be named
	NeedsBlank   = "needs-blank"   // it is not known what a blank cell does there
	TwiceHeading = "outward-twice" // two fields have one name there
)

// Export is a state of the system, as an export of it tells.
type Export struct {
	Image  *table.Image
	Raw    []byte // the file
	Ext    string // of its name
	Fresh  bool   // it was made for this hand-off, or for the rollback that is handed off
	File   string // its name, where it is kept already: the dossier's snapshot; else ""
	SHA256 string // of File
}

// System is a system that only takes files. It is a target.Handing.
type System struct {
	Options
	FS      disk.FS
	Dossier string // its number, for the README
	Title   string
	Set     string // the record set's name
	Key     []string
	Layout  *layout.Layout // or nil
	Whole   []string       // without a layout, the fields of a whole record
	Export  *Export
	// Dir returns the folder for the files of a run.
	Dir func(run int) string

	run   int
	loads []target.Load
	words map[string]*layout.Wording
	whole map[record.Key]record.Record // of the shape that needs them
	enc   encoder
	order map[string]int // of fields
	seen  jsonl.Types    // of the fields of an export that is JSON
}

// Open makes the system ready; it completes the options from the export.
func (s *System) Open() error {
	found := s.Export.Image.Found
	if s.Delimiter == 0 {
		s.Delimiter = ','
		if found.Format == "csv" {
			s.Delimiter = s.Export.Image.Comma
		}
	}
	if found.Format == "csv" {
		if s.LineEnds == "" {
			s.LineEnds = found.Newline
		}
		if s.Encoding == "" {
			s.Encoding, s.enc.mark = found.Encoding, found.BOM
		}
	}
	if s.Into == "" {
		s.Into = s.Set
	}
	s.words, s.whole, s.order = map[string]*layout.Wording{}, map[record.Key]record.Record{}, map[string]int{}
	for i, f := range s.Export.Image.Heading {
		s.order[f] = i
	}
	s.learn()
	called := map[string]string{}
	for _, f := range s.Export.Image.Heading {
		w, err := s.Layout.Wording(f, s.Outward)
		if err != nil {
			return err
		}
		s.words[f] = w
		if other, twice := called[w.Heading]; twice && f != "" {
			return &Error{TwiceHeading, fmt.Sprintf("the fields %s and %s are both called %q outside", other, f, w.Heading)}
		}
		called[w.Heading] = f
	}
	return s.enc.use(s.Encoding, s.Form)
}

// word is how the system words a field. Those of the export are known; another
// has the same forms, or none.
func (s *System) word(field string) *layout.Wording {
	if w := s.words[field]; w != nil {
		return w
	}
	w, err := s.Layout.Wording(field, s.Outward)
	if err != nil {
		w = &layout.Wording{Heading: field}
	}
	return w
}

// Name is what stands for a place.
func (s *System) Name() string { return "load files" }

// Fields lists the fields of the export.
func (s *System) Fields() []string { return s.Export.Image.Heading }

// Current looks the records up in the export.
func (s *System) Current(_ context.Context, keys []record.Key) ([]target.State, error) {
	found, count, err := csv.LookupAll(s.Export.Image, s.Key, keys)
	if err != nil {
		return nil, err
	}
	states := make([]target.State, len(keys))
	for i := range states {
		states[i] = target.State{Count: count[i], Record: found[i]}
		if s.Shape == Full {
			s.whole[keys[i]] = found[i]
		}
	}
	return states, nil
}

// AsMade reports whether the export is the snapshot that the steps were made
// from, and neither rules nor the shape need whole records.
func (s *System) AsMade() bool {
	return s.Export.File != "" && s.Shape != Full && (s.Layout == nil || len(s.Layout.Rules) == 0)
}

// Ext is the ending of the export's name.
func (s *System) Ext() string { return s.Export.Ext }

// Backup writes the export.
func (s *System) Backup(_ context.Context, w io.Writer) error {
	return table.Guard(func() error { _, err := w.Write(s.Export.Raw); return err })
}

// From is the export's name.
func (s *System) From() string { return s.Export.Image.Name }

// Kept names the export's file, where it is the dossier's snapshot.
func (s *System) Kept() (string, string) { return s.Export.File, s.Export.SHA256 }

// Table gives the export.
func (s *System) Table(context.Context) (*table.Image, func() error, error) {
	return s.Export.Image, func() error { return nil }, nil
}

// Batch is 0: the files are made all at once.
func (s *System) Batch() int { return 0 }

// Run says which run the files belong to.
func (s *System) Run(n int) { s.run = n }

// Loads lists the files that Write made.
func (s *System) Loads() []target.Load { return s.loads }

// Refresh does nothing: the export stays what it is.
func (s *System) Refresh(context.Context) error { return nil }

// Close does nothing: the export belongs to the caller.
func (s *System) Close() error { return nil }

// Check says why steps cannot be handed over: all of them, as an error, or
// one, in words.
func (s *System) Check(steps []target.Step) ([]string, error) {
	var deletes int
	for i := range steps {
		if steps[i].Act == changeset.Delete {
			deletes++
		}
	}
	if err := s.checkExport(deletes); err != nil {
		return nil, err
	}
	if s.Shape == Sparse && s.Form != JSONL && s.Form.rows() {
		if err := s.checkSparse(steps); err != nil {
			return nil, err
		}
	}
	reasons := make([]string, len(steps))
	for i := range steps {
		reasons[i] = s.refuses(&steps[i])
	}
	return reasons, nil
}

// checkExport makes sure that the export says enough.
func (s *System) checkExport(deletes int) error {
	if s.Shape == Full && s.Form.rows() && !s.Export.Fresh {
		return &Error{NeedsCurrent, "the shape full sends every field of a record, and needs to know what they are now"}
	}
	if deletes == 0 {
		return nil
	}
	what := fmt.Sprintf("%d records are to be deleted", deletes)
	if deletes == 1 {
		what = "a record is to be deleted"
	}
	if !s.Export.Fresh {
		return &Error{NeedsCurrent, what + ", and only a fresh export with all fields can bring them back whole"}
	}
	whole := s.Whole
	if s.Layout != nil {
		whole = nil
		for i := range s.Layout.Fields {
			whole = append(whole, s.Layout.Fields[i].Name)
		}
	}
	missing := slices.DeleteFunc(slices.Clone(whole), func(f string) bool { return s.Export.Image.Column(f) >= 0 })
	if len(missing) > 0 {
		return &Error{NeedsCurrent, fmt.Sprintf("%s, and the export has not all fields: it lacks %s", what, strings.Join(missing, ", "))}
	}
	return nil
}

// checkSparse makes sure that a blank cell keeps what is there, for every
// field of a sparse file.
func (s *System) checkSparse(steps []target.Step) error {
	for i := range steps {
		for _, f := range steps[i].Fields {
			if s.word(f.Field).Blank != layout.BlankKeeps {
				return &Error{NeedsBlank, fmt.Sprintf("the shape sparse sends empty cells for what does not change, and the layout does not say that the system keeps %s then", f.Field)}
			}
		}
	}
	return nil
}

// refuses says why a step cannot be handed over, "" where it can.
func (s *System) refuses(st *target.Step) string {
	for _, f := range st.Fields {
		if why := s.unwritable(f.Field, f.To, true); why != "" {
			return why
		}
	}
	beside := st.Record // what is sent and does not change
	switch {
	case st.Act == changeset.Delete:
		beside = nil
	case st.Act == changeset.Amend && s.Shape == Full:
		beside = s.whole[st.Key]
	}
	for _, f := range beside {
		if why := s.unwritable(f.Name, f.Value, false); why != "" {
			return why
		}
	}
	for i, part := range st.Key.Parts() {
		if why := s.unwritable(s.Key[i], record.Text(part), false); why != "" {
			return why
		}
	}
	if s.MaxBytes > 0 {
		if n := s.alone(st); n > s.MaxBytes {
			return fmt.Sprintf("alone it makes a file of %d bytes, and %d are allowed", n, s.MaxBytes)
		}
	}
	return ""
}

// unwritable says why the system cannot be given a value; empties says that a
// blank one is to empty the field, and not only that there is none.
func (s *System) unwritable(field string, v record.Value, empties bool) string {
	w := s.word(field)
	if v.Blank() {
		if _, ok := w.Empty(); empties && !ok && (s.Form == CSV || s.Form == XLSX) {
			return field + " is to be emptied, and the layout does not say how the system is told so"
		}
		return ""
	}
	text := w.Write(v)
	switch {
	case s.Form.rows() && w.Misread(v):
		return fmt.Sprintf("%s: the system takes %q for its sign to empty a field", field, text)
	case s.Form == XLSX && len(text) > maxCell:
		return fmt.Sprintf("%s: a cell of a workbook does not hold %d bytes", field, len(text))
	case s.Form == SQL && strings.ContainsRune(text, 0):
		return field + ": the value has a NUL character, which SQL does not write"
	}
	if letter, ok := s.enc.lacks(text); ok {
		return fmt.Sprintf("%s: the letter %q is not in %s", field, letter, s.Encoding)
	}
	return ""
}

// maxCell is how many characters a cell of a workbook holds; no value of so
// many bytes has more.
const maxCell = 32_767

// inverse returns the steps that undo steps, each from what it leaves behind.
func inverse(steps []*target.Step) []*target.Step {
	back := make([]*target.Step, len(steps))
	all := make([]target.Step, len(steps))
	for i, st := range steps {
		b := &all[i]
		b.Act, b.Key, b.Record = st.Act.Inverse(), st.Key, st.Record
		b.Fields = make([]changeset.FieldChange, len(st.Fields))
		for k, f := range st.Fields {
			b.Fields[k] = changeset.FieldChange{Field: f.Field, From: f.To, To: f.From}
		}
		back[i] = b
	}
	return back
}

// byHand is something that no load file can do.
type byHand struct {
	key   record.Key
	field string
	value record.Value
	why   string
}

// doable takes out of steps what files cannot carry out, which remains to be
// done by hand. The steps are its own to change.
func (s *System) doable(steps []*target.Step) ([]*target.Step, []byHand) {
	var rest []byHand
	steps = slices.DeleteFunc(steps, func(st *target.Step) bool {
		if st.Act == changeset.Add {
			st.Record = slices.DeleteFunc(st.Record.Clone(), func(f record.Field) bool {
				why := s.unwritable(f.Name, f.Value, false)
				if why != "" {
					rest = append(rest, byHand{st.Key, f.Name, f.Value, why})
				}
				return why != ""
			})
		}
		st.Fields = slices.DeleteFunc(st.Fields, func(f changeset.FieldChange) bool {
			why := s.unwritable(f.Field, f.To, true)
			if why != "" {
				rest = append(rest, byHand{st.Key, f.Field, f.To, why})
			}
			return why != ""
		})
		return st.Act == changeset.Amend && len(st.Fields) == 0
	})
	return steps, rest
}
