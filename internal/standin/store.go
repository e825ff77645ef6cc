package standin

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/zeebo/xxh3"

	"paletwin/core/record"
	"paletwin/internal/odata"
)

// Record is one state of a record. It does not change: who has it may go on reading it.
type Record struct{ cells []odata.Value }

// etag is the record's weak ETag: equal records have equal ones.
func (r *Record) etag() string {
	var room [512]byte
	b := room[:0]
	for _, c := range r.cells {
		b = append(b, byte(c.Kind))
		b = record.AppendPart(b, c.Text)
	}
	var sum [8]byte
	binary.BigEndian.PutUint64(sum[:], xxh3.Hash(b))
	tag := [20]byte{'W', '/', '"', 19: '"'}
	hex.Encode(tag[3:19], sum[:])
	return string(tag[:])
}

// keyOf is a record's key, as records are found by it.
func (s *Set) keyOf(r *Record) string {
	var b [64]byte
	enc := b[:0]
	for _, k := range s.Key {
		enc = record.AppendPart(enc, r.cells[k].Canonical())
	}
	return string(enc)
}

// keyFrom is the key of its values.
func keyFrom(values []odata.Value) string {
	var enc []byte
	for _, v := range values {
		enc = record.AppendPart(enc, v.Canonical())
	}
	return string(enc)
}

func (s *Set) keyValues(r *Record) []odata.Value {
	values := make([]odata.Value, len(s.Key))
	for i, k := range s.Key {
		values[i] = r.cells[k]
	}
	return values
}

// compareKeys orders two records by their keys.
func (s *Set) compareKeys(a, b *Record) int {
	for _, k := range s.Key {
		if c, _ := a.cells[k].Compare(b.cells[k]); c != 0 {
			return c
		}
	}
	return 0
}

// register is the records of a set.
type register struct {
	set     *Set
	byKey   map[string]*slot
	order   []*slot                      // by key
	counts  []map[string]int             // by reference: how many records name which code
	byValue map[int]map[string][]*Record // of the indexed fields
	last    int64                        // the highest key that the service gave, or that is there
}

// slot is where a record stands: what it has there changes with each write.
type slot struct{ *Record }

// store holds all records. Reading takes mu for as long as it looks records up, and
// a transaction from its beginning to its end.
type store struct {
	world     *World
	mu        sync.RWMutex
	registers map[*Set]*register
	keep      *keep // nil keeps nothing
	turns     int   // how many writes there were
}

// newStore takes over what the world was loaded with.
func newStore(w *World) *store {
	st := &store{world: w, registers: map[*Set]*register{}}
	for _, s := range w.Sets {
		t := &register{set: s, byKey: make(map[string]*slot, len(s.loaded)), byValue: map[int]map[string][]*Record{}}
		for range s.Navs {
			t.counts = append(t.counts, map[string]int{})
		}
		for _, f := range s.indexed {
			t.byValue[f] = map[string][]*Record{}
		}
		st.registers[s] = t
		for _, r := range s.loaded {
			at := &slot{r}
			t.byKey[s.keyOf(r)] = at
			t.order = append(t.order, at)
			t.note(r, nil, 1)
		}
		slices.SortFunc(t.order, func(a, b *slot) int { return s.compareKeys(a.Record, b.Record) })
		s.loaded = nil
	}
	return st
}

// note counts a record in, or out with by -1, but for values that its other state has, too.
func (t *register) note(r, other *Record, by int) {
	for i, n := range t.set.Navs {
		if v := r.cells[n.Field]; !v.IsNull() && (other == nil || other.cells[n.Field] != v) {
			c := v.Canonical()
			if t.counts[i][c] += by; t.counts[i][c] == 0 {
				delete(t.counts[i], c)
			}
		}
	}
	for f, m := range t.byValue {
		v := r.cells[f]
		if v.IsNull() {
			continue
		}
		c := v.Canonical()
		if other != nil && other.cells[f] == v { // it only gets another state
			if by > 0 {
				m[c][slices.Index(m[c], other)] = r
			}
			continue
		}
		if by > 0 {
			m[c] = append(m[c], r)
			continue
		}
		left := slices.DeleteFunc(slices.Clone(m[c]), func(x *Record) bool { return x == r })
		if len(left) == 0 {
			delete(m, c)
		} else {
			m[c] = left
		}
	}
	if by > 0 && t.set.assigned {
		if n, ok := trailingNumber(r.cells[t.set.Key[0]].Text); ok {
			t.last = max(t.last, n)
		}
	}
}

// trailingNumber is the number at a text's end.
func trailingNumber(text string) (int64, bool) {
	digits := text[len(strings.TrimRight(text, "0123456789")):]
	n, err := strconv.ParseInt(digits, 10, 64)
	return n, err == nil
}

// at is where a record with a key stands in the order, or would.
func (t *register) at(r *Record) (int, bool) {
	return slices.BinarySearchFunc(t.order, r, func(a *slot, b *Record) int { return t.set.compareKeys(a.Record, b) })
}

// get finds a record by its key; nil is none. The caller holds mu.
func (t *register) get(key string) *Record {
	if at := t.byKey[key]; at != nil {
		return at.Record
	}
	return nil
}

// find finds the record that a reference's value names. The caller holds mu.
func (st *store) find(n *Nav, v odata.Value) *Record {
	t := st.registers[n.Target]
	if rs := t.byValue[n.By][v.Canonical()]; len(rs) > 0 {
		return rs[0]
	}
	return nil
}

// replace puts after in the place of before; nil is none.
func (t *register) replace(before, after *Record) {
	if before != nil {
		t.note(before, after, -1)
	}
	if after != nil {
		t.note(after, before, 1)
	}
	switch {
	case before != nil && after != nil:
		t.byKey[t.set.keyOf(before)].Record = after
	case after != nil:
		i, _ := t.at(after)
		at := &slot{after}
		t.order = slices.Insert(t.order, i, at)
		t.byKey[t.set.keyOf(after)] = at
	case before != nil:
		i, _ := t.at(before)
		t.order = slices.Delete(t.order, i, i+1)
		delete(t.byKey, t.set.keyOf(before))
	}
}

// tx is a transaction: what is done in it is done at once, or not at all. It holds the
// store's lock.
type tx struct {
	st     *store
	ctx    context.Context
	done   []done
	ended  bool
	checks []func() *refusal
	wrote  bool
}

// done is something that a transaction did; undo, where it is no writing of a record.
type done struct {
	in            *register
	before, after *Record
	undo          func()
}

// begin begins a transaction; who begins it ends it.
func (st *store) begin(ctx context.Context) (*tx, error) {
	st.mu.Lock()
	if st.keep != nil {
		if err := st.keep.begin(ctx); err != nil {
			st.mu.Unlock()
			return nil, err
		}
	}
	return &tx{st: st, ctx: context.WithoutCancel(ctx)}, nil
}

// turn numbers a write.
func (t *tx) turn() int {
	t.st.turns++
	return t.st.turns
}

// put writes a record; before or after is nil where it is added or deleted.
func (t *tx) put(s *Set, before, after *Record) {
	if t.st.keep != nil {
		t.st.keep.put(t.ctx, s, before, after)
	}
	t.wrote = true
	tab := t.st.registers[s]
	tab.replace(before, after)
	t.done = append(t.done, done{in: tab, before: before, after: after})
	for _, n := range s.Navs {
		if after != nil && !after.cells[n.Field].IsNull() && (before == nil || !before.cells[n.Field].Same(after.cells[n.Field])) {
			t.checks = append(t.checks, func() *refusal { return t.named(n, after) })
		}
	}
	for _, n := range s.referred {
		if before != nil && !before.cells[n.By].IsNull() && (after == nil || !before.cells[n.By].Same(after.cells[n.By])) {
			t.checks = append(t.checks, func() *refusal { return t.unreferred(n, before) })
		}
	}
}

// check looks whether references hold, now that all is written.
func (t *tx) check() *refusal {
	for _, check := range t.checks {
		if r := check(); r != nil {
			return r
		}
	}
	t.checks = nil
	return nil
}

// named refuses a record that names one which is not there.
func (t *tx) named(n *Nav, r *Record) *refusal {
	v := r.cells[n.Field]
	now := t.st.registers[n.From].get(n.From.keyOf(r))
	if now == nil || !now.cells[n.Field].Same(v) { // written again since
		return nil
	}
	if t.st.find(n, v) != nil {
		return nil
	}
	return refuse(409, "ReferenceMissing", "%s names %s, and there is no such record in %s", n.From.Fields[n.Field].Name, v.Literal(), n.Target.Name).at(n.From.Fields[n.Field].Name)
}

// unreferred refuses to let a record go that others name.
func (t *tx) unreferred(n *Nav, gone *Record) *refusal {
	v := gone.cells[n.By]
	if t.st.find(n, v) != nil {
		return nil
	}
	count := t.st.registers[n.From].counts[n.slot][v.Canonical()]
	if count == 0 {
		return nil
	}
	records := strconv.Itoa(count) + " records of " + n.From.Name + " refer"
	if count == 1 {
		records = "a record of " + n.From.Name + " refers"
	}
	return refuse(409, "StillReferred", "%s cannot go: %s to it by %s", n.Target.say(gone), records, n.From.Fields[n.Field].Name)
}

// say is a record in words.
func (s *Set) say(r *Record) string {
	return s.Name + string(odata.AppendKey(nil, s.keyNames, s.keyValues(r)))
}

// commit ends the transaction: what it wrote is kept then.
func (t *tx) commit() error {
	t.ended = true
	defer t.st.mu.Unlock()
	if t.st.keep == nil {
		return nil
	}
	if err := t.st.keep.commit(t.ctx); err != nil {
		t.back()
		return err
	}
	return nil
}

// rollback ends the transaction: nothing of it was.
func (t *tx) rollback() {
	t.ended = true
	defer t.st.mu.Unlock()
	t.back()
	if t.st.keep != nil {
		t.st.keep.rollback()
	}
}

// abandon ends the transaction if nothing did: where it is deferred, a fault in the middle of it
// leaves nothing behind that others would wait for.
func (t *tx) abandon() {
	if !t.ended {
		t.rollback()
	}
}

// back undoes what was done in memory.
func (t *tx) back() {
	for _, d := range slices.Backward(t.done) {
		if d.undo != nil {
			d.undo()
		} else {
			d.in.replace(d.after, d.before)
		}
	}
	t.done = nil
}

// taken refuses a record whose value of a unique field another has.
func (t *tx) taken(s *Set, before, after *Record) *refusal {
	for i, f := range s.Fields {
		if !f.Unique || after.cells[i].IsNull() {
			continue
		}
		for _, r := range t.st.registers[s].byValue[i][after.cells[i].Canonical()] {
			if r != before {
				return refuse(409, "ValueTaken", "%s is to be unique, and %s has %s already", f.Name, s.say(r), after.cells[i].Literal()).at(f.Name)
			}
		}
	}
	return nil
}
