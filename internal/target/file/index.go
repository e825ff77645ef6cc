package file

import (
	"context"
	"math"
	"runtime"
	"slices"

	"github.com/zeebo/xxh3"
	"golang.org/x/sync/errgroup"

	"paletwin/core/table"
	"paletwin/internal/target"
)

// index says where the rows of records stand, so that some of them can be read without going through all: some forty bytes a row.
type index struct {
	rows  []rowAt // in the file's order
	keys  []byte  // one behind the other
	slots []uint32
	twice map[string]int // how often keys stand that stand more than once
}

// rowAt is where a row and its key stand: the key in the index's keys.
type rowAt struct {
	start     int
	size, end uint32 // of the row, and of its line end
	key       uint32
	length    uint32 // of the key
}

// makeIndex goes through the file once. A file with a row, or with keys, of more than four gigabytes is not indexed.
func (l *lines) makeIndex(ctx context.Context) error {
	text, _ := l.rows.text()
	x := &index{rows: make([]rowAt, 0, l.f.rows)}
	fits := true
	err := l.rows.each(ctx, func(key []byte, r span) error {
		fits = fits && r.next-r.start < math.MaxUint32 && len(x.keys)+len(key) < math.MaxUint32 && len(x.rows) < math.MaxUint32-1
		if fits && len(x.rows) == 0 { // keys are mostly as long as the first
			x.keys = make([]byte, 0, min((len(key)+1)*l.f.rows, len(text)))
		}
		if fits {
			x.rows = append(x.rows, rowAt{r.start, uint32(r.end - r.start), uint32(r.next - r.end), uint32(len(x.keys)), uint32(len(key))})
			x.keys = append(x.keys, key...)
		}
		return nil
	})
	if err != nil || !fits {
		return err
	}
	l.f.rows = len(x.rows)
	n := 2
	for n < 2*len(x.rows) {
		n *= 2
	}
	x.slots = make([]uint32, n)
	for i := range x.rows {
		key := x.key(i)
		slot, first := x.find(key)
		if first < 0 {
			x.slots[slot] = uint32(i) + 1
			continue
		}
		if x.twice == nil {
			x.twice = map[string]int{}
		}
		x.twice[string(key)] = max(x.twice[string(key)], 1) + 1
	}
	l.index = x
	return nil
}

// letGo lets go of the index.
func (l *lines) letGo() { l.index = nil }

func (x *index) key(row int) []byte {
	r := &x.rows[row]
	return x.keys[r.key : r.key+r.length]
}

// find returns the first row of a key, -1 if there is none, and the slot where it is, or would be.
func (x *index) find(key []byte) (slot, row int) {
	last := uint64(len(x.slots) - 1)
	for at := xxh3.Hash(key) & last; ; at = (at + 1) & last {
		n := int(x.slots[at])
		if n == 0 || string(x.key(n-1)) == string(key) {
			return int(at), n - 1
		}
	}
}

// current reads the wanted records, on all cores.
func (x *index) current(l *lines, at map[string]int, states []target.State) error {
	text, body := l.rows.text()
	first := neighbour{end: body, lead: lineEnd(text[:body])}
	type wanted struct{ row, state int }
	found := make([]wanted, 0, len(at))
	for key, i := range at {
		if _, row := x.find([]byte(key)); row >= 0 {
			found = append(found, wanted{row, i})
		}
	}
	slices.SortFunc(found, func(a, b wanted) int { return a.row - b.row })
	var g errgroup.Group
	for some := range slices.Chunk(found, max(len(found)/runtime.GOMAXPROCS(0)+1, 1)) {
		g.Go(func() error {
			return table.Guard(func() error {
				for _, w := range some {
					before := first
					if w.row > 0 {
						r := x.span(w.row - 1)
						before = neighbour{x.key(w.row - 1), r.next, string(text[r.end:r.next])}
					}
					s := &states[w.state]
					l.state(s, text, before, x.span(w.row))
					s.Count = max(1, x.twice[string(x.key(w.row))])
				}
				return nil
			})
		})
	}
	return g.Wait()
}

func (x *index) span(row int) span {
	r := &x.rows[row]
	end := r.start + int(r.size)
	return span{r.start, end, end + int(r.end)}
}
