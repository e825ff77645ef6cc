package file

import (
	"bytes"
	"context"
	"io"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// lines is the form of files that keep a record on a row of its own, one
// behind the other.
type lines struct {
	f    *File
	rows rows
}

// rows is how the rows of a file of lines are read and made.
type rows interface {
	// text is the file as UTF-8, and body where its first row may start.
	text() (all []byte, body int)
	// newline is the file's line end.
	newline() string
	// each walks the records: the key, encoded, and where the row stands.
	each(ctx context.Context, row func(key []byte, at span) error) error
	record(raw []byte) record.Record
	// amended returns a row with a step's fields in it, added a new row.
	amended(s *target.Step, raw []byte) []byte
	added(r record.Record) []byte
	// least is how many records a file needs to be readable.
	least() int
	// refuse says why a value cannot be written, or "".
	refuse(v record.Value) string
	// encode turns UTF-8 into what the file holds.
	encode(w io.Writer) io.WriteCloser
}

// span is where a row stands in the text: from start to end, its line end
// not included; the next row starts at next.
type span struct{ start, end, next int }

func (l *lines) current(ctx context.Context, at map[string]int, states []target.State) error {
	text, end := l.rows.text() // end of the record before, with its line end
	var before []byte
	lead := lineEnd(text[:end])
	return l.rows.each(ctx, func(key []byte, r span) error {
		if i, wanted := at[string(key)]; wanted {
			s := &states[i]
			if s.Count++; s.Count == 1 {
				raw := text[r.start:r.end]
				s.Record = l.rows.record(raw)
				s.Form = target.Form{Row: string(raw), After: record.KeyOf(before), Gap: string(text[end:r.start]), Kept: true, End: string(text[r.end:r.next])}
				// The rows behind it may go as well, and the row before then ends the file.
				if r.start == end && (r.end == r.next || lead != l.rows.newline()) {
					s.Form.Lead = lead
				}
			}
		}
		before, end, lead = append(before[:0], key...), r.next, string(text[r.end:r.next])
		return nil
	})
}

// lineEnd is the line end at the end of a text, "" if it has none.
func lineEnd(text []byte) string {
	switch {
	case bytes.HasSuffix(text, []byte("\r\n")):
		return "\r\n"
	case bytes.HasSuffix(text, []byte("\n")):
		return "\n"
	}
	return ""
}

func (l *lines) write(ctx context.Context, out io.Writer, steps []target.Step, results []target.Result) error {
	reasons, err := l.check(ctx, steps)
	if err != nil {
		return err
	}
	refusals(steps, reasons, results)
	to := l.rows.encode(out)
	if err := newWriter(l.rows, steps, results).write(ctx, to); err != nil {
		return err
	}
	return to.Close()
}

func (l *lines) check(ctx context.Context, steps []target.Step) ([]string, error) {
	reasons := make([]string, len(steps))
	for i := range steps {
		reasons[i] = l.refuse(&steps[i])
	}
	return reasons, l.keepLast(ctx, steps, reasons)
}

// refuse says why a step cannot be carried out, or "".
func (l *lines) refuse(s *target.Step) string {
	for _, fc := range s.Fields {
		if why := l.rows.refuse(fc.To); why != "" {
			return fc.Field + ": " + why
		}
	}
	if s.Act != changeset.Add {
		return ""
	}
	for _, f := range s.Record {
		if why := l.rows.refuse(f.Value); why != "" {
			return f.Name + ": " + why
		}
	}
	return ""
}

// keepLast refuses to delete records without which the file would say nothing
// about its fields, and could not be read again.
func (l *lines) keepLast(ctx context.Context, steps []target.Step, reasons []string) error {
	if l.rows.least() == 0 {
		return nil
	}
	left := 0
	if err := l.rows.each(ctx, func([]byte, span) error { left++; return nil }); err != nil {
		return err
	}
	for i := range steps {
		if steps[i].Act == changeset.Add && reasons[i] == "" {
			left++
		}
	}
	for i := range steps {
		if steps[i].Act != changeset.Delete {
			continue
		}
		if left--; left < l.rows.least() {
			reasons[i] = "it is the last record, and only records say which fields the file has"
		}
	}
	return nil
}

// writer writes a file anew with steps carried out. Everything between the
// rows that change goes over as it stands.
type writer struct {
	rows  rows
	text  []byte
	steps []target.Step
	byKey map[string]int // amends and deletes
	places

	out  *output
	from int // what of the old bytes is still to be written starts here
}

func newWriter(r rows, steps []target.Step, results []target.Result) *writer {
	w := &writer{rows: r, steps: steps, byKey: map[string]int{}}
	w.text, w.from = r.text()
	for i := range steps {
		if s := &steps[i]; results[i].Fate == target.Refused {
			continue
		} else if s.Act != changeset.Add {
			w.byKey[s.Key.Encoding()] = i
		} else {
			w.place(steps, i, w.fits(s))
		}
	}
	w.settle(steps)
	return w
}

// fits reports whether the row that was kept says what the record says.
func (w *writer) fits(s *target.Step) bool {
	get := s.Record.Finder()
	for _, f := range w.rows.record([]byte(s.Form.Row)) {
		if v, _ := get(f.Name); v.String() != f.Value.String() {
			return false
		}
	}
	return true
}

func (w *writer) write(ctx context.Context, to io.Writer) error {
	_, body := w.rows.text()
	w.out = &output{w: to, newline: []byte(w.rows.newline())}
	w.from = 0
	w.copyTo(body)
	w.comeBack("")
	last := body
	stay := 0 // records that stay
	gap := 0  // bytes of blank rows since the last of them
	err := w.rows.each(ctx, func(key []byte, r span) error {
		gap += r.start - last
		last = r.next
		if i, hit := w.byKey[string(key)]; hit {
			w.copyTo(r.start)
			if w.steps[i].Act == changeset.Amend {
				w.out.write(w.rows.amended(&w.steps[i], w.text[r.start:r.end]))
				w.from = r.end
			} else {
				w.from = r.next
				// Blank rows before a last row without a line end stay lines,
				// and so does the heading.
				w.out.keep = (gap > 0 || stay == 0) && r.end == len(w.text)
			}
		}
		if i, hit := w.byKey[string(key)]; !hit || w.steps[i].Act != changeset.Delete {
			gap = 0
			stay++
		}
		if len(w.after) > 0 && w.after[string(key)] != nil {
			w.copyTo(r.next)
			w.comeBack(string(key))
		}
		return w.out.err
	})
	if err != nil {
		return err
	}
	w.copyTo(len(w.text))
	w.append()
	return w.out.end(bytes.HasSuffix(w.text, []byte("\n")))
}

// copyTo writes the old bytes up to the offset.
func (w *writer) copyTo(offset int) {
	if offset > w.from {
		w.out.write(w.text[w.from:offset])
		w.from = offset
	}
}

// comeBack writes the records whose place is after the record with the
// given key, and after each those whose place is after it.
func (w *writer) comeBack(key string) {
	base := w.from
	for _, i := range w.take(key) {
		// A gap is measured from the end of the record before, as it was
		// when the row went: rows that went earlier come back inside it.
		gap := w.steps[i].Form.Gap
		if bytes.HasPrefix(w.text[base:], []byte(gap)) {
			w.copyTo(base + len(gap))
		}
		w.out.row([]byte(w.steps[i].Form.Row), []byte(w.steps[i].Form.End), []byte(w.steps[i].Form.Lead))
		w.comeBack(w.steps[i].Key.Encoding())
	}
}

// append writes the adds that have no place, or whose place is gone.
func (w *writer) append() {
	for i := range w.steps {
		if key := w.steps[i].Form.After.Encoding(); slices.Contains(w.after[key], i) {
			w.comeBack(key)
		}
	}
	for _, i := range w.appends {
		w.out.row(w.rows.added(w.steps[i].Record), w.out.newline, nil)
	}
}

// output writes rows and holds the last line end back, so that a row can
// follow one that has none, and the file can end as it ended before. The
// first error stays.
type output struct {
	w       io.Writer
	newline []byte
	held    []byte // a line end that is still to be written
	bare    bool   // what was written last has no line end
	last    bool   // what was written last is a row that ended its file without one
	keep    bool   // the line end that is held stays, whatever the file had
	err     error
}

func (l *output) put(b []byte) {
	if l.err == nil && len(b) > 0 {
		_, l.err = l.w.Write(b)
	}
}

// write writes bytes as they stand. A row that once ended the file, and that
// others have put something behind since, is a line of its own now.
func (l *output) write(b []byte) {
	if l.last && len(b) > 0 && len(l.held) == 0 {
		l.held = l.newline
	}
	l.put(l.held)
	l.held, l.last, l.keep = nil, false, false
	if end := lineEnd(b); end != "" {
		b, l.held = b[:len(b)-len(end)], []byte(end)
	}
	l.bare = l.held == nil
	l.put(b)
}

// row writes a row on a line of its own, with its line end; an empty one
// makes it the last line if nothing follows. Where what stands before has no
// line end, it gets the one that is known, or the file's.
func (l *output) row(b, end, lead []byte) {
	if l.bare {
		if l.held = lead; len(lead) == 0 {
			l.held = l.newline
		}
	}
	l.write(b)
	l.held, l.bare, l.last = end, len(end) == 0, len(end) == 0
}

// end writes the last line end, or leaves it out.
func (l *output) end(newline bool) error {
	if (newline || l.keep) && !l.last {
		l.put(l.held)
	}
	return l.err
}
