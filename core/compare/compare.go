// Package compare is the heart of Pale Twin: it compares two tables, a
// snapshot and its edited copy, by key, and tells the differences as a
// change set with findings.
//
// The work goes in passes. Both tables are scanned at once, a goroutine
// each: a row becomes its offset and the hash of its key (side). Keys are
// then matched, in step while both files keep the same order and through an
// index of row numbers where they do not (match). Rows of equal bytes need
// no more work; the others, in the snapshot's order and on all cores, are
// split into cells and become changes (emit). Sums are taken last, and only
// of columns that a change touches (totals).
//
// Judgements on whole columns, wear and slips, belong between match and emit:
// they look at pairs of differing rows, at up to 4,096 equal rows at fixed
// row numbers, and at neighbours of differing rows, so that equal rows cost
// nothing.
package compare

import (
	"context"
	"fmt"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/slip"
	"paletwin/core/table"
	"paletwin/core/words"
)

// What a record that the copy lacks, or a cell that it empties, means.
const (
	Held   = "hold"   // proposed, and held
	Asked  = "delete" // of missing records: proposed
	Clear  = "clear"  // of blank cells: proposed
	Ignore = "keep"   // nothing follows from it
)

// Options say what is compared and what differences mean.
type Options struct {
	RecordSet     string
	Layout        *layout.Layout // or nil
	SameOnly      bool           // the layout says which values are the same, and judges nothing
	CheckAll      bool           // check all of the copy's values, not only new and changed ones
	Key           []string
	Missing       string              // Held, Asked or Ignore; "" is Held
	Blank         string              // Held, Clear or Ignore; "" is Held
	Allow         []changeset.Act     // the acts that may be proposed; nil allows all
	Limits        *layout.Limits      // beside the layout's, or nil
	LimitsOf      string              // whose these are: "the routine autumn-fees"
	Untouched     []string            // fields that are not compared, of records that both have
	OtherRegister bool                // go on where the copy is no copy of the snapshot
	AllMissing    bool                // deletes that were asked for stay open, however many they are
	DeleteList    *KeyList            // records to delete, or nil
	Wear          bool                // tell what software did to the copy from what was meant
	Year          int                 // the clock's, for dates that have none
	SavedIn       string              // the locale of the program that saved the copy, if it is known
	DayOrder      string              // "dmy" or "mdy", if it is known
	Findings      []changeset.Finding // what was noticed before the comparison
	AddFields     []string            // the fields that new records have; nil is all of the copy's
	Slips         string              // SlipsHold, SlipsWarn or SlipsOff; "" is off, and makes no sample
	// Earlier, if not nil, gives what earlier snapshots had for the fields of
	// some records, newest first. keys are record.Key encodings.
	Earlier func(ctx context.Context, fields []string, keys map[string]bool) ([]Earlier, error)
	// Others, if not nil, gives the samples of other snapshots of these
	// records.
	Others func() ([]Other, error)
	Worn   func(Cell) // if not nil, is told of every cell that is not read as it is seen; several goroutines call it
	Cores  int        // 0 means all
	Memory int64      // bytes that may be used beside the files' own pages; 0 means as many as it takes
	// Spill gives a zeroed array of so many bytes that does not count as
	// memory, such as a mapped temporary file. It is asked when Memory would
	// not do; without it, Memory is not kept.
	Spill func(bytes int64) ([]byte, error)
	// Counted, if not nil, is told the numbers of records and of rows before
	// the first change is made.
	Counted func(snapshot, edited int)
	// Lends, if not nil, gives what narrow copies of the snapshot were made of.
	Lends func() []*table.Lent
	// Digest gives the snapshot's SHA-256, hexadecimal. It is asked where the
	// copy says that it was lent.
	Digest func() (string, error)
	// Judge, if not nil, is asked about each change before it is written
	// and may add holds to it. It is called on several goroutines.
	Judge func(*changeset.Change)
}

func (o *Options) allows(a changeset.Act) bool {
	return len(o.Allow) == 0 || slices.Contains(o.Allow, a)
}

// Sink takes the changes, in the change set's order. lines holds them as
// changeset.AppendLine encodes them.
type Sink interface {
	WriteEncoded(lines []byte, changes []*changeset.Change) error
}

// Records counts records and rows. The counts add up:
//
//	Snapshot = amend + delete + Unchanged + Kept + StoppedRecords
//	Edited   = amend + add + Unchanged + Skipped + Stopped
//
// A wholly blank row is no row of the copy and is counted in Blank alone.
type Records struct {
	Snapshot       int `json:"snapshot"`
	Edited         int `json:"edited"`
	Unchanged      int `json:"unchanged"`
	Kept           int `json:"kept"`            // snapshot records with a difference that is not proposed
	Skipped        int `json:"skipped"`         // rows of the copy from which nothing follows
	Stopped        int `json:"stopped"`         // rows of the copy with a stop on their key
	StoppedRecords int `json:"stopped_records"` // snapshot records that such rows are about
	Blank          int `json:"blank_rows"`
}

// Result is what a comparison found, apart from the changes themselves.
type Result struct {
	RecordSet string
	Fields    []string // all of the snapshot's
	Records   Records
	Changes   changeset.Tally
	Totals    []Total
	Findings  []changeset.Finding
	Columns   layout.Match
	Wear      Wear
	Sample    slip.Sample // of the snapshot, if slips were looked for
	Headings  []Heading   // the copy's columns, and which field each is
	// DeletesHeld says why deletes are held although they were asked for;
	// "" if they are not.
	DeletesHeld string
}

// Heading is a column of the copy and the field that it was taken for.
type Heading struct {
	Heading string     `json:"heading"`
	Field   string     `json:"field"` // "" if it is ignored
	How     layout.How `json:"how"`
}

// Run compares edited with snapshot and gives the changes to sink. A nil
// edited means there is no copy and only the delete list counts. Errors are
// *Refusal where the files make a comparison impossible, *table.Error and
// table.ErrChanged where one of them cannot be read.
func Run(ctx context.Context, snapshot, edited *table.Image, o Options, sink Sink) (*Result, error) {
	if o.Cores <= 0 {
		o.Cores = runtime.GOMAXPROCS(0)
	}
	c := &comparison{o: o, called: "the snapshot ", sink: sink, moved: moves{}, res: &Result{RecordSet: o.RecordSet, Fields: snapshot.Heading, Findings: slices.Clone(o.Findings)}}
	if err := c.headings(snapshot, edited); err != nil {
		return nil, err
	}
	if err := c.scan(ctx); err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { return c.match(ctx) }); err != nil {
		return nil, err
	}
	if err := c.guardedWornKeys(); err != nil {
		return nil, err
	}
	if err := c.judgeFile(); err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { return c.judgeWear(ctx) }); err != nil {
		return nil, err
	}
	if err := c.judgeLimits(ctx); err != nil {
		return nil, err
	}
	if err := c.judgeSlips(ctx); err != nil {
		return nil, err
	}
	if o.Counted != nil {
		o.Counted(c.res.Records.Snapshot, c.res.Records.Edited)
	}
	if err := c.emit(ctx); err != nil {
		return nil, err
	}
	c.report()
	if err := c.checkAll(ctx); err != nil {
		return nil, err
	}
	if err := table.Guard(func() error { return c.totals(ctx) }); err != nil {
		return nil, err
	}
	return c.res, nil
}

// Check reports whether a table can be compared with another state of itself:
// its headings name its fields, each record is whole, and has a key of its own.
// Errors are as those of Run.
func Check(ctx context.Context, m *table.Image, o Options) error {
	if o.Cores <= 0 {
		o.Cores = runtime.GOMAXPROCS(0)
	}
	o.SameOnly = true
	c := &comparison{o: o, moved: moves{}, res: &Result{RecordSet: o.RecordSet, Fields: m.Heading}}
	if err := c.headings(m, nil); err != nil {
		return err
	}
	if err := c.scan(ctx); err != nil {
		return err
	}
	return table.Guard(func() error { return c.match(ctx) })
}

// comparison is the state of one Run.
type comparison struct {
	called string // what the first table is called in refusals, with a space behind
	o      Options
	sink   Sink
	res    *Result

	snap  *side
	copy  *side // nil without a copy
	nulls bool  // one of the tables tells null from empty
	pair  []int // for each field of the snapshot the copy's column, or -1

	mate    []uint32            // for each snapshot record its state, or the copy's row + mateRow
	adds    []uint32            // the copy's rows that match no record
	equal   bitset              // the records whose row is known to have the mate's bytes
	others  *slots              // the copy's rows that match no record
	repeats map[uint32][]uint32 // rows of the copy that share a snapshot record
	matched int                 // the copy's rows that match

	layouted
	wearing
	slipping
	sum        tally      // of all workers
	moved      moves      // what the changes do to sums
	missing    int        // snapshot records that the copy lacks, listed ones aside
	lentHere   bool       // the copy says that it was lent from this snapshot
	lentLost   bool       // records that were lent are not in the copy, and new ones may be these
	notLent    table.Bits // of a narrow copy, which records were lent: others are held; nil is any
	deleteHold []string   // the code that holds deletes of missing records, if any
}

// States of a snapshot record in comparison.mate; a value of mateRow or more
// is the copy's row + mateRow.
const (
	mateNone   = iota // not in the copy
	mateRepeat        // on several rows of the copy
	mateListed        // on the delete list, and not in the copy or unchanged there
	mateRow
)

// headings matches the copy's columns to the snapshot's fields.
func (c *comparison) headings(snapshot, edited *table.Image) error {
	if err := checkHeading(snapshot); err != nil {
		return err
	}
	for _, m := range []*table.Image{snapshot, edited} {
		if m != nil {
			c.notes(m)
		}
	}
	cols := make([]int, len(c.o.Key))
	for i, k := range c.o.Key {
		if cols[i] = snapshot.Column(k); cols[i] < 0 {
			return &Refusal{Code: NoKeyColumn, File: snapshot.Name, Column: k,
				Text: fmt.Sprintf("%s has no column %q", snapshot.Name, k), Columns: snapshot.Heading}
		}
	}
	c.snap = newSide(snapshot, cols)
	if c.o.Slips != "" {
		c.snap.lowest = new(slip.Lowest)
	}
	c.useLayout()
	if edited == nil {
		return nil
	}
	if err := c.lent(edited); err != nil {
		return err
	}
	c.format = edited.Found.Format
	m := layout.MatchColumns(snapshot.Heading, edited.Heading)
	c.wornHeadings(&m, snapshot.Heading, edited.Heading)
	c.res.Columns, c.pair = m, m.Column
	c.nameHeadings(edited, m)
	if err := c.checkColumns(snapshot, edited, m); err != nil {
		return err
	}
	copied := make([]int, len(cols))
	for i, col := range cols {
		if copied[i] = m.Column[col]; copied[i] < 0 {
			return &Refusal{Code: NoKeyColumn, File: edited.Name, Column: c.o.Key[i],
				Text: fmt.Sprintf("%s has no column for the key %q", edited.Name, c.o.Key[i]), Columns: edited.Heading}
		}
	}
	c.copy = newSide(edited, copied)
	c.copy.form = c.snap.form
	c.ignoreColumns()
	for _, name := range c.o.Untouched {
		if f := snapshot.Column(name); f >= 0 {
			c.pair[f] = -1
		}
	}
	c.nulls = snapshot.Nulls || edited.Nulls
	return nil
}

// nameHeadings lists which column was taken for which field.
func (c *comparison) nameHeadings(edited *table.Image, m layout.Match) {
	all := make([]Heading, len(edited.Heading))
	for i, h := range edited.Heading {
		all[i] = Heading{h, "", "ignored"}
	}
	for f, col := range m.Column {
		if col >= 0 && !c.o.Layout.Ignores(c.res.Fields[f]) {
			all[col].Field, all[col].How = c.res.Fields[f], m.How[f]
		}
	}
	for _, r := range edited.Renamed {
		all[r.Column].Heading, all[r.Column].How = r.Heading, layout.How(r.How)
	}
	c.res.Headings = all
}

// checkColumns says what the headings of the copy have too many or too few.
func (c *comparison) checkColumns(snapshot, edited *table.Image, m layout.Match) error {
	if len(m.Ignored) == len(edited.Heading) {
		return &Refusal{Code: NoCommon, File: edited.Name, Text: fmt.Sprintf("%s and %s have no column in common", snapshot.Name, edited.Name),
			Columns: edited.Heading}
	}
	there := make(map[string]bool, len(edited.Heading))
	for _, h := range edited.Heading {
		there[h] = true
	}
	for i, f := range snapshot.Heading {
		switch {
		case m.Column[i] < 0 && there[f]:
			return twice(edited, f)
		case m.Column[i] < 0 && edited.Lent != nil && !slices.Contains(edited.Lent.Fields, f):
		case m.Column[i] < 0 && c.l.Ignores(f):
		case m.Column[i] < 0:
			c.find(changeset.ColumnAbsent.Finding("the copy has no column %q; that field is left untouched", f), edited.Name, f)
		case m.How[i] != layout.Exact:
			c.find(changeset.HeadingWorn.Finding("the heading %q is taken for %q (%s)", edited.Heading[m.Column[i]], f, m.How[i]), edited.Name, f)
		}
	}
	for _, col := range m.Ignored {
		h := edited.Heading[col]
		if c.l.Ignores(h) {
			continue
		}
		if h == "" {
			h = fmt.Sprintf("number %d, which has no heading,", col+1)
		} else {
			h = fmt.Sprintf("%q", h)
		}
		c.find(changeset.ColumnExtra.Finding("column %s is not in the snapshot and is ignored%s", h, c.lost(snapshot, m, edited.Heading[col])), edited.Name, edited.Heading[col])
	}
	return nil
}

// notes makes findings of what was noticed while a file was read.
func (c *comparison) notes(m *table.Image) {
	for _, n := range m.Notes {
		if m.Lent != nil && n.Code == changeset.OtherSheets.Name {
			continue // the sheet that says how to edit the copy
		}
		f := changeset.Finding{Code: n.Code, Level: changeset.Note, Scope: changeset.OfFile, Text: n.Text, Count: n.Count}
		c.find(f, m.Name, n.Column)
	}
}

func (c *comparison) find(f changeset.Finding, file, column string) {
	f.File, f.Column = file, column
	c.res.Findings = append(c.res.Findings, f)
}

// scan walks both tables at once.
func (c *comparison) scan(ctx context.Context) error {
	g, ctx := errgroup.WithContext(ctx)
	for _, s := range []*side{c.snap, c.copy} {
		if s != nil {
			g.Go(func() error { return table.Guard(func() error { return s.scan(ctx) }) })
		}
	}
	if err := g.Wait(); err != nil {
		return err
	}
	c.res.Records.Snapshot = c.snap.len()
	if err := c.snap.refuse(c.called); err != nil {
		return err
	}
	for _, s := range []*side{c.snap, c.copy} {
		if s != nil && s.bare > 0 {
			f := changeset.BareQuote.Finding("%s: a quote stands inside %s that do not start with one; taken as it stands", s.img.Name, words.Count(s.bare, "cell"))
			f.Count = s.bare
			c.find(f, s.img.Name, "")
		}
	}
	if c.copy != nil {
		c.res.Records.Edited = c.copy.len()
		c.res.Records.Blank = c.copy.blank
	}
	return nil
}

// count writes a number with its noun: "1 cell", "3 cells".
