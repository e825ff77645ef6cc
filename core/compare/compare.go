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
	"runtime"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/slip"
	"paletwin/core/table"
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
	Key           []string
	Layout        *layout.Layout // or nil
	SameOnly      bool           // the layout says which values are the same, and judges nothing
	CheckAll      bool           // check all of the copy's values, not only new and changed ones
	OtherRegister bool           // go on where the copy is no copy of the snapshot
	Proposals
	Program
	SlipSearch
	Loans
	Room
	Alike    *Alike              // or nil: the tables are whole
	Findings []changeset.Finding // what was noticed before the comparison
	// Referrers, if not nil, says which fields of other records name these, and what it
	// noticed. It is asked where records may be deleted.
	Referrers func(ctx context.Context) ([]Referrer, []changeset.Finding, error)
	// Counted, if not nil, is told the numbers of records and of each copy's rows before
	// the first change is written.
	Counted func(snapshot int, edited []int)
	// Judge, if not nil, is asked about each change before it is written
	// and may add holds to it. It is called on several goroutines.
	Judge func(*changeset.Change)
	// Unencoded says that the sink takes no lines: they are nil.
	Unencoded bool
}

// Proposals say what is proposed where the copy differs.
type Proposals struct {
	Missing    string          // Held, Asked or Ignore; "" is Held
	Blank      string          // Held, Clear or Ignore; "" is Held
	Allow      []changeset.Act // the acts that may be proposed; nil allows all
	AllMissing bool            // deletes that were asked for stay open, however many they are
	DeleteList *KeyList        // records to delete, or nil
	KeepList   *KeyList        // the records that stay, or nil: all others are to be deleted
	Untouched  []string        // fields that are not compared, of records that both have
	AddFields  []string        // the fields that new records have; nil is all of the copy's
	Limits     *layout.Limits  // beside the layout's, or nil
	LimitsOf   string          // whose these are: "the routine autumn-fees"
}

// Program says what is known of the program that saved the copy.
type Program struct {
	Wear     bool       // tell what software did to the copy from what was meant
	Year     int        // the clock's, for dates that have none
	SavedIn  string     // the program's locale, if it is known
	DayOrder string     // "dmy" or "mdy", if it is known
	Worn     func(Cell) // if not nil, is told of every cell that is not read as it is seen
}

// SlipSearch says whether slips of the hand are looked for, and with what.
type SlipSearch struct {
	Slips string // SlipsHold, SlipsWarn or SlipsOff; "" is off, and makes no sample
	// Earlier, if not nil, gives what earlier snapshots had for the fields of
	// some records, newest first. keys are record.Key encodings.
	Earlier func(ctx context.Context, fields []string, keys map[string]bool) ([]Earlier, error)
	// Others, if not nil, gives the samples of other snapshots of these
	// records.
	Others func() ([]Other, error)
	// Known are values that are meant, by the fields that get them: they name records that are added along.
	Known map[string]map[string]bool
}

// Loans tell what was lent of the snapshot.
type Loans struct {
	// Lends, if not nil, gives what narrow copies of the snapshot were made of.
	Lends func() []*table.Lent
	// Digest gives the snapshot's SHA-256, hexadecimal. It is asked where the
	// copy says that it was lent.
	Digest func() (string, error)
}

// Alike tells of the records that two tables have byte for byte alike, where they were left out of both: whoever
// has the tables compared them there already.
type Alike struct {
	Records int // how many these are
	// Sums adds up fields over the whole snapshot, in their order.
	Sums func(ctx context.Context, fields []string) ([]Sum, error)
	// Values gives see the text of every cell of one of the copy's columns, by its place, that is not empty, over
	// the whole copy.
	Values func(ctx context.Context, column int, see func(text []byte)) error
}

// Room is what a comparison may take of the machine.
type Room struct {
	Cores  int   // 0 means all
	Memory int64 // bytes that may be used beside the files' own pages; 0 means as many as it takes
	// Spill gives a zeroed array of so many bytes that does not count as
	// memory, such as a mapped temporary file. It is asked when Memory would
	// not do; without it, Memory is not kept.
	Spill func(bytes int64) ([]byte, error)
}

func (o *Options) allows(a changeset.Act) bool {
	return len(o.Allow) == 0 || slices.Contains(o.Allow, a)
}

// Sink takes the changes, in the change set's order. lines holds them as
// changeset.AppendLine encodes them; nothing where Options.Unencoded says so.
type Sink interface {
	WriteEncoded(lines []byte, changes []*changeset.Change) error
}

// Records counts records and rows. The counts add up:
//
//	Snapshot = amend + delete + Unchanged + Kept + StoppedRecords
//	Edited   = amend + add + Unchanged + Skipped + Stopped
//
// Where several copies were compared, the second line holds for each of them, and in the first
// what is counted in Against counts once. A wholly blank row is no row of the copy and is counted in Blank alone.
type Records struct {
	Snapshot       int `json:"snapshot"`
	Edited         int `json:"edited"`
	Unchanged      int `json:"unchanged"`
	Kept           int `json:"kept"`            // snapshot records with a difference that is not proposed
	Skipped        int `json:"skipped"`         // rows of the copy from which nothing follows
	Stopped        int `json:"stopped"`         // rows of the copy with a stop on their key
	StoppedRecords int `json:"stopped_records"` // snapshot records that such rows are about
	Blank          int `json:"blank_rows"`
	// Against counts the records that one copy amends and another lacks: they are among the
	// amends, and among the deletes.
	Against int `json:"against,omitempty"`
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
	Copies    []CopyFound // where several copies were compared, what was found in each
	// DeletesHeld says why deletes are held although they were asked for;
	// "" if they are not.
	DeletesHeld string
}

// CopyFound is what one of several copies says of the snapshot by itself.
type CopyFound struct {
	Name     string           `json:"name"`
	Records  Records          `json:"records"`
	Changes  changeset.Counts `json:"changes"`
	Wear     Wear             `json:"wear"`
	Headings []Heading        `json:"-"`
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
	t := newTables(snapshot, o)
	defer func() { t.ahead.end() }()
	dr, err := t.draftsOf(ctx, snapshot, edited)
	if err != nil {
		return nil, err
	}
	jd, err := dr.judge(ctx)
	if err != nil {
		return nil, err
	}
	if o.Counted != nil {
		o.Counted(t.res.Records.Snapshot, []int{t.res.Records.Edited})
	}
	return t.res, jd.write(ctx, sink)
}

// Pairs finds which of the snapshot's records the rows of a copy are, as Run would, those among them whose
// keys a program changed: by the copy's rows that are not blank, -1 where none is. Errors are those of Run.
func Pairs(ctx context.Context, snapshot, edited *table.Image, o Options) ([]int32, error) {
	if o.Cores <= 0 {
		o.Cores = runtime.GOMAXPROCS(0)
	}
	t := newTables(snapshot, o)
	if err := t.open(ctx, snapshot, edited); err != nil {
		return nil, err
	}
	p, err := t.matched(ctx)
	if err != nil {
		return nil, err
	}
	records := slices.Repeat([]int32{-1}, p.copy.len())
	for i, m := range p.mate {
		if m >= mateRow {
			records[m-mateRow] = int32(i)
		}
	}
	return records, nil
}

// draftsOf goes through all the stages that come before changes are judged.
func (t *tables) draftsOf(ctx context.Context, snapshot, edited *table.Image) (*drafter, error) {
	if err := t.open(ctx, snapshot, edited); err != nil {
		return nil, err
	}
	p, err := t.pairUp(ctx)
	if err != nil {
		return nil, err
	}
	p.sumAhead(ctx)
	r, err := p.read(ctx)
	if err != nil {
		return nil, err
	}
	return r.drafts(ctx)
}

// Check reports whether a table can be compared with another state of itself:
// its headings name its fields, each record is whole, and has a key of its own.
// Errors are as those of Run.
func Check(ctx context.Context, m *table.Image, o Options) error {
	o.SameOnly = true
	t := newTables(m, o)
	t.called = ""
	if err := t.open(ctx, m, nil); err != nil {
		return err
	}
	p, err := newPairs(t)
	if err != nil {
		return err
	}
	return table.Guard(func() error { return p.match(ctx) })
}

// Nothing reports whether there is nothing to keep: no change, nothing that a program did, and no finding that weighs.
func (r *Result) Nothing() bool {
	return r.Changes.Changes() == 0 && r.Wear.Cells+r.Wear.Held == 0 && !slices.ContainsFunc(r.Findings, func(f changeset.Finding) bool { return f.Level != changeset.Note })
}
