package standin

import (
	"bytes"
	"encoding/json"
	"slices"
	"sync"

	"paletwin/core/changeset"
	"paletwin/internal/odata"
)

// Deed is what truly became of a request, whatever was answered.
type Deed struct {
	Number   int      `json:"number"`
	Batch    int      `json:"batch,omitempty"` // the number of the batch that it came in
	Group    string   `json:"group,omitempty"` // its atomicity group
	ID       string   `json:"id,omitempty"`    // what the batch calls it
	Method   string   `json:"method"`
	URL      string   `json:"url"`
	Status   int      `json:"status"`             // what was answered, or would have been
	Answered bool     `json:"answered"`           // false where the connection was cut instead
	Said     string   `json:"said,omitempty"`     // why it was refused; of a batch, what became of its requests
	Moods    []string `json:"moods,omitempty"`    // those that it met
	Repeated bool     `json:"repeated,omitempty"` // it was answered as before, and not done again
	By       string   `json:"by,omitempty"`       // who it was, if not the asker: a colleague
	Act      string   `json:"act,omitempty"`      // amend, add, delete
	Set      string   `json:"set,omitempty"`
	Key      []string `json:"key,omitempty"`
	Undone   bool     `json:"undone,omitempty"` // what it wrote was taken back: it was not committed
	Turn     int      `json:"turn,omitempty"`   // which of all writes it was
	Wrote    []Wrote  `json:"wrote,omitempty"`

	before, after *Record
	set           *Set
	in            *ledger // whose lock is the deed's
}

// Wrote is what a field was and is.
type Wrote struct {
	Field  string  `json:"field"`
	Before *string `json:"before"` // null where there was none
	After  *string `json:"after"`
}

// met notes a mood.
func (d *Deed) met(mood string) {
	d.lock()
	defer d.unlock()
	if !slices.Contains(d.Moods, mood) {
		d.Moods = append(d.Moods, mood)
	}
}

// lock holds the deed still, unless nobody else has it.
func (d *Deed) lock() {
	if d.in != nil {
		d.in.mu.Lock()
	}
}

func (d *Deed) unlock() {
	if d.in != nil {
		d.in.mu.Unlock()
	}
}

// did notes what was written. The caller holds the store's lock, so that turns are in the order of writes.
func (d *Deed) did(act changeset.Act, s *Set, before, after *Record, turn int) {
	d.lock()
	defer d.unlock()
	d.Act, d.set, d.before, d.after, d.Turn = act.String(), s, before, after, turn
}

// undone notes that what was written was taken back.
func (d *Deed) undone() {
	d.lock()
	defer d.unlock()
	d.Undone = d.Act != ""
}

// ended notes what was answered, or would have been.
func (d *Deed) ended(a *answer, answered bool) {
	d.lock()
	defer d.unlock()
	d.Status, d.Answered = a.status, answered
	if a.failed != nil {
		d.Said = a.failed.message
	}
}

// said notes what became of a batch.
func (d *Deed) said(text string) {
	d.lock()
	defer d.unlock()
	d.Said = text
}

// repeats notes that it was answered as before.
func (d *Deed) repeats() {
	d.lock()
	defer d.unlock()
	d.Repeated = true
}

// spell writes out the set, the key and the fields, for who reads the ledger.
func (d *Deed) spell() {
	if d.set == nil {
		return
	}
	s, some := d.set, d.after
	if some == nil {
		some = d.before
	}
	d.Set, d.Key, d.Wrote = s.Name, nil, nil
	for _, v := range s.keyValues(some) {
		d.Key = append(d.Key, v.Text)
	}
	for i, f := range s.Fields {
		w := Wrote{Field: f.Name}
		if d.before != nil {
			w.Before = textOf(d.before.cells[i])
		}
		if d.after != nil {
			w.After = textOf(d.after.cells[i])
		}
		if d.before == nil || d.after == nil || d.before.cells[i] != d.after.cells[i] {
			d.Wrote = append(d.Wrote, w)
		}
	}
}

func textOf(v odata.Value) *string {
	if v.IsNull() {
		return nil
	}
	return &v.Text
}

// ledger is what was done to which request. It holds the newest maxDeeds.
type ledger struct {
	mu      sync.Mutex
	deeds   []*Deed
	last    int
	dropped int
}

const maxDeeds = 200_000

// add gives a deed its number.
func (l *ledger) add(d *Deed) *Deed {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.last++
	d.Number, d.in = l.last, l
	if len(l.deeds) == maxDeeds {
		n := maxDeeds / 10
		l.deeds = slices.Delete(l.deeds, 0, n)
		l.dropped += n
	}
	l.deeds = append(l.deeds, d)
	return d
}

// list writes the deeds from a number on.
func (l *ledger) list(from int, moods []MoodCount) ([]byte, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	i := 0
	for i < len(l.deeds) && l.deeds[i].Number < from {
		i++
	}
	out := struct {
		Dropped int         `json:"dropped,omitempty"` // the oldest that are not kept any more
		Moods   []MoodCount `json:"moods"`
		Deeds   []*Deed     `json:"requests"`
	}{l.dropped, moods, l.deeds[i:]}
	for _, d := range out.Deeds {
		d.spell()
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false) // it is for people, too
	err := e.Encode(out)
	return b.Bytes(), err
}
