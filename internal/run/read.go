package run

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"paletwin/core/changeset"
	"paletwin/core/forms"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/target"
)

// This file reads journals and rollback files, which write.go writes. A line of a journal has all steps of a batch, which may be a
// million: they are read step by step.

// entry is a line of a journal after the first, as it is read.
type entry struct {
	batch    int
	intend   []byte // steps, as they stand in the line
	outcomes []byte
	// Of a batch that is a transaction: what becomes of its steps if it is committed, and by what is asked whether it was;
	// then, that it was.
	undo      []byte // steps that are about to be undone
	promise   []byte
	ticket    json.RawMessage
	committed bool
	unsent    []changeset.ID // of a batch of requests: steps of which nothing was sent
	loads     []target.Load  // of a hand-off: its files
	beside    []target.Load  // what stands beside these
	answer    *Answer        // where the outcomes were learnt from
	proof     string         // SHA-256 of the verify.json that is about to be kept
	previous  string
	end       string
	when      time.Time
}

// stepReader reads journals' and rollback files' lines.
type stepReader struct {
	changeset.Decoder
	edits   []changeset.Edit // room for those of a step
	noForms bool             // how records stood is passed over
	texts   *record.Texts    // where those of steps are kept; nil is nowhere
}

// entry reads a line of a journal. What it keeps of it are parts of the line.
func (d *stepReader) entry(line []byte) (*entry, error) {
	e := new(entry)
	d.Reset(line)
	err := d.Object(func(name []byte) (err error) {
		switch string(name) {
		case "batch":
			e.batch, err = d.Number()
		case "intend":
			e.intend, err = d.list()
		case "outcomes":
			e.outcomes, err = d.list()
		case "undo":
			e.undo, err = d.list()
		case "promise":
			e.promise, err = d.list()
		case "ticket":
			e.ticket, err = d.Raw()
			e.ticket = bytes.Clone(e.ticket)
		case "committed":
			e.committed, err = d.True()
		case "unsent":
			err = d.Array(func() error {
				id, err := d.ID()
				e.unsent = append(e.unsent, id)
				return err
			})
		case "loads":
			err = d.Into(&e.loads)
		case "beside":
			err = d.Into(&e.beside)
		case "answer":
			err = d.Into(&e.answer)
		case "proof":
			e.proof, _, err = d.Text()
		case "previous":
			e.previous, _, err = d.Text()
		case "end":
			e.end, err = d.Word()
		case "when":
			e.when, err = d.moment()
		default:
			err = d.Skip()
		}
		return err
	})
	if err == nil {
		err = d.End()
	}
	return e, err
}

// list reads an array, which is read later; nil of an empty one.
func (d *stepReader) list() ([]byte, error) {
	raw, err := d.Raw()
	if string(raw) == "[]" || string(raw) == "null" {
		return nil, err
	}
	return raw, err
}

func (d *stepReader) moment() (t time.Time, err error) {
	b, err := d.Bytes()
	if err == nil && len(b) > 0 {
		err = t.UnmarshalText(b)
	}
	return t, err
}

// stepIDs reads the ids of steps that stand in a line.
func (d *stepReader) stepIDs(raw []byte, take func(changeset.ID)) error {
	if len(raw) == 0 {
		return nil
	}
	d.Reset(raw)
	return d.Array(func() error {
		var id changeset.ID
		known := false
		err := d.Object(func(name []byte) (err error) {
			if string(name) != "id" {
				return d.Skip()
			}
			id, err = d.ID()
			known = err == nil
			return err
		})
		if err == nil && !known {
			err = errNoID
		}
		take(id)
		return err
	})
}

var errNoID = errors.New("a step has no id")

// steps reads an array of steps as it stands in a line; each holds until the next is read.
func (d *stepReader) steps(raw []byte, take func(s *Step) error) (n int, err error) {
	if len(raw) == 0 {
		return 0, nil
	}
	d.Reset(raw)
	var s Step
	err = d.Array(func() error {
		n++
		if err := d.step(&s); err != nil {
			return err
		}
		return take(&s)
	})
	return n, err
}

// step reads a step of a journal or a rollback file.
func (d *stepReader) step(s *Step) error {
	*s = Step{}
	known := false
	err := d.Object(func(name []byte) (err error) {
		switch string(name) {
		case "id":
			s.ID, err = d.ID()
			known = err == nil
		case "act":
			s.Act, err = d.Act()
		case "key":
			s.Key, err = d.Key()
			s.Key = d.texts.Key(s.Key)
		case "linked":
			s.aside().linked, _, err = d.Text()
		case "was":
			s.aside().was, err = d.Key()
		case "fields":
			var all []changeset.Edit
			all, err = d.fields()
			s.Fields = changeset.PackAmong(d.texts, all)
		case "record":
			var r record.Record
			r, err = d.record()
			s.Record = r.Pack()
		case "row", "after", "gap", "end", "lead":
			if d.noForms {
				return d.Skip()
			}
			if s.former == nil {
				s.former = new(former)
			}
			err = d.form(name, &s.former.form)
		case "answered":
			err = d.Into(&s.keep().answered)
		default:
			err = d.ending(name, &s.Ending)
		}
		return err
	})
	if err == nil && !known {
		err = errNoID
	}
	return err
}

// keptForm reads, of a line of a rollback file, which step it is of and whether it says how its record looked. Of another line the id is
// nothing's; act and key are read of a step that is asked for.
func (d *stepReader) keptForm(line []byte, asked func(changeset.ID) bool) (s Step, kept bool, err error) {
	d.Reset(line)
	all := false
	err = d.Object(func(name []byte) (err error) {
		switch string(name) {
		case "id":
			s.ID, err = d.ID()
			all = err == nil && asked(s.ID)
			return err
		case "act":
			if all {
				s.Act, err = d.Act()
				return err
			}
		case "key":
			if all {
				s.Key, err = d.Key()
				return err
			}
		case "row":
			kept = true
		}
		return d.Skip()
	})
	return s, kept, err
}

// formOf reads, of a line of a rollback file, how the record looked.
func (d *stepReader) formOf(line []byte, form *target.Form) error {
	d.Reset(line)
	return d.Object(func(name []byte) error {
		switch string(name) {
		case "row", "after", "gap", "end", "lead":
			return d.form(name, form)
		}
		return d.Skip()
	})
}

// ending reads a member that says what became of a step.
func (d *stepReader) ending(name []byte, s *Ending) (err error) {
	switch string(name) {
	case "outcome":
		var word string
		word, err = d.Word()
		s.Outcome = Outcome(word)
	case "reason":
		s.Reason, _, err = d.Text()
	case "read":
		s.keep().Read, err = d.values()
	case "before":
		s.keep().Before, err = d.values()
	case "along":
		err = d.Into(&s.keep().Along)
	case "seen":
		s.keep().Seen, err = d.values()
	case "left":
		s.keep().Left, err = d.Words()
	case "when":
		var when time.Time
		when, err = d.moment()
		s.When = momentOf(when)
	case "went_by":
		s.keep().WentBy, _, err = d.Text()
	case "named":
		err = d.Into(&s.keep().Named)
	default:
		err = d.Skip()
	}
	return err
}

// form reads a member that says how a record stood.
func (d *stepReader) form(name []byte, f *target.Form) (err error) {
	switch string(name) {
	case "row":
		f.Row, f.Kept, err = d.Text()
	case "after":
		f.After, err = d.Key()
	case "gap":
		f.Gap, err = d.Word()
	case "end":
		f.End, err = d.Word()
	case "lead":
		f.Lead, err = d.Word()
	}
	return err
}

// fields reads a list of fields with their values before and after, which holds until the next is read.
func (d *stepReader) fields() ([]changeset.Edit, error) {
	all := d.edits[:0]
	err := d.Array(func() error {
		f := changeset.Edit{From: record.Null(), To: record.Null()}
		err := d.Object(func(name []byte) (err error) {
			switch string(name) {
			case "field":
				f.Field, err = d.Word()
			case "from":
				f.From, err = d.Value()
			case "to":
				f.To, err = d.Value()
			case "linked":
				f.Linked, _, err = d.Text()
			default:
				err = d.Skip()
			}
			return err
		})
		all = append(all, f)
		return err
	})
	d.edits = all
	return all, err
}

// record reads the record of an add or a delete: a list of fields with one value.
func (d *stepReader) record() (r record.Record, err error) {
	fields, err := d.fields()
	for _, f := range fields {
		r = append(r, record.Field{Name: f.Field, Value: f.From})
	}
	return r, err
}

// values reads an object of values; they come in the order of their names.
func (d *stepReader) values() (r record.Record, err error) {
	err = d.Object(func(name []byte) error {
		f := record.Field{Name: d.Known(name)}
		var err error
		f.Value, err = d.Value()
		r = append(r, f)
		return err
	})
	slices.SortFunc(r, func(a, b record.Field) int { return strings.Compare(a.Name, b.Name) })
	return r, err
}

// readRollback reads rollback.jsonl, on all cores, and checks its seal.
func readRollback(b []byte, stood bool) (steps []*Step, err error) {
	err = sealed(b, func(n int) (err error) {
		manyStay(n)
		first, last := bytes.IndexByte(b, '\n')+1, bytes.LastIndexByte(b[:len(b)-1], '\n')+1
		steps, err = readSteps(b[first:max(first, last)], stood)
		return err
	})
	return steps, err
}

// sealed reads a rollback file of so many steps while its seal is checked, under table.Guard.
func sealed(b []byte, read func(steps int) error) error {
	if len(b) == 0 || b[len(b)-1] != '\n' {
		return errCut
	}
	last := bytes.LastIndexByte(b[:len(b)-1], '\n') + 1
	var seal struct {
		Seal  string `json:"seal"`
		Steps int    `json:"steps"`
	}
	if err := json.Unmarshal(b[last:], &seal); err != nil || seal.Seal == "" {
		return errCut
	}
	first := bytes.IndexByte(b, '\n') + 1
	var heading struct {
		Version int `json:"version"`
	}
	if json.Unmarshal(b[:first], &heading) == nil {
		if err := forms.Rollback.Check(heading.Version); err != nil {
			return err
		}
	}
	sum := make(chan string, 1)
	go func() {
		is := "" // where the file was shortened meanwhile
		_ = table.Guard(func() error { is = changeset.Checksum(b[:last]); return nil })
		sum <- is
	}()
	err := table.Guard(func() error { return read(seal.Steps) })
	if seal.Seal != <-sum {
		return desk.ErrAltered
	}
	return err
}

// readSteps reads whole lines, a step each.
func readSteps(lines []byte, stood bool) ([]*Step, error) {
	cores := runtime.GOMAXPROCS(0)
	parts := make([][]*Step, cores)
	var g errgroup.Group
	for i := range cores {
		if len(lines) == 0 {
			break
		}
		end := max(len(lines)/(cores-i), 1)
		end += bytes.IndexByte(lines[end-1:], '\n')
		part := lines[:end]
		lines = lines[end:]
		g.Go(func() error {
			return table.Guard(func() (err error) {
				parts[i], err = readPart(part, stood)
				return err
			})
		})
	}
	err := g.Wait()
	return slices.Concat(parts...), err
}

func readPart(lines []byte, stood bool) ([]*Step, error) {
	steps := make([]*Step, 0, bytes.Count(lines, []byte{'\n'}))
	var h shelf
	d := stepReader{noForms: !stood, texts: &h.Texts}
	for line := range bytes.Lines(lines) {
		d.Reset(line)
		s := h.step(Step{})
		if err := d.step(s); err != nil {
			return nil, err
		}
		if err := d.End(); err != nil {
			return nil, err
		}
		s.Ending = Ending{} // which journals tell
		steps = append(steps, s)
	}
	return steps, nil
}

var errCut = errors.New("the file is cut short: its seal is missing")

// read takes the journal in. A torn last line is passed over.
func (r *Record) read(journal []byte, planned []*Step) error {
	byID := make(map[changeset.ID]*Step, len(planned))
	for _, s := range planned {
		byID[s.ID] = s
	}
	if err := r.walk(journal, func(e *entry) error { return r.take(e, byID) }); err != nil {
		return err
	}
	if r.promise != nil {
		r.promise.promise = bytes.Clone(r.promise.promise) // which outlives the journal's lines
	}
	r.Steps = append(r.Steps, planned...)
	for _, s := range planned {
		s.handed, s.run = r.Head.Handoff, int32(r.Head.Run)
		s.settleFields()
	}
	return nil
}

// walk reads the lines of a journal, each of which has to follow from the one before.
func (r *Record) walk(journal []byte, take func(e *entry) error) error {
	var d stepReader
	for n := 0; ; n++ {
		line, rest, whole := bytes.Cut(journal, []byte{'\n'})
		if !whole {
			break
		}
		journal = rest
		r.size += int64(len(line)) + 1
		if n == 0 {
			h, err := headOf(line)
			if err != nil {
				return err
			}
			r.Head = *h
			r.last = desk.LineDigest(line)
			continue
		}
		e, err := d.entry(line)
		if err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
		if r.Head.Version >= 3 && e.previous != r.last {
			return fmt.Errorf("line %d does not follow from the one before it", n+1)
		}
		r.last = desk.LineDigest(line)
		if err := take(e); err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
	}
	if r.size == 0 {
		return errCut
	}
	return nil
}

// takeTicket takes in what is kept of requests: the first ticket of a batch stands in the line of its intents.
func (r *Record) takeTicket(e *entry) {
	if len(e.intend) > 0 && len(e.ticket) > 0 {
		r.tickets = nil
	}
	if len(e.promise) == 0 && len(e.ticket) > 0 {
		r.tickets = append(r.tickets, e.ticket)
	}
	for _, id := range e.unsent {
		delete(r.open, id)
	}
}

func (r *Record) take(e *entry, byID map[changeset.ID]*Step) error {
	return r.takeTold(e, func(l *Step) { r.takeOutcome(l, byID) })
}

// takeTold takes in an entry, but for what it tells of steps: each of these holds until the next.
func (r *Record) takeTold(e *entry, outcome func(l *Step)) error {
	r.batch = max(r.batch, e.batch)
	if e.end != "" {
		r.Ended, r.When = e.end, e.when
	}
	if len(e.loads) > 0 {
		r.Loads, r.Beside = e.loads, e.beside
	}
	if e.proof != "" {
		r.Proofs = append(r.Proofs, e.proof)
	}
	if e.answer != nil {
		r.Heard = append(r.Heard, *e.answer)
	}
	var d stepReader
	if err := d.stepIDs(e.intend, func(id changeset.ID) { r.open[id] = true }); err != nil {
		return err
	}
	r.takeTicket(e)
	if len(e.promise) > 0 {
		r.promise, r.tickets = e, append(r.tickets, e.ticket)
	}
	told := [][]byte{e.outcomes}
	if e.committed && r.promise != nil {
		told = append(told, r.promise.promise)
	}
	err := d.stepIDs(e.undo, func(id changeset.ID) {
		if r.undo == nil {
			r.undo = map[changeset.ID]bool{}
		}
		r.undo[id] = true
	})
	if err != nil {
		return err
	}
	for _, steps := range told {
		n, err := d.steps(steps, func(l *Step) error { outcome(l); return nil })
		if err != nil {
			return err
		}
		if n > 0 {
			r.promise = nil
		}
	}
	return nil
}

// takeOutcome takes in what a journal tells of a step, which may be used again.
func (r *Record) takeOutcome(l *Step, byID map[changeset.ID]*Step) {
	s := byID[l.ID]
	if s != nil {
		delete(r.open, s.ID)
		delete(r.undo, s.ID)
	} else {
		c := *l
		s = &c
		s.Ending, s.run = Ending{}, int32(r.Head.Run)
		r.Steps = append(r.Steps, s)
	}
	s.Outcome, s.Reason, s.When = l.Outcome, l.Reason, cmp.Or(l.When, s.When)
	told := l.Rare()
	if s.rare != nil || l.rare != nil {
		named := s.Rare().Named
		*s.keep() = told
		s.rare.Named = named
	}
	s.stood(told.Before)
	if told.WentBy != "" {
		s.Key = l.Key
	}
	if len(told.Named) > 0 {
		s.resolve(told.Named)
	}
	if !r.Head.Handoff {
		s.leftOut()
	}
}
