package compare

import (
	"context"
	"math/big"
	"slices"

	"github.com/cockroachdb/apd/v3"
	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

// Total is the exact sum of a numeric field over all records, before and
// after the change set, without the deletes that are held.
type Total struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Sum adds decimals exactly. Values of one scale are added as integers.
type Sum struct {
	parts [maxDigits + 1]int64    // by the number of decimals
	big   [maxDigits + 1]*big.Int // what did not fit
	bad   bool                    // a cell was no number
	any   bool                    // a cell was filled
	width int                     // the one length of all integers, or -1
}

// maxDigits is the most digits a cell may have to count as a number; longer
// ones are ids, and 18 digits fit an int64.
const maxDigits = 18

// Add adds the number in cell. A blank cell adds nothing.
func (s *Sum) Add(cell []byte) { s.add(cell, 1) }

// AddAll adds many cells that are numbers with so many decimals, of which the shortest and the longest have so many
// bytes, at once. total is their sum, as an integer of units of the last decimal.
func (s *Sum) AddAll(decimals int, total *big.Int, shortest, longest int) {
	part := Sum{any: true, width: shortest}
	if decimals > 0 || shortest != longest {
		part.width = -1
	}
	if total.IsInt64() {
		part.parts[decimals] = total.Int64()
	} else {
		part.big[decimals] = total
	}
	s.Merge(&part)
}

// AddOther notes that a cell is no number.
func (s *Sum) AddOther() { s.bad = true }

// IsNumber reports whether a cell that is not blank counts as a number.
func IsNumber(cell []byte) bool {
	_, _, ok := number(cell)
	return ok
}

// add adds the number in cell, times sign. A blank cell adds nothing.
func (s *Sum) add(cell []byte, sign int64) {
	if len(cell) == 0 || s.bad {
		return
	}
	n, decimals, ok := number(cell)
	if !ok {
		s.bad = true
		return
	}
	switch w := len(cell); {
	case decimals > 0:
		s.width = -1
	case !s.any:
		s.width = w
	case s.width != w:
		s.width = -1
	}
	s.any = true
	s.addPart(decimals, n*sign)
}

func (s *Sum) addPart(decimals int, n int64) {
	p := s.parts[decimals]
	if r := p + n; (r > p) == (n > 0) {
		s.parts[decimals] = r
	} else {
		s.carry(decimals, p, n)
	}
}

// carry moves a part that would not fit any more to the big ones.
func (s *Sum) carry(decimals int, p, n int64) {
	if s.big[decimals] == nil {
		s.big[decimals] = new(big.Int)
	}
	s.big[decimals].Add(s.big[decimals], big.NewInt(p))
	s.parts[decimals] = n
}

// Merge adds another sum.
func (s *Sum) Merge(o *Sum) {
	s.bad = s.bad || o.bad
	switch {
	case !s.any:
		s.width = o.width
	case o.any && s.width != o.width:
		s.width = -1
	}
	s.any = s.any || o.any
	for d := range o.parts {
		s.addPart(d, o.parts[d])
		if o.big[d] != nil {
			if s.big[d] == nil {
				s.big[d] = new(big.Int)
			}
			s.big[d].Add(s.big[d], o.big[d])
		}
	}
}

// CodeWidth is the length from which integers that all have one length are
// taken for ids and not for quantities.
const CodeWidth = 5

// numeric reports whether the column can be summed and is worth it.
func (s *Sum) numeric() bool { return s.any && !s.bad && s.width < CodeWidth }

// decimal returns the sum with as many decimals as its parts have.
func (s *Sum) decimal() *apd.Decimal {
	total := new(big.Int)
	for d := 0; d <= maxDigits; d++ {
		if d > 0 {
			total.Mul(total, big.NewInt(10))
		}
		total.Add(total, big.NewInt(s.parts[d]))
		if s.big[d] != nil {
			total.Add(total, s.big[d])
		}
	}
	return apd.NewWithBigInt(new(apd.BigInt).SetMathBigInt(total), -maxDigits)
}

// decimals returns the largest number of decimals that was added.
func (s *Sum) decimals() int {
	for d := maxDigits; d > 0; d-- {
		if s.parts[d] != 0 || s.big[d] != nil {
			return d
		}
	}
	return 0
}

// moves is what changes do to the sums of fields.
type moves map[string]*Sum

func (m moves) of(field string) *Sum {
	s := m[field]
	if s == nil {
		s = new(Sum)
		m[field] = s
	}
	return s
}

func (m moves) take(ch *changeset.Change) {
	for i := range ch.Fields {
		if ch.Fields[i].Disputed() {
			continue // which value it will be is not known
		}
		s := m.of(ch.Fields[i].Field)
		s.value(ch.Fields[i].From, -1)
		s.value(ch.Fields[i].To, 1)
	}
	sign := int64(1)
	if ch.Act == changeset.Delete {
		sign = -1
	}
	for _, f := range ch.Record {
		m.of(f.Name).value(f.Value, sign)
	}
}

func (s *Sum) value(v record.Value, sign int64) {
	if !s.bad && !v.Blank() {
		s.add([]byte(v.String()), sign)
	}
}

// summed returns the columns to sum: those that the changes move, that are no
// part of the key, and that hold nothing but numbers in a sample of rows.
func (wr *writer) summed() []int {
	return wr.numbers(func(f int) bool { s := wr.took.of(wr.res.Fields[f]); return s.any && !s.bad })
}

// numbers returns those of some columns that are no part of the key, and that hold nothing but numbers in a sample of rows.
func (t *tables) numbers(some func(f int) bool) []int {
	var cols []int
	for f := range t.res.Fields {
		if t.field != nil && t.field[f] != nil && t.field[f].Kind != schema.Integer && t.field[f].Kind != schema.Decimal {
			continue // whatever it looks like
		}
		if !slices.Contains(t.snap.keyCol, f) && some(f) {
			cols = append(cols, f)
		}
	}
	const sample = 4096
	sums := make([]Sum, len(cols))
	var cells csv.Row
	step := max(t.snap.len()/sample, 1)
	for i := 0; i < t.snap.len(); i += step {
		cells.Split(t.snap.raw(uint32(i)), t.snap.img.Comma, 0)
		for n, col := range cols {
			sums[n].add(csv.Unquote(cells.Cell(col)), 1)
		}
	}
	kept := cols[:0]
	for n, col := range cols {
		if !sums[n].bad {
			kept = append(kept, col)
		}
	}
	return kept
}

// totals sums the columns that the changes move.
func (wr *writer) totals(ctx context.Context) error {
	cols := wr.summed()
	if len(cols) == 0 {
		return nil
	}
	sums, err := wr.sums(ctx, cols)
	if err != nil {
		return err
	}
	for i, col := range cols {
		if !sums[i].numeric() {
			continue
		}
		delta := wr.took.of(wr.res.Fields[col])
		places := max(sums[i].decimals(), delta.decimals())
		after := new(apd.Decimal)
		exact := apd.BaseContext.WithPrecision(0)
		if _, err := exact.Add(after, sums[i].decimal(), delta.decimal()); err != nil {
			return err
		}
		wr.res.Totals = append(wr.res.Totals, Total{wr.res.Fields[col], fixed(sums[i].decimal(), places), fixed(after, places)})
	}
	return nil
}

// sums adds up columns over the whole snapshot.
func (wr *writer) sums(ctx context.Context, cols []int) ([]Sum, error) {
	if wr.o.Alike == nil {
		if sums, ok := wr.ahead.of(cols); ok {
			return sums, nil
		}
		return wr.snap.sums(ctx, cols, wr.o.Cores)
	}
	return wr.o.Alike.Sums(ctx, names(wr.res.Fields, cols))
}

// sumsAhead is sums of columns that are made while the changes are, for which the processor does not need all its cores. nil is none.
type sumsAhead struct {
	cols []int
	sums []Sum
	err  error
	stop func()
	done chan struct{}
}

// sumAhead begins to add up all columns of numbers where records come or go, whose every field is moved then. The caller ends it.
func (p *pairs) sumAhead(ctx context.Context) {
	if p.o.Alike != nil || p.several > 0 || len(p.adds) == 0 && (p.deletes() == 0 || len(p.deleteHold) > 0) {
		return
	}
	a := &sumsAhead{done: make(chan struct{})}
	ctx, a.stop = context.WithCancel(ctx)
	p.ahead = a
	go func() {
		defer close(a.done)
		a.err = table.Guard(func() error {
			a.cols = p.numbers(func(int) bool { return true })
			return nil
		})
		if a.err == nil && len(a.cols) > 0 {
			a.sums, a.err = p.snap.sums(ctx, a.cols, p.o.Cores)
		}
	}()
}

// of returns the sums of some columns, if they could be made.
func (a *sumsAhead) of(cols []int) (sums []Sum, ok bool) {
	if a == nil {
		return nil, false
	}
	if <-a.done; a.err != nil {
		return nil, false
	}
	for _, col := range cols {
		i, there := slices.BinarySearch(a.cols, col)
		if !there {
			return nil, false
		}
		sums = append(sums, a.sums[i])
	}
	return sums, true
}

// end waits until nothing is read any more.
func (a *sumsAhead) end() {
	if a != nil {
		a.stop()
		<-a.done
	}
}

// fixed writes d with the given number of decimals, which it has at most.
func fixed(d *apd.Decimal, places int) string {
	out := new(apd.Decimal)
	if _, err := apd.BaseContext.WithPrecision(200).Quantize(out, d, int32(-places)); err != nil {
		return d.Text('f')
	}
	return out.Text('f')
}

// sumRows adds the given columns of the rows lo to hi to sums.
func (s *side) sumRows(ctx context.Context, cols []int, sums []Sum, lo, hi int) error {
	width := s.wantCells
	if s.wider {
		width = 0
	}
	pick := csv.NewPicker(s.img.Comma, cols, width, s.quoted)
	var cells csv.Row
	to := s.start.at(uint32(lo))
	for i := lo; i < hi; i++ {
		if i&0xffff == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		from := to
		to = s.start.at(uint32(i + 1))
		raw := s.between(uint32(i), from, to)
		if s.bare == 0 {
			for n, cell := range pick.Cells(raw) {
				sums[n].add(csv.Unquote(cell), 1)
			}
			continue
		}
		cells.Split(raw, s.img.Comma, cols[len(cols)-1]+1)
		for n, col := range cols {
			sums[n].add(csv.Unquote(cells.Cell(col)), 1)
		}
	}
	return nil
}

// sums adds up the given columns over all rows.
func (s *side) sums(ctx context.Context, cols []int, cores int) ([]Sum, error) {
	parts := make([][]Sum, cores)
	err := each(cores, func(w int) error {
		parts[w] = make([]Sum, len(cols))
		return s.sumRows(ctx, cols, parts[w], w*s.len()/cores, (w+1)*s.len()/cores)
	})
	if err != nil {
		return nil, err
	}
	for _, p := range parts[1:] {
		for n := range p {
			parts[0][n].Merge(&p[n])
		}
	}
	return parts[0], nil
}
