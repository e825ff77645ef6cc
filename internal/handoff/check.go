package handoff

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table/document"
	"paletwin/core/table/xlsx"
	"paletwin/internal/target"
)

// Check says why steps cannot be handed over: all of them, as an error, or
// one, in words.
func (s *System) Check(_ context.Context, steps []target.Step) ([]string, error) {
	var deletes int
	for i := range steps {
		if steps[i].Act == changeset.Delete {
			deletes++
		}
	}
	if err := s.checkExport(deletes); err != nil {
		return nil, err
	}
	if s.Shape == Sparse && !s.Form.Objects() && s.Form.Rows() {
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
	if s.Shape == Full && s.Form.Rows() && !s.Export.Fresh {
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
	for i, part := range keyParts(st) {
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
		if _, ok := w.Empty(); empties && !ok && (s.Form == CSV || s.Form.Workbook()) {
			return field + " is to be emptied, and the layout does not say how the system is told so"
		}
		return ""
	}
	text := w.Write(v)
	switch {
	case s.Form.Rows() && w.Misread(v):
		return fmt.Sprintf("%s: the system takes %q for its sign to empty a field", field, text)
	case s.Form == XLSX && xlsx.Unwritable(text) != "":
		return field + ": " + xlsx.Unwritable(text)
	case s.Form == ODS && document.Unwritable(text) != "":
		return field + ": " + document.Unwritable(text)
	case s.Form == SQL && strings.ContainsRune(text, 0):
		return field + ": the value has a NUL character, which SQL does not write"
	}
	if letter, ok := s.enc.lacks(text); ok {
		return fmt.Sprintf("%s: the letter %q is not in %s", field, letter, s.Encoding)
	}
	return ""
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
		if st.Act == changeset.Delete && schema.IsNew(st.Key) {
			rest = append(rest, byHand{st.Key, "", record.Value{}, "the record was new, and its key was not known yet: delete it there, or by rollback once its key is known"})
			return true
		}
		if st.Act == changeset.Add {
			st.Record = slices.DeleteFunc(st.Record.Clone(), func(f record.Field) bool {
				why := s.unwritable(f.Name, f.Value, false)
				if why != "" {
					rest = append(rest, byHand{st.Key, f.Name, f.Value, why})
				}
				return why != ""
			})
		}
		st.Fields = slices.DeleteFunc(st.Fields, func(f changeset.Edit) bool {
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
