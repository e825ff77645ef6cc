package file

import (
	"bytes"
	"context"
	"io"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/target"
)

// lines is the form of files that keep a record on a row of its own, one
// behind the other.
type lines struct {
	f     *File
	rows  rows
	index *index // of its rows, once many were asked for
}

// rows is how the rows of a file of lines are read and made.
type rows interface {
	// text is the file as UTF-8, and body where its first row may start.
	text() (all []byte, body int)
	// newline is the file's line end.
	newline() string
	// each walks the records: the key, encoded, and where the row stands.
	each(ctx context.Context, row func(key []byte, at span) error) error
	// record reads a row that is a text, too, of which values may be parts; into has room.
	record(into record.Record, raw []byte, text string) record.Record
	// amended returns a row with a step's fields in it, added a new row. It is as it was kept where that says the same.
	amended(s *target.Step, kept *target.Form, raw []byte) []byte
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

// linesAtOnce is how many records are read at a time, and from how many on rows are found by an index: a run of more comes
// back for the others.
var linesAtOnce = 1 << 14

func (l *lines) atOnce() int { return linesAtOnce }

func (l *lines) current(ctx context.Context, at map[string]int, states []target.State) error {
	if l.index == nil && len(states) >= l.atOnce() {
		if err := l.makeIndex(ctx); err != nil {
			return err
		}
	}
	if l.index != nil {
		return l.index.current(l, at, states)
	}
	text, end := l.rows.text()
	before := neighbour{end: end, lead: lineEnd(text[:end])}
	var key []byte
	return l.rows.each(ctx, func(k []byte, r span) error {
		if i, wanted := at[string(k)]; wanted {
			if s := &states[i]; s.Count == 0 {
				l.state(s, text, before, r)
			} else {
				s.Count++
			}
		}
		key = append(key[:0], k...)
		before = neighbour{key, r.next, string(text[r.end:r.next])}
		return nil
	})
}

// neighbour is what stands before a row: the key of the record there, none before the first, where it ends, with its line end, and that.
type neighbour struct {
	key  []byte
	end  int
	lead string
}

// state makes the state of the record whose row stands somewhere in the text.
func (l *lines) state(s *target.State, text []byte, before neighbour, r span) {
	raw := text[r.start:r.end]
	row := string(raw)
	s.Count, s.Record = 1, l.rows.record(s.Record, raw, row)
	s.Form = target.Form{Row: row, After: record.KeyOf(before.key), Gap: string(text[before.end:r.start]), Kept: true, End: string(text[r.end:r.next])}
	// The rows behind it may go as well, and the row before then ends the file.
	if r.start == before.end && (r.end == r.next || before.lead != l.rows.newline()) {
		s.Form.Lead = before.lead
	}
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

func (l *lines) write(ctx context.Context, out io.Writer, steps target.Steps) ([]target.Result, error) {
	reasons, err := l.check(ctx, steps)
	if err != nil {
		return nil, err
	}
	results := refused(steps, reasons)
	to := l.rows.encode(out)
	if err := newWriter(l.rows, steps, results).write(ctx, to); err != nil {
		return nil, err
	}
	return results, to.Close()
}

// check says why steps cannot be carried out; nothing where all of them can.
func (l *lines) check(ctx context.Context, steps target.Steps) (reasons []string, err error) {
	why := func(i int, text string) {
		if reasons == nil {
			reasons = make([]string, steps.Len())
		}
		reasons[i] = text
	}
	for i := range steps.Len() {
		if text := l.refuse(steps.At(i)); text != "" {
			why(i, text)
		}
	}
	return reasons, l.keepLast(ctx, steps, func(i int) bool { return reasons == nil || reasons[i] == "" }, why)
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
func (l *lines) keepLast(ctx context.Context, steps target.Steps, written func(i int) bool, refuse func(i int, why string)) error {
	if l.rows.least() == 0 {
		return nil
	}
	left := 0
	if err := l.rows.each(ctx, func([]byte, span) error { left++; return nil }); err != nil {
		return err
	}
	for i := range steps.Len() {
		if steps.At(i).Act == changeset.Add && written(i) {
			left++
		}
	}
	for i := range steps.Len() {
		if steps.At(i).Act != changeset.Delete {
			continue
		}
		if left--; left < l.rows.least() {
			refuse(i, "it is the last record, and only records say which fields the file has")
		}
	}
	return nil
}

// writer writes a file anew with steps carried out. Everything between the
// rows that change goes over as it stands.
type writer struct {
	rows  rows
	text  []byte
	steps target.Steps
	byKey map[string]int // amends and deletes
	places

	out  *output
	from int // what of the old bytes is still to be written starts here
}

func newWriter(r rows, steps target.Steps, results []target.Result) *writer {
	w := &writer{rows: r, steps: steps, byKey: make(map[string]int, steps.Len())}
	w.text, w.from = r.text()
	for i := range steps.Len() {
		if left(results, i) {
			continue
		}
		if s := steps.At(i); s.Act != changeset.Add {
			w.byKey[s.Key.Encoding()] = i
		} else {
			form := steps.Form(i)
			w.place(&form, i, w.fits(s.Record, &form))
		}
	}
	w.settle()
	return w
}

// fits reports whether the row that was kept says what the record says.
func (w *writer) fits(r record.Record, form *target.Form) bool {
	get := r.Finder()
	for _, f := range w.rows.record(nil, []byte(form.Row), form.Row) {
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
		stays := true
		if i, hit := w.byKey[string(key)]; hit {
			w.copyTo(r.start)
			if s := w.steps.At(i); s.Act == changeset.Amend {
				form := w.steps.Form(i)
				w.out.write(w.rows.amended(s, &form, w.text[r.start:r.end]))
				w.from = r.end
			} else {
				stays, w.from = false, r.next
				// Blank rows before a last row without a line end stay lines,
				// and so does the heading.
				w.out.keep = (gap > 0 || stay == 0) && r.end == len(w.text)
			}
		}
		if stays {
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
		form, key := w.steps.Form(i), w.steps.At(i).Key.Encoding()
		if bytes.HasPrefix(w.text[base:], []byte(form.Gap)) {
			w.copyTo(base + len(form.Gap))
		}
		w.out.row([]byte(form.Row), []byte(form.End), []byte(form.Lead))
		w.comeBack(key)
	}
}

// append writes the adds that have no place, or whose place is gone.
func (w *writer) append() {
	for key := range w.stranded() {
		w.comeBack(key)
	}
	for _, i := range w.appends {
		w.out.row(w.rows.added(w.steps.At(i).Record), w.out.newline, nil)
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
