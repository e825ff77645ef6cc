package targettest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/target"
)

// Mean is a target in memory that misbehaves as real systems do. Its zero
// fields behave.
type Mean struct {
	fields  []string
	key     []string
	records []record.Record

	BatchSize int                                        // how many steps it takes at once
	Refuse    func(s *target.Step) string                // a reason not to take a step, or ""
	Alter     func(field, value string) string           // what it makes of a value
	Before    func(m *Mean, batch int)                   // called before each batch: a colleague at work
	LoseAt    int                                        // the batch that is carried out and whose answer is lost
	DieAt     int                                        // the step, counted over all, after which it dies
	Doubt     func(s *target.Step) (doubtful, done bool) // whether its answer about a step is lost, and whether it did it
	Rekeys    bool                                       // whether it gives records other keys where they stand
	Born      string                                     // a field that it writes when a record is added, and never again
	NoBackup  int                                        // so many times it cannot be backed up
	Next      int                                        // where it gives new records their keys: the next
	System    string                                     // a field that it writes itself at each write

	batches, steps, born int
	Writes               map[string]int // how often each record was written
}

// NewMean returns a target with the given records, the heading first.
func NewMean(key []string, rows ...[]string) *Mean {
	m := &Mean{fields: rows[0], key: key, Writes: map[string]int{}}
	for _, row := range rows[1:] {
		m.records = append(m.records, m.record(row))
	}
	return m
}

// Register adds a field in which the target says which of its records was the
// first, the second …: it writes it when a record is added.
func (m *Mean) Register(field string) {
	m.Born = field
	m.fields = append(slices.Clone(m.fields), field)
	for i := range m.records {
		m.born++
		m.records[i].Set(field, record.Text(fmt.Sprint("born ", m.born)))
	}
}

func (m *Mean) record(row []string) record.Record {
	var r record.Record
	for i, f := range m.fields {
		r = append(r, record.Field{Name: f, Value: record.Text(row[i])})
	}
	return r
}

// ErrLost is what a target says whose answer was lost, and one that died.
var ErrLost = errors.New("the connection was lost")

func (m *Mean) Name() string     { return "mean:records" }
func (m *Mean) Fields() []string { return m.fields }
func (m *Mean) Traits() target.Traits {
	return target.Traits{Ext: ".csv", Batch: max(m.BatchSize, 1), KeyChanges: m.Rekeys, Assigns: m.Next > 0}
}
func (m *Mean) Writable(context.Context) error { return nil }
func (m *Mean) Refresh(context.Context) error  { return nil }
func (m *Mean) Close() error                   { return nil }

func (m *Mean) keyOf(r record.Record) record.Key {
	parts := make([]string, len(m.key))
	for i, k := range m.key {
		v, _ := r.Get(k)
		parts[i] = v.String()
	}
	return record.NewKey(parts...)
}

func (m *Mean) find(k record.Key) int {
	return slices.IndexFunc(m.records, func(r record.Record) bool { return m.keyOf(r) == k })
}

func (m *Mean) Current(_ context.Context, keys []record.Key) ([]target.State, error) {
	states := make([]target.State, len(keys))
	for i, k := range keys {
		for _, r := range m.records {
			if m.keyOf(r) == k {
				if states[i].Count++; states[i].Count == 1 {
					states[i].Record = r.Clone()
				}
			}
		}
	}
	return states, nil
}

func (m *Mean) csv() []byte {
	var b []byte
	row := func(cell func(i int) string) {
		for i := range m.fields {
			if i > 0 {
				b = append(b, ',')
			}
			b = csv.AppendCell(b, cell(i), ',', false)
		}
		b = append(b, '\n')
	}
	row(func(i int) string { return m.fields[i] })
	for _, r := range m.records {
		row(func(i int) string { v, _ := r.Get(m.fields[i]); return v.String() })
	}
	return b
}

func (m *Mean) Backup(ctx context.Context, w io.Writer) error {
	if m.NoBackup > 0 {
		m.NoBackup--
		return ErrLost
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	_, err := w.Write(m.csv())
	return err
}

func (m *Mean) Table(context.Context) (*table.Image, func() error, error) {
	img, err := csv.Open(m.Name(), m.csv())
	return img, func() error { return nil }, err
}

func (m *Mean) Write(ctx context.Context, steps []target.Step) ([]target.Result, error) {
	if err := ctx.Err(); err != nil {
		return nil, &target.Unwritten{Err: err}
	}
	m.batches++
	if m.Before != nil {
		m.Before(m, m.batches)
	}
	results := make([]target.Result, len(steps))
	for i := range steps {
		results[i] = m.looks(&steps[i])
	}
	target.Together(steps, results)
	moved := m.stand(steps)
	for i := range steps {
		doubtful, done := false, true
		if m.Doubt != nil && results[i].Fate == target.Done {
			doubtful, done = m.Doubt(&steps[i])
		}
		if results[i].Fate == target.Done && done {
			results[i].Key = m.carryOut(&steps[i], moved)
		}
		if doubtful {
			results[i] = target.Result{Fate: target.Unknown, Reason: "the answer was lost"}
		}
		if m.steps++; m.steps == m.DieAt {
			m.DieAt = 0
			return nil, ErrLost
		}
	}
	if m.batches == m.LoseAt {
		return nil, ErrLost
	}
	return results, nil
}

// Check knows nothing beforehand: what Mean refuses shows when it is asked.
func (m *Mean) Check(_ context.Context, steps []target.Step) ([]string, error) {
	return make([]string, len(steps)), nil
}

// looks says what would become of a step: it is carried out if the record is
// as the step says it was.
func (m *Mean) looks(s *target.Step) target.Result {
	if m.Refuse != nil {
		if why := m.Refuse(s); why != "" {
			return target.Result{Fate: target.Refused, Reason: why}
		}
	}
	at := m.find(s.Key)
	switch s.Act {
	case changeset.Add:
		if at >= 0 {
			return target.Result{Fate: target.Moved, Reason: "the record is there already"}
		}
	case changeset.Delete:
		if at < 0 {
			return target.Result{Fate: target.Moved, Reason: "the record is gone"}
		}
		for _, f := range s.Record {
			if c, _ := m.records[at].Get(f.Name); !equal(c, f.Value) && f.Name != m.System {
				return target.Result{Fate: target.Moved, Reason: fmt.Sprintf("%s is now %q", f.Name, c)}
			}
		}
	default:
		if at < 0 {
			return target.Result{Fate: target.Moved, Reason: "the record is gone"}
		}
		for _, f := range s.Fields {
			if c, _ := m.records[at].Get(f.Field); !equal(c, f.From) {
				return target.Result{Fate: target.Moved, Reason: fmt.Sprintf("%s is now %q", f.Field, c)}
			}
		}
	}
	return target.Result{}
}

// stand gives the records that are to get another key, as they stand, by the key
// that they are to have.
func (m *Mean) stand(steps []target.Step) map[record.Key]record.Record {
	moved := map[record.Key]record.Record{}
	for i := range steps {
		if at := m.find(steps[i].Was); m.Rekeys && at >= 0 {
			moved[steps[i].Key] = m.records[at].Clone()
		}
	}
	return moved
}

func (m *Mean) carryOut(s *target.Step, moved map[record.Key]record.Record) (given record.Key) {
	at := m.find(s.Key)
	switch s.Act {
	case changeset.Add:
		if was, ok := moved[s.Key]; ok {
			m.records = append(m.records, was)
			m.become(&m.records[len(m.records)-1], s)
			break
		}
		r := m.record(make([]string, len(m.fields)))
		if m.Born != "" {
			m.born++
			r.Set(m.Born, record.Text(fmt.Sprint("born ", m.born)))
		}
		for _, f := range s.Record {
			m.set(&r, f.Name, f.Value)
		}
		if m.Next > 0 && schema.IsNew(s.Key) {
			given = record.NewKey(fmt.Sprint(m.Next))
			m.Next++
			r.Set(m.key[0], record.Text(given.Parts()[0]))
		}
		m.records = append(m.records, r)
	case changeset.Delete:
		m.records = slices.Delete(m.records, at, at+1)
	default:
		if was, ok := moved[s.Key]; ok {
			m.records[at] = was
			m.become(&m.records[at], s)
			break
		}
		for _, f := range s.Fields {
			m.set(&m.records[at], f.Field, f.To)
		}
	}
	m.Writes[s.Key.String()]++
	return given
}

// become makes of a record the one that a step of a key change wants.
func (m *Mean) become(r *record.Record, s *target.Step) {
	for i, k := range m.key {
		r.Set(k, record.Text(s.Key.Parts()[i]))
	}
	for _, f := range s.Record {
		if v, _ := r.Get(f.Name); v != f.Value {
			m.set(r, f.Name, f.Value)
		}
	}
}

func (m *Mean) set(r *record.Record, field string, v record.Value) {
	text := v.String()
	if m.Alter != nil {
		text = m.Alter(field, text)
	}
	if v.IsNull() {
		r.Set(field, v)
	} else {
		r.Set(field, record.Text(text))
	}
	if m.System != "" {
		r.Set(m.System, record.Text(fmt.Sprintf("write %d", len(m.Writes))))
	}
}

// Colleague changes a field of a record behind everybody's back.
func (m *Mean) Colleague(key, field, value string) {
	m.records[m.find(record.NewKey(key))].Set(field, record.Text(value))
}

// Value returns a field of a record, "(gone)" if it is not there.
func (m *Mean) Value(key, field string) string {
	at := m.find(record.NewKey(key))
	if at < 0 {
		return "(gone)"
	}
	v, _ := m.records[at].Get(field)
	return v.String()
}

// State returns the whole content.
func (m *Mean) State() string { return string(m.csv()) }

// equal reports whether two values are the same; null and empty are.
func equal(a, b record.Value) bool { return a == b || a.Blank() && b.Blank() }
