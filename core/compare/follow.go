package compare

import (
	"bytes"
	"context"
	"sort"

	"paletwin/core/table/csv"
)

// stretch is so many rows of the copy, from row j on, that are byte for byte the snapshot's, from row i on.
type stretch struct{ i, j, n uint32 }

// follower scans a copy that has mostly the snapshot's bytes. A stretch of equal bytes that begins with a row in both files is the same
// rows in both: they are split into cells by the same delimiter, what is wrong with them is wrong with the snapshot's, which is scanned
// and was found in order, and so only their places are taken over. A row that differs is scanned; then the two are brought into step
// again at one of the next rows, or at the snapshot's row with the copy's key, where keys ascend.
type follower struct {
	*side
	of   *side
	sc   *csv.Scanner
	i    uint32 // the snapshot's row that is expected next
	base uint32 // the one behind the last stretch
	lost int    // rows behind which the two were not in step
	all  []stretch
}

const (
	// nearby is how many rows match looks ahead and back for the place where
	// both files are in step again.
	nearby = 8
	// fewLost is the share of rows, as 1/n, that may be out of step before the rest is scanned as it is, and
	// lostAtFirst how many may be so besides.
	fewLost, lostAtFirst = 8, 256
)

// mayFollow reports whether a copy may be scanned so, where rows of equal bytes are equal records: nothing is to be told of the snapshot's rows.
func (t *tables) mayFollow() bool {
	s, c := t.snap, t.copy
	return s.wantCells == c.wantCells && s.form == nil && s.bare == 0 && s.ends == nil &&
		(s.isText() || !c.isText())
}

// follow scans the copy beside the snapshot, which is scanned.
func (t *tables) follow(ctx context.Context) error {
	t.copy.reserve()
	f := &follower{side: t.copy, of: t.snap, sc: csv.Body(t.copy.img)}
	done, err := false, f.text(0, f.img.Body)
	if err == nil {
		done, err = f.walk(ctx)
	}
	if err == nil {
		f.bare += f.sc.Bare
		if f.row = f.sc.Row; !done {
			err = f.scanFrom(ctx, f.sc.Pos(), t.o.Cores)
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		t.copy.anew() // the file is wrong somewhere: scanned from its start on it is told where
		return t.copy.scan(ctx, 1)
	}
	f.unsorted = true // that is not known of it
	f.finish()
	t.stretches = f.all
	return nil
}

// anew forgets what was scanned.
func (s *side) anew() {
	form := s.form
	*s = *newSide(s.img, s.keyCol)
	s.form = form
}

// walk goes through the copy. It ends before the end, and says so, where too many rows are out of step.
func (f *follower) walk(ctx context.Context) (done bool, err error) {
	for n := 0; ; n++ {
		if n&0xfff == 0 && ctx.Err() != nil {
			return false, ctx.Err()
		}
		f.stretch()
		ok, err := f.sc.Next()
		if err != nil {
			return false, err
		}
		if !ok {
			return true, nil
		}
		if err := f.text(f.sc.Start(), f.sc.Pos()); err != nil {
			return false, err
		}
		f.take(f.sc)
		if !f.step() {
			if f.lost++; f.lost > lostAtFirst+f.start.len()/fewLost {
				return false, nil
			}
		}
	}
}

// text checks that bytes which are not the snapshot's are text.
func (f *follower) text(from, to int) error {
	if !f.isText() {
		return nil
	}
	return csv.CheckText(f.img.Name, f.img.Data, from, to)
}

// stretch takes over the rows that are equal from here on.
func (f *follower) stretch() {
	if int(f.i) >= f.of.len() {
		return
	}
	from, to := f.of.start.at(f.i), int64(f.sc.Pos())
	was, is := f.of.img.Data[from:], f.img.Data[to:]
	equal := int64(commonPrefix(was, is))
	skipped := f.sc.Row - f.img.HeadingRow - f.start.len() // as take counts them, if a row comes
	i := f.i
	n := uint32(sort.Search(f.of.len()-int(i), func(k int) bool { return f.of.start.at(i+uint32(k)+1)-from > equal }))
	if end := f.of.start.at(i+n) - from; n > 0 && was[end-1] != '\n' && end < int64(len(is)) {
		n-- // the last row of the one is the beginning of a longer one
	}
	if n == 0 {
		return
	}
	if skipped > f.skipped() {
		f.skip(f.start.len(), skipped)
	}
	f.start.extend(&f.of.start, i, n, to-from)
	f.all = append(f.all, stretch{i, uint32(f.start.len()) - n, n})
	f.i = i + n
	end := f.of.start.at(f.i)
	f.sc.Jump(int(end-from+to), int(n))
	f.last = f.start.at(uint32(f.start.len()-1)) + int64(len(f.of.raw(f.i-1)))
	f.base = f.i
}

// step finds the snapshot's row that the next one of the copy is, and reports whether it is nearby.
func (f *follower) step() bool {
	was, next := f.i, f.img.Data[f.sc.Pos():]
	f.i++
	if len(next) == 0 || f.starts(was+1, next) { // the row was changed
		return true
	}
	for _, k := range []uint32{was, f.base} { // rows are new
		if f.starts(k, next) {
			f.i = k
			return true
		}
	}
	for k := was + 2; k < was+2+nearby; k++ { // rows are missing
		if f.starts(k, next) {
			f.i = k
			return true
		}
	}
	if i, ok := f.search(next); ok {
		f.i = i
	}
	return false
}

// starts reports whether bytes start with the snapshot's row i, its line end included.
func (f *follower) starts(i uint32, b []byte) bool {
	if int(i) >= f.of.len() {
		return false
	}
	from, to := f.of.start.at(i), f.of.start.at(i+1)
	return int(to-from) <= len(b) && bytes.Equal(f.of.img.Data[from:to], b[:to-from])
}

// search finds the snapshot's row with the key of the row that bytes start with, where its keys ascend.
func (f *follower) search(b []byte) (uint32, bool) {
	const most = 64 << 10 // of a row
	if f.of.unsorted || len(f.keyCol) > 1 {
		return 0, false
	}
	sc := csv.NewScanner(b[:min(len(b), most)], 0, f.img.Comma)
	if ok, err := sc.Next(); !ok || err != nil {
		return 0, false
	}
	key, blank := f.rowKey(sc.Raw())
	if blank {
		return 0, false
	}
	return f.of.search(key)
}

// search finds the row with a key, as rowKey gives it, in a table whose keys ascend.
func (s *side) search(key []byte) (uint32, bool) {
	i := sort.Search(s.len(), func(i int) bool {
		at, _ := s.rowKey(s.raw(uint32(i)))
		return bytes.Compare(at, key) >= 0
	})
	if i == s.len() {
		return 0, false
	}
	at, _ := s.rowKey(s.raw(uint32(i)))
	return uint32(i), bytes.Equal(at, key)
}

// commonPrefix is how many bytes two texts have in common from their start on.
func commonPrefix(a, b []byte) int {
	const first, most = 256, 64 << 10
	n := min(len(a), len(b))
	at := 0
	for size := first; at < n; size = min(2*size, most) {
		to := min(at+size, n)
		if !bytes.Equal(a[at:to], b[at:to]) {
			n = to
			break
		}
		at = to
	}
	for to := n; at < to; { // the first difference is in here, or there is none
		if to-at <= 8 {
			for at < to && a[at] == b[at] {
				at++
			}
			return at
		}
		if half := at + (to-at)/2; bytes.Equal(a[at:half], b[at:half]) {
			at = half
		} else {
			to = half
		}
	}
	return at
}
