package slip

import (
	"cmp"
	"slices"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/table"
)

// A Table is what a judgement may look at beside the changes. Rows are the
// copy's, from 0, in its own order; records are the snapshot's.
type Table interface {
	Rows() int
	Records() int
	// Record returns the record that a row of the copy is, if it is one.
	Record(row uint32) (record uint32, ok bool)
	// Old returns the snapshot's value of a field, OldRow all of a record's.
	Old(record uint32, field int) string
	OldRow(record uint32) []string
	// RowNumber returns the number that a spreadsheet gives to a row.
	RowNumber(row uint32) int
	Key(record uint32) string
	RowKey(row uint32) string
}

// Cell is a field change.
type Cell struct {
	Record, Row uint32
	Field       uint32
	From, To    string
}

// Row is a row of the copy that matches no record, as it is read. Values are
// by field; "" is a field that it does not have.
type Row struct {
	Row    uint32
	Values []string
}

// Input is what is judged.
type Input struct {
	Table   Table
	Fields  []string
	Key     []int    // the fields that are the key
	Cells   []Cell   // in the snapshot's order
	Adds    []Row    // in the copy's order
	Keyless []Row    // rows without a key, of which nothing is taken
	Missing []uint32 // records that the copy lacks
	Past    []Past   // what earlier snapshots had, newest first
	// Formulas are the columns of the copy that hold formulas, with the rows, as
	// a spreadsheet counts them, if they are not too many to be listed.
	Formulas map[int][]int
	// Known, if not nil, reports whether a field's new value is known to be meant: it names a record that is
	// added along.
	Known func(field int, value string) bool
}

// Found is a slip, and what it concerns.
type Found struct {
	Code    changeset.Code
	Field   int // or -1
	Text    string
	Cells   []int    // field changes, as indexes of Input.Cells
	Records []uint32 // records whose amend or delete is concerned as a whole
	Adds    []uint32 // rows whose add is concerned
	Rows    []uint32 // the rows it names, the worst first
	Moved   []Moved  // of records that stand under another key
	// Together says that all of it is decided together or not at all.
	Together bool
}

// Moved is a record that stands under the key of another one, or under a new one.
type Moved struct {
	Was    uint32 // the record
	Record uint32 // whose key it has now, where it is no new one
	Row    uint32 // the row on which it stands now
	Added  bool   // its key is new
}

// Judge finds the slips in a set of changes. The same input gives the same
// slips in the same order. The error is table.ErrChanged, where a mapped file
// went away.
func Judge(in *Input) ([]Found, error) {
	j := &judge{Input: in, taken: make([]bool, len(in.Cells)), columns: make([]*column, len(in.Fields))}
	for i := range in.Cells {
		f := in.Cells[i].Field
		if j.columns[f] == nil {
			j.columns[f] = &column{j: j, field: int(f)}
		}
		j.columns[f].cells = append(j.columns[f].cells, i)
	}
	for f, c := range j.columns {
		if c == nil {
			j.columns[f] = &column{j: j, field: f}
		}
		c = j.columns[f]
		byRow := func(a, b int) int { return cmp.Compare(in.Cells[a].Row, in.Cells[b].Row) }
		if !slices.IsSortedFunc(c.cells, byRow) {
			slices.SortFunc(c.cells, byRow)
		}
	}
	for _, c := range j.columns {
		j.invisible(c)
	}
	j.rows()
	j.stale()
	j.keys()
	j.across()
	err := j.eachColumn(func(c *column) {
		c.formulas()
		c.shifts()
		c.whole(commonBefore)
		c.series()
		c.overruns()
		c.gaps()
		c.whole(everywhere)
	})
	if err != nil {
		return nil, err
	}
	j.swappedPairs()
	err = j.eachColumn(func(c *column) {
		c.moves()
		c.nearMisses()
	})
	return j.found, err
}

// eachColumn judges the columns that change, all at once; none touches what
// another does.
func (j *judge) eachColumn(judge func(c *column)) error {
	var g errgroup.Group
	for _, c := range j.columns {
		c.look() // other columns ask what is usual in this one
	}
	for _, c := range j.columns {
		if len(c.cells) > 0 {
			g.Go(func() error { return table.Guard(func() error { judge(c); return nil }) })
		}
	}
	err := g.Wait()
	for _, c := range j.columns {
		j.found = append(j.found, c.found...)
		c.found = nil
	}
	return err
}

// judge is the state of one Judge. A cell that one slip explains is taken,
// and no evidence for another.
type judge struct {
	*Input
	columns []*column
	sample  [][]string // records at fixed places
	taken   []bool
	found   []Found
}

func (j *judge) add(f Found) {
	j.take(f.Cells)
	j.found = append(j.found, f)
}

func (j *judge) take(cells []int) {
	for _, i := range cells {
		j.taken[i] = true
	}
}

// Sampled is how many records of a table with so many columns are looked at, where most are of one with few.
func Sampled(most, columns int) int {
	return max(min(most, fewestSampled), min(most, mostCells/max(columns, 1)))
}

// sampled are the records that show what is usual.
func (j *judge) sampled() [][]string {
	if j.sample == nil {
		all, most := j.Table.Records(), Sampled(mostSampled, len(j.Fields))
		j.sample = make([][]string, 0, min(all, most))
		for i := 0; i < all; i += (all-1)/most + 1 {
			j.sample = append(j.sample, j.Table.OldRow(uint32(i)))
		}
	}
	return j.sample
}

func (j *judge) isKey(field int) bool { return slices.Contains(j.Key, field) }

// rowsOf are the rows of cells.
func (j *judge) rowsOf(cells []int) []uint32 {
	rows := make([]uint32, len(cells))
	for k, i := range cells {
		rows[k] = j.Cells[i].Row
	}
	return rows
}
