package odata

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/zeebo/xxh3"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/odata"
	"paletwin/internal/target"
)

// seen is a record as it was read.
type seen struct {
	there bool
	key   record.Key // as it stands there
	etag  string     // as it came; "" is none
	cells []byte     // as CSV
}

// item is a step that is being carried out.
type item struct {
	step *target.Step
	res  *target.Result
	done bool // it has its result

	at    record.Key // where its record is, as the key stands there
	now   *seen      // the record as the request means it; nil is not read
	etag  string     // of the request
	rest  string     // a digest of what the request leaves as it is
	mark  string     // by which the service knows the request again; "" is by nothing
	first string     // when it was first sent, as the service wants to know it
	body  []byte

	// doubt says that it was sent, and that it may have been done, or may still be.
	doubt bool
	cause cause // why the record is looked at
	tries int   // how often it was sent in vain
}

// cause is why a record has to be looked at before it can be told what became of a request.
type cause struct {
	status int    // that was answered; 0 is none: the answer was lost
	text   string // in the service's words
}

// stale reports whether the service said that the record is not the one that was meant.
func (c *cause) stale() bool {
	return c.status == 412 || c.status == 404 || c.status == 410 || c.status == 409 || c.status == 428
}

// unit is what is done all or not at all: a step, or those with a link.
type unit struct {
	items []*item
	look  looks
	solo  bool // it is sent with no others
	done  bool
}

// looks is why a unit's records are read.
type looks uint8

const (
	no       looks = iota
	readBack       // it was done, and the service did not say what they are now
	inquire        // to find out what became of it
)

// unitsOf parts steps into units, in order.
func unitsOf(steps []target.Step, results []target.Result) (all []*unit) {
	at := map[string]*unit{}
	for i := range steps {
		it := &item{step: &steps[i], res: &results[i], at: steps[i].Key}
		if u := at[steps[i].Linked]; u != nil && steps[i].Linked != "" {
			u.items = append(u.items, it)
			continue
		}
		u := &unit{items: []*item{it}}
		at[steps[i].Linked] = u
		all = append(all, u)
	}
	order := map[changeset.Act]int{changeset.Delete: 0, changeset.Amend: 1, changeset.Add: 2} // what is unique is given up before it is taken
	for _, u := range all {
		slices.SortStableFunc(u.items, func(a, b *item) int { return order[a.step.Act] - order[b.step.Act] })
	}
	return all
}

// linked reports whether the unit is a group of a batch.
func (u *unit) linked() bool { return len(u.items) > 1 }

// ends gives all items that have none yet a result.
func (u *unit) ends() {
	steps, results := make([]target.Step, len(u.items)), make([]target.Result, len(u.items))
	for i, it := range u.items {
		steps[i], results[i] = *it.step, *it.res
	}
	target.Together(steps, results)
	target.Doubted(steps, results)
	for i, it := range u.items {
		*it.res, it.done = results[i], true
	}
	u.done = true
}

// is gives an item a result other than Done, and with it the unit.
func (u *unit) is(it *item, f target.Fate, format string, args ...any) {
	*it.res = target.Result{Fate: f, Reason: fmt.Sprintf(format, args...)}
	u.ends()
}

// state is the record as the target package has it.
func (s *Set) state(n *seen) *target.State {
	st := &target.State{}
	if n != nil && n.there {
		st.Count, st.Record = 1, csv.Record(s.shape, n.cells)
	}
	return st
}

// shapeOf is the table in whose form records are kept.
func shapeOf(name string, fields []string) (*table.Image, error) {
	var line []byte
	for i, f := range fields {
		if i > 0 {
			line = append(line, ',')
		}
		line = csv.AppendCell(line, f, ',', false)
	}
	m, err := csv.OpenWith(name, append(line, '\n'), table.Taken)
	if err == nil {
		m.Heading = slices.Clone(fields)
	}
	return m, err
}

// restOf is a digest of what a step leaves of a record as it is, but for what the service writes itself.
func (s *Set) restOf(step *target.Step, r record.Record) string {
	h := xxh3.New128()
	var line []byte
	for i := range r {
		f := &r[i]
		if s.typ.properties[i].Computed || s.o.Of.Field(f.Name).Access == schema.System || slices.ContainsFunc(step.Fields, func(c changeset.Edit) bool { return c.Field == f.Name }) {
			continue
		}
		if line = append(line[:0], "\x01"[:1]...); f.Value.IsNull() {
			line[0] = 2
		}
		line = append(append(line, f.Value.String()...), 0)
		_, _ = h.Write(line) // a hash never fails
	}
	sum := h.Sum128().Bytes()
	return hex.EncodeToString(sum[:])
}

// prepared makes the item's request. The error says in words why there is none.
func (s *Set) prepared(it *item) error {
	st := it.step
	if it.mark == "" && s.typ.can.repeatable {
		it.mark, it.first = uuid(), time.Now().UTC().Format(time.RFC1123[:len(time.RFC1123)-3]+"GMT")
	}
	if it.now != nil && it.now.there {
		it.at, it.etag = it.now.key, it.now.etag
	}
	switch st.Act {
	case changeset.Delete:
		return nil
	case changeset.Add:
		return s.bodyOf(it, len(st.Record), func(i int) (string, record.Value) { return st.Record[i].Name, st.Record[i].Value })
	}
	if it.now != nil {
		it.rest = s.restOf(st, s.state(it.now).Record)
	}
	return s.bodyOf(it, len(st.Fields), func(i int) (string, record.Value) { return st.Fields[i].Field, st.Fields[i].To })
}

// bodyOf writes the fields of a step.
func (s *Set) bodyOf(it *item, n int, field func(i int) (string, record.Value)) error {
	b := []byte{'{'}
	add := it.step.Act == changeset.Add
	for i := range n {
		name, v := field(i)
		at := slices.Index(s.fields, name)
		if at < 0 {
			if add && v.Blank() {
				continue
			}
			return fmt.Errorf("the service has no property for %s", name)
		}
		p := &s.typ.properties[at]
		if add && (p.Computed || s.o.Of.Field(name).Access == schema.System || v.Blank() && !p.Nullable && p.Type != "Edm.String") {
			continue // the service fills it
		}
		if len(b) > 1 {
			b = append(b, ',')
		}
		b = append(append(append(b, '"'), p.Name...), `":`...)
		var err error
		if b, err = p.appendJSON(b, v, s.o.Of.Tells); err != nil {
			return fmt.Errorf("%s %w", name, err)
		}
	}
	it.body = append(b, '}')
	return nil
}

func uuid() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // which never fails
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// request is the item's request.
func (s *Set) request(it *item, group string) request {
	r := request{group: group}
	switch it.step.Act {
	case changeset.Add:
		r.method, r.path = "POST", odata.Escape(s.at.Set)
	case changeset.Delete:
		r.method, r.path = "DELETE", s.path(it.at)
	default:
		r.method, r.path = "PATCH", s.path(it.at)
	}
	if r.method != "POST" { // with none, a PATCH of what is gone would make it anew
		r.header = append(r.header, odata.Header{Name: "If-Match", Value: cmp.Or(it.etag, "*")})
	}
	if r.method != "DELETE" {
		r.header = append(r.header, odata.Header{Name: "Content-Type", Value: "application/json;IEEE754Compatible=true"}, odata.Header{Name: "Prefer", Value: "return=representation"})
		r.body = it.body
	}
	if it.mark != "" {
		r.header = append(r.header, odata.Header{Name: "Repeatability-Request-ID", Value: it.mark}, odata.Header{Name: "Repeatability-First-Sent", Value: it.first})
	}
	return r
}

// ownKey reports whether an item adds a record under a key that we give it.
func (s *Set) ownKey(it *item) bool {
	return it.step.Act == changeset.Add && !schema.IsNew(it.step.Key) && !s.assigns()
}

// tellable reports whether it can be told afterwards what became of the request, if its answer is lost and others' are with it.
func (s *Set) tellable(it *item) bool {
	switch {
	case it.mark != "":
		return true
	case it.step.Act == changeset.Add:
		return s.ownKey(it)
	}
	return it.etag != "" && it.step.Act == changeset.Amend
}

// fenced reports whether the request can be sent again without harm: what was sent first is done then, or never.
func (s *Set) fenced(it *item) bool {
	return it.mark != "" || it.etag != "" && it.step.Act != changeset.Add
}

// slip is what is kept of a request, so that a later process can find out what became of it.
type slip struct {
	ID    string   `json:"id"`
	At    []string `json:"at,omitempty"` // the key as it stands there
	ETag  string   `json:"etag,omitempty"`
	Rest  string   `json:"rest,omitempty"`
	Mark  string   `json:"mark,omitempty"`
	First string   `json:"first,omitempty"`
}

// ticket is what is kept before requests are sent; a later one is about steps that it names again.
type ticket struct {
	Sent []slip `json:"sent,omitempty"`
	Job  *job   `json:"job,omitempty"`
}

// slips is the ticket of requests that are about to be sent.
func slips(units []*unit) (json.RawMessage, error) {
	var t ticket
	for _, u := range units {
		for _, it := range u.items {
			sl := slip{ID: it.step.ID.String(), ETag: it.etag, Rest: it.rest, Mark: it.mark, First: it.first}
			if it.at != it.step.Key {
				sl.At = it.at.Parts()
			}
			t.Sent = append(t.Sent, sl)
		}
	}
	return json.Marshal(t)
}

// remember gives an item what was kept of it.
func (it *item) remember(sl *slip) {
	it.doubt = true
	it.etag, it.rest, it.mark, it.first = sl.ETag, sl.Rest, sl.Mark, sl.First
	if len(sl.At) > 0 {
		it.at = record.NewKey(sl.At...)
	}
}
