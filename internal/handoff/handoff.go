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
	ODS       Form = "ods"
	JSONL     Form = "jsonl"
	JSON      Form = "json"
	SQL       Form = "sql"
	JSONPatch Form = "json-patch"
)

// Forms are all of them.
var Forms = []Form{CSV, XLSX, ODS, JSONL, JSON, SQL, JSONPatch}

// Rows reports whether the form is a table, for which there are shapes.
func (f Form) Rows() bool { return f == CSV || f.Workbook() || f.Objects() }

// Workbook reports whether the form is a spreadsheet.
func (f Form) Workbook() bool { return f == XLSX || f == ODS }

// Objects reports whether a record is an object that has only what is sent of it.
func (f Form) Objects() bool { return f == JSONL || f == JSON }

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

// System is a system that only takes files. It is a target.Loader.
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

	// ByHand is how many values no load file can put back; Write counts them.
	ByHand int

	run      int
	intoSaid bool // and not taken from the record set's name
	loads    []target.Load
	beside   []target.Load
	words    map[string]*layout.Wording
	whole    map[record.Key]record.Record // of the shape that needs them
	enc      encoder
	order    map[string]int // of fields
	seen     jsonl.Types    // of the fields of an export that is JSON
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
		if s.LineEnds == "" && found.Newline != "cr" {
			s.LineEnds = found.Newline
		}
		if s.Encoding == "" {
			s.Encoding, s.enc.mark = found.Encoding, found.BOM
		}
	}
	if s.intoSaid = s.Into != ""; !s.intoSaid {
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
	found, count, err := csv.LookupAll(s.Export.Image, s.Key, keys, s.Layout.Schema().Key)
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

// Traits of a system that takes files: all are made at once. The export is not
// read where it is the snapshot that the steps were made from, and neither rules
// nor the shape need whole records.
func (s *System) Traits() target.Traits {
	unread := s.Export.File != "" && s.Shape != Full && (s.Layout == nil || len(s.Layout.Rules) == 0)
	return target.Traits{Ext: s.Export.Ext, Unread: unread, Assigns: s.Form.Rows()}
}

// Writable is never in doubt: files are made.
func (s *System) Writable(context.Context) error { return nil }

// Backup writes the export.
func (s *System) Backup(ctx context.Context, w io.Writer) error {
	if err := ctx.Err(); err != nil {
		return err
	}
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

// Run says which run the files belong to.
func (s *System) Run(n int) { s.run = n }

// Loads lists the files that Write made.
func (s *System) Loads() []target.Load { return s.loads }

// Beside lists the other files that Write made.
func (s *System) Beside() []target.Load { return s.beside }

// Refresh does nothing: the export stays what it is.
func (s *System) Refresh(context.Context) error { return nil }

// Close does nothing: the export belongs to the caller.
func (s *System) Close() error { return nil }

// inverse returns the steps that undo steps, each from what it leaves behind.
func inverse(steps []*target.Step) []*target.Step {
	back := make([]*target.Step, len(steps))
	all := make([]target.Step, len(steps))
	for i, st := range steps {
		b := &all[i]
		b.Act, b.Key, b.Record, b.Linked = st.Act.Inverse(), st.Key, st.Record, st.Linked
		b.Fields = make([]changeset.Edit, len(st.Fields))
		for k := range st.Fields {
			b.Fields[k] = st.Fields[k].Inverse()
		}
		back[i] = b
	}
	return back
}
