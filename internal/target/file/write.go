package file

import (
	"bytes"
	"context"
	"io"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table/csv"
	"paletwin/internal/target"
)

// writer writes a file anew with steps carried out. Everything between the
// rows that change goes over as it stands.
type writer struct {
	f       *File
	steps   []target.Step
	results []target.Result
	byKey   map[string]int   // amends and deletes
	after   map[string][]int // adds that come back to where they were, by the key before
	appends []int            // other adds

	out  *lines
	from int // what of the old bytes is still to be written starts here
}

func newWriter(f *File, steps []target.Step) *writer {
	w := &writer{f: f, steps: steps, results: make([]target.Result, len(steps)),
		byKey: map[string]int{}, after: map[string][]int{}}
	for i := range steps {
		s := &steps[i]
		switch {
		case s.Act != changeset.Add:
			w.byKey[s.Key.Encoding()] = i
		case s.Form.Kept && w.fits(s):
			w.after[s.Form.After.Encoding()] = append(w.after[s.Form.After.Encoding()], i)
		default:
			w.appends = append(w.appends, i)
		}
	}
	for _, group := range w.after {
		slices.SortStableFunc(group, func(a, b int) int { return steps[a].Form.Age - steps[b].Form.Age })
	}
	return w
}

// fits reports whether the row that was kept says what the record says.
func (w *writer) fits(s *target.Step) bool {
	get := s.Record.Finder()
	for _, f := range csv.Record(w.f.img, []byte(s.Form.Row)) {
		if v, _ := get(f.Name); v.String() != f.Value.String() {
			return false
		}
	}
	return true
}

func (w *writer) write(ctx context.Context, to io.Writer) error {
	data := w.f.img.Data
	w.out = &lines{w: to, newline: []byte("\n")}
	if w.f.img.Found.Newline == "crlf" {
		w.out.newline = []byte("\r\n")
	}
	w.copyTo(w.f.img.Body)
	w.comeBack("")
	last := w.f.img.Body
	stay := 0 // records that stay
	gap := 0  // bytes of blank rows since the last of them
	err := w.f.rows(ctx, func(key []byte, sc *csv.Scanner) error {
		gap += sc.Start() - last
		last = sc.Pos()
		if i, hit := w.byKey[string(key)]; hit {
			w.copyTo(sc.Start())
			if w.steps[i].Act == changeset.Amend {
				w.out.write(w.amended(&w.steps[i], sc.Raw()))
				w.from = sc.End()
			} else {
				w.from = sc.Pos()
				// Blank rows before a last row without a line end stay lines,
				// and so does the heading.
				w.out.keep = (gap > 0 || stay == 0) && sc.End() == len(data)
			}
		}
		if i, hit := w.byKey[string(key)]; !hit || w.steps[i].Act != changeset.Delete {
			gap = 0
			stay++
		}
		if len(w.after) > 0 && w.after[string(key)] != nil {
			w.copyTo(sc.Pos())
			w.comeBack(string(key))
		}
		return w.out.err
	})
	if err != nil {
		return err
	}
	w.copyTo(len(data))
	w.append()
	return w.out.end(len(data) > 0 && data[len(data)-1] == '\n')
}

// copyTo writes the old bytes up to the offset.
func (w *writer) copyTo(offset int) {
	if offset > w.from {
		w.out.write(w.f.img.Data[w.from:offset])
		w.from = offset
	}
}

// comeBack writes the records whose place is after the record with the
// given key, and after each those whose place is after it.
func (w *writer) comeBack(key string) {
	steps := w.after[key]
	delete(w.after, key)
	base := w.from
	for _, i := range steps {
		// A gap is measured from the end of the record before, as it was
		// when the row went: rows that went earlier come back inside it.
		gap := w.steps[i].Form.Gap
		if bytes.HasPrefix(w.f.img.Data[base:], []byte(gap)) {
			w.copyTo(base + len(gap))
		}
		w.out.row([]byte(w.steps[i].Form.Row), []byte(w.steps[i].Form.End))
		w.comeBack(w.steps[i].Key.Encoding())
	}
}

// append writes the adds that have no place, or whose place is gone.
func (w *writer) append() {
	for i := range w.steps {
		s := &w.steps[i]
		if key := s.Form.After.Encoding(); slices.Contains(w.after[key], i) {
			w.comeBack(key)
		}
	}
	for _, i := range w.appends {
		w.out.row(w.added(w.steps[i].Record), w.out.newline)
	}
}

// added returns a new row; fields that the record lacks are empty.
func (w *writer) added(r record.Record) []byte {
	var row []byte
	get := r.Finder()
	for i, h := range w.f.img.Heading {
		if i > 0 {
			row = append(row, w.f.img.Comma)
		}
		v, _ := get(h)
		row = csv.AppendCell(row, v.String(), w.f.img.Comma, w.f.img.Found.Quoted)
	}
	return row
}

// amended returns the row with the step's fields written into it. A cell
// that stood in quotes stays in quotes. Where a row was kept that says the
// same, it is taken to the letter.
func (w *writer) amended(s *target.Step, raw []byte) []byte {
	comma := w.f.img.Comma
	cells := csv.Split(nil, raw, comma)
	for _, fc := range s.Fields {
		c := w.f.img.Column(fc.Field)
		for c >= len(cells) {
			cells = append(cells, nil)
		}
		quoted := len(cells[c]) > 0 && cells[c][0] == '"'
		cells[c] = csv.AppendCell(nil, fc.To.String(), comma, quoted)
	}
	if s.Form.Kept && sameCells(csv.Split(nil, []byte(s.Form.Row), comma), cells) {
		return []byte(s.Form.Row)
	}
	return bytes.Join(cells, []byte{comma})
}

func sameCells(a, b [][]byte) bool {
	return slices.EqualFunc(a, b, func(x, y []byte) bool { return bytes.Equal(csv.Unquote(x), csv.Unquote(y)) })
}

// lines writes rows and holds the last line end back, so that a row can
// follow one that has none, and the file can end as it ended before. The
// first error stays.
type lines struct {
	w       io.Writer
	newline []byte
	held    []byte // a line end that is still to be written
	bare    bool   // what was written last has no line end
	last    bool   // what was written last is a row that ended its file without one
	keep    bool   // the line end that is held stays, whatever the file had
	err     error
}

func (l *lines) put(b []byte) {
	if l.err == nil && len(b) > 0 {
		_, l.err = l.w.Write(b)
	}
}

// write writes bytes as they stand.
func (l *lines) write(b []byte) {
	l.put(l.held)
	l.held, l.last, l.keep = nil, false, false
	switch n := len(b); {
	case bytes.HasSuffix(b, []byte("\r\n")):
		b, l.held = b[:n-2], []byte("\r\n")
	case bytes.HasSuffix(b, []byte("\n")):
		b, l.held = b[:n-1], []byte("\n")
	}
	l.bare = l.held == nil
	l.put(b)
}

// row writes a row on a line of its own, with its line end; an empty one
// makes it the last line if nothing follows.
func (l *lines) row(b, end []byte) {
	if l.bare {
		l.held = l.newline
	}
	l.write(b)
	l.held, l.bare, l.last = end, len(end) == 0, len(end) == 0
}

// end writes the last line end, or leaves it out.
func (l *lines) end(newline bool) error {
	if (newline || l.keep) && !l.last {
		l.put(l.held)
	}
	return l.err
}
