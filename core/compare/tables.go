package compare

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strconv"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/slip"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/core/words"
)

// tables are the two tables of a comparison, scanned, with the columns of one
// matched to those of the other. The result is filled in as the comparison goes on.
type tables struct {
	called string // what the first table is called in refusals, with a space behind
	o      Options
	res    *Result
	found  changeset.Findings

	snap      *side
	copy      *side     // nil without a copy
	old       *side     // what the copy says was there, or nil
	format    string    // of the copy
	nulls     bool      // one of the tables tells null from empty
	tells     bool      // both do, so that null and the empty text are two values
	pair      []int     // for each field of the snapshot the copy's column, or -1
	stretches []stretch // of the copy's rows that are byte for byte the snapshot's
	lentHere  bool      // the copy says that it was lent from this snapshot
	narrow    bool      // the copy was lent as a part: what it lacks says nothing
	first     *tables   // of several copies the first, whose snapshot is scanned; nil where this is it
	several   int       // how many copies there are, if there are several
	ahead     *sumsAhead
	layoutFields
}

func newTables(snapshot *table.Image, o Options) *tables {
	if o.Cores <= 0 {
		o.Cores = runtime.GOMAXPROCS(0)
	}
	t := &tables{o: o, called: "the snapshot ", res: &Result{RecordSet: o.RecordSet, Fields: snapshot.Heading}}
	for _, f := range o.Findings {
		if f.File == snapshot.Name && snapshot.Sheets != nil {
			placed(&f, snapshot)
		}
		t.found.Add(f)
	}
	return t
}

// open matches the columns of two tables, and scans both.
func (t *tables) open(ctx context.Context, snapshot, edited *table.Image) error {
	if err := t.headings(snapshot, edited); err != nil {
		return err
	}
	return t.scan(ctx)
}

// headings matches the copy's columns to the snapshot's fields.
func (t *tables) headings(snapshot, edited *table.Image) error {
	if err := checkHeading(snapshot); err != nil {
		return err
	}
	for _, m := range []*table.Image{snapshot, edited} {
		if m != nil && (m != snapshot || t.first == nil) {
			t.notes(m)
		}
	}
	cols := make([]int, len(t.o.Key))
	for i, k := range t.o.Key {
		if cols[i] = snapshot.Column(k); cols[i] < 0 {
			return &Refusal{Code: NoKeyColumn, File: snapshot.Name, Column: k,
				Text: fmt.Sprintf("%s has no column %q", snapshot.Name, k), Columns: snapshot.Heading}
		}
	}
	t.snap = newSide(snapshot, cols)
	if t.o.Slips != "" {
		t.snap.lowest = new(slip.BottomK)
	}
	t.useLayout()
	if edited == nil {
		return nil
	}
	if err := t.lent(edited); err != nil {
		return err
	}
	if edited.Part {
		t.narrow = true
		if t.o.Missing = Ignore; edited.Covers != nil {
			t.o.Missing = Held
		}
	}
	t.format = edited.Found.Format
	m := layout.MatchColumns(snapshot.Heading, edited.Heading)
	t.wornHeadings(&m, snapshot.Heading, edited.Heading)
	t.res.Columns, t.pair = m, m.Column
	t.nameHeadings(edited, m)
	if err := t.checkColumns(snapshot, edited, m); err != nil {
		return err
	}
	copied := make([]int, len(cols))
	for i, col := range cols {
		if copied[i] = m.Column[col]; copied[i] < 0 {
			return &Refusal{Code: NoKeyColumn, File: edited.Name, Column: t.o.Key[i],
				Text: fmt.Sprintf("%s has no column for the key %q", edited.Name, t.o.Key[i]), Columns: edited.Heading}
		}
	}
	t.copy = newSide(edited, copied)
	if edited.Old != nil {
		t.old = newSide(edited.Old, copied)
	}
	t.copy.form = t.snap.form
	t.ignoreColumns()
	for _, name := range t.o.Untouched {
		if f := snapshot.Column(name); f >= 0 {
			t.pair[f] = -1
		}
	}
	t.nulls = snapshot.Nulls || edited.Nulls
	t.tells = snapshot.Found.Nulls && edited.Found.Nulls
	return nil
}

// nameHeadings lists which column was taken for which field.
func (t *tables) nameHeadings(edited *table.Image, m layout.Match) {
	all := make([]Heading, len(edited.Heading))
	for i, h := range edited.Heading {
		all[i] = Heading{h, "", "ignored"}
	}
	for f, col := range m.Column {
		if col >= 0 && !t.o.Layout.Ignores(t.res.Fields[f]) {
			all[col].Field, all[col].How = t.res.Fields[f], m.How[f]
		}
	}
	for _, r := range edited.Renamed {
		all[r.Column].Heading, all[r.Column].How = r.Heading, layout.How(r.How)
	}
	t.res.Headings = all
}

// checkColumns says what the headings of the copy have too many or too few.
func (t *tables) checkColumns(snapshot, edited *table.Image, m layout.Match) error {
	if len(m.Ignored) == len(edited.Heading) {
		return &Refusal{Code: NoCommon, File: edited.Name, Text: fmt.Sprintf("%s and %s have no column in common", snapshot.Name, edited.Name),
			Columns: edited.Heading}
	}
	there := make(map[string]bool, len(edited.Heading))
	for _, h := range edited.Heading {
		there[h] = true
	}
	var absent []string
	for i, f := range snapshot.Heading {
		switch {
		case m.Column[i] < 0 && there[f]:
			return twice(edited, f)
		case m.Column[i] < 0 && (edited.Part || edited.Narrow || edited.Lent != nil && !slices.Contains(edited.Lent.Fields, f)):
		case m.Column[i] < 0 && t.l.Ignores(f):
		case m.Column[i] < 0:
			absent = append(absent, f)
		case m.How[i] != layout.Exact:
			t.find(changeset.HeadingWorn.Finding("the heading %q is taken for %q (%s)", edited.Heading[m.Column[i]], f, m.How[i]), edited.Name, f)
		}
	}
	t.absent(edited, absent)
	for _, col := range m.Ignored {
		h := edited.Heading[col]
		if t.l.Ignores(h) || edited.Lent != nil && slices.Contains(edited.Lent.Beside, h) {
			continue
		}
		if countsRows(edited, col) {
			f := changeset.ColumnExtra.Finding("column %d counts the rows, as programs do, and is ignored", col+1)
			f.Level = changeset.Note
			t.find(f, edited.Name, h)
			continue
		}
		if h == "" {
			h = fmt.Sprintf("number %d, which has no heading,", col+1)
		} else {
			h = fmt.Sprintf("%q", h)
		}
		t.find(changeset.ColumnExtra.Finding("column %s is not in the snapshot and is ignored%s", h, t.lost(snapshot, m, edited.Heading[col])), edited.Name, edited.Heading[col])
	}
	return nil
}

// mostAbsent is how many fields without a column are told one by one.
const mostAbsent = 2

// absent says which fields the copy has no column for.
func (t *tables) absent(edited *table.Image, fields []string) {
	if len(fields) <= mostAbsent {
		for _, f := range fields {
			t.find(changeset.ColumnAbsent.Finding("the copy has no column %q; that field is left untouched", f), edited.Name, f)
		}
		return
	}
	f := changeset.ColumnAbsent.Finding("the copy has no columns for %s; those fields are left untouched", words.List(fields))
	f.Count = len(fields)
	t.find(f, edited.Name, "")
}

// countsRows reports whether a column counts the rows of a table from 0 or 1: that is none
// of somebody's fields.
func countsRows(m *table.Image, col int) bool {
	const enough = 1000
	n, first := 0, 0
	err := csv.Each(context.Background(), m, func(r *csv.Line) error {
		v, err := strconv.Atoi(string(r.Cell(col)))
		if n == 0 {
			first = v
		}
		if err != nil || v != first+n || first > 1 || first < 0 {
			n = -1
			return io.EOF
		}
		if n++; n == enough {
			return io.EOF
		}
		return nil
	})
	return err == nil && n > 2
}

// notes makes findings of what was noticed while a file was read.
func (t *tables) notes(m *table.Image) {
	for _, n := range m.Notes {
		if m.Lent != nil && n.Code == changeset.OtherSheets.Name {
			continue // the sheet that says how to edit the copy
		}
		f := changeset.Finding{Code: n.Code, Level: changeset.Note, Scope: changeset.OfFile, Text: n.Text, Count: n.Count}
		if i := slices.IndexFunc(changeset.Codes(), func(c changeset.Code) bool { return c.Name == n.Code }); i >= 0 {
			f.Level, f.Scope = changeset.Codes()[i].Level, changeset.Codes()[i].Scope
		}
		if f.Level == changeset.Stop {
			f.Row, f.Rows = n.Rows[0], n.Rows
			placed(&f, m)
			if len(f.Rows) == 1 {
				f.Rows = nil
			}
		}
		f.File, f.Column = cmp.Or(f.File, m.Name), n.Column
		t.found.Add(f)
	}
}

func (t *tables) find(f changeset.Finding, file, column string) {
	f.File, f.Column = file, column
	for _, s := range []*side{t.copy, t.snap} {
		if s != nil && s.img.Name == file && s.img.Sheets != nil {
			placed(&f, s.img)
			break
		}
	}
	t.found.Add(f)
}

// placed gives a finding of a table of several sheets the sheet of its rows.
func placed(f *changeset.Finding, m *table.Image) {
	if f.Row == 0 {
		return
	}
	all := len(f.Rows)
	if f.Rows != nil {
		if _, f.Rows = m.Places(f.Rows); len(f.Rows) < all {
			f.Text += "; others stand on other sheets"
		}
	}
	f.File, f.Row = m.Place(f.Row)
}

// findRows adds a finding about the given rows.
func (t *tables) findRows(f changeset.Finding, file, column string, rows []int) {
	f.Row = rows[0]
	if len(rows) > 1 {
		f.Rows = rows[:min(len(rows), changeset.MaxRows)]
	}
	t.find(f, file, column)
}

// scan walks both tables at once.
func (t *tables) scan(ctx context.Context) error {
	scanned := []*side{t.snap, t.copy, t.old}
	if t.first != nil {
		t.snap = t.first.snap.again()
		scanned = scanned[1:]
	}
	beside := t.copy != nil && t.sameColumns()
	err := t.scanSides(ctx, slices.DeleteFunc(slices.Clone(scanned), func(s *side) bool { return s == nil || beside && s == t.copy }))
	if err != nil {
		return err
	}
	t.res.Records.Snapshot = t.inAll()
	if err := t.snap.refuse(t.called); err != nil {
		return err
	}
	if beside {
		if err := t.scanBeside(ctx); err != nil {
			return err
		}
	}
	for _, s := range scanned {
		if s != nil && s.bare > 0 {
			f := changeset.BareQuote.Finding("%s: a quote stands inside %s that do not start with one; taken as it stands", s.img.Name, words.Count(s.bare, "cell"))
			f.Count = s.bare
			t.find(f, s.img.Name, "")
		}
	}
	if t.copy != nil {
		t.res.Records.Edited = t.copy.len() + t.alike()
		t.res.Records.Blank = t.copy.blank
	}
	return nil
}

// alike is how many records were left out of both tables.
func (t *tables) alike() int {
	if t.o.Alike == nil {
		return 0
	}
	return t.o.Alike.Records
}

// inAll is how many records the snapshot has, with those that were left out.
func (t *tables) inAll() int { return t.snap.len() + t.alike() }

// scanSides scans tables at once.
func (t *tables) scanSides(ctx context.Context, sides []*side) error {
	return each(len(sides), func(k int) error { return sides[k].scan(ctx, max(t.o.Cores/len(sides), 1)) })
}

// scanBeside scans the copy beside the snapshot, where that may be done, else by itself.
func (t *tables) scanBeside(ctx context.Context) error {
	if !t.mayFollow() {
		return t.scanSides(ctx, []*side{t.copy})
	}
	return table.Guard(func() error { return t.follow(ctx) })
}

// count writes a number with its noun: "1 cell", "3 cells".
