package slip

import "slices"

// column is a field, its changes in the copy's order, and what is usual in
// it.
type column struct {
	j     *judge
	field int
	cells []int // indexes of Input.Cells

	found []Found

	looked   bool
	counts   map[string]int // of the sampled records' values
	blanks   int            // empty ones among them
	n        int            // sampled records
	kind     kind
	low, top number // of the sampled numbers or days
}

// kind is what a column's values are.
type kind uint8

const (
	texts kind = iota
	numbers
	days
)

func (c *column) cell(k int) *Cell { return &c.j.Cells[c.cells[k]] }

// add adds a finding on the column alone.
func (c *column) add(f Found) {
	c.j.take(f.Cells)
	c.found = append(c.found, f)
}

func (c *column) name() string { return c.j.Fields[c.field] }

// free are the changes that no slip explains yet.
func (c *column) free() []int {
	free := make([]int, 0, len(c.cells))
	for _, i := range c.cells {
		if !c.j.taken[i] {
			free = append(free, i)
		}
	}
	return free
}

// look reads the sample.
func (c *column) look() {
	if c.looked {
		return
	}
	c.looked = true
	c.counts = map[string]int{}
	asNumber, asDay := 0, 0
	var nums, dates []number
	for _, row := range c.j.sampled() {
		v := row[c.field]
		c.n++
		c.counts[v]++
		if v == "" {
			c.blanks++
			continue
		}
		if n, ok := parseNumber(v); ok {
			asNumber++
			nums = append(nums, n)
		} else if d, ok := parseDay(v); ok {
			asDay++
			dates = append(dates, d)
		}
	}
	filled := c.n - c.blanks
	switch {
	case filled > 0 && asNumber*10 >= filled*9:
		c.kind = numbers
		c.low, c.top = slices.MinFunc(nums, number.compare), slices.MaxFunc(nums, number.compare)
	case filled > 0 && asDay*10 >= filled*9:
		c.kind = days
		c.low, c.top = slices.MinFunc(dates, number.compare), slices.MaxFunc(dates, number.compare)
	}
}

// chance is how likely a record has the value; never nothing.
func (c *column) chance(v string) float64 {
	c.look()
	return (float64(c.counts[v]) + 0.5) / (float64(c.n) + 1)
}

// unseen is how likely a record has a value that none of the sample has: as
// likely as one that a single record has, and one more (Good and Turing).
func (c *column) unseen() float64 {
	c.look()
	once := 0
	for _, k := range c.counts {
		if k == 1 {
			once++
		}
	}
	return float64(once+1) / float64(max(c.n, 1))
}

// old is the snapshot's value in a row of the copy; ok is false where the row
// is no record.
func (c *column) old(row uint32) (string, bool) {
	i, ok := c.j.Table.Record(row)
	if !ok {
		return "", false
	}
	return c.j.Table.Old(i, c.field), true
}

// changeAt returns the change of a row, as a position in cells, or -1.
func (c *column) changeAt(row uint32) int {
	k, ok := slices.BinarySearchFunc(c.cells, row, func(i int, row uint32) int {
		return int(int64(c.j.Cells[i].Row) - int64(row))
	})
	if !ok {
		return -1
	}
	return k
}

// new is the value in a row of the copy; ok is false where nothing is taken
// from it.
func (c *column) new(row uint32) (string, bool) {
	if k := c.changeAt(row); k >= 0 {
		return c.cell(k).To, true
	}
	adds := c.j.Adds
	if k, ok := slices.BinarySearchFunc(adds, row, func(a Row, row uint32) int { return int(int64(a.Row) - int64(row)) }); ok {
		return adds[k].Values[c.field], true
	}
	return c.old(row)
}
