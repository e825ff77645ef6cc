package run

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Files of a run.
const (
	journalName  = "journal.jsonl"
	rollbackName = "rollback.jsonl"
	backupStem   = "backup"
	// DefinitionName is the file that makes a table anew.
	DefinitionName = "definition.sql"
	outcomeName    = "outcome.csv"
	verifyName     = "verify.json"
)

// journalVersion is the version of a journal. From 3 on each line holds the
// digest of the line before, and the proofs that were made are in it; 4 are runs whose
// batches are promised before they are committed; 5 are runs of several record sets, in which
// steps may be undone; 6 are runs whose batches are requests, of which tickets are kept. Before, hand-offs had 2 and other runs 1.
const (
	promising      = 4
	grouped        = 5
	journalVersion = 6
)

// Head is the first line of a journal.
type Head struct {
	Form     string    `json:"paletwin"`
	Version  int       `json:"version"`
	Dossier  string    `json:"dossier"`
	Run      int       `json:"run"`
	Target   string    `json:"target"`
	By       string    `json:"by"`
	When     time.Time `json:"when"`
	Steps    int       `json:"steps"` // all steps, settled ones and conflicts too
	Backup   string    `json:"backup"`
	SHA256   string    `json:"backup_sha256"`
	Rollback string    `json:"rollback_sha256"`
	// Definition is the SHA-256 of what makes the target's table anew, where it is one.
	Definition string        `json:"definition_sha256,omitempty"`
	System     []string      `json:"system,omitempty"`  // fields that the target writes itself
	Handoff    bool          `json:"handoff,omitempty"` // the target takes files, and answers later
	Read       table.Options `json:"read,omitzero"`     // how the target was said to be
	Found      table.Found   `json:"found,omitzero"`    // how it was; of older journals zero
	Left       Left          `json:"left,omitzero"`     // what was left when the run began
	// LeaveOpen says that what is left open or held was to be left.
	LeaveOpen bool `json:"leave_open,omitempty"`
	// Touched says that the backup has the records alone that the run touches.
	Touched bool `json:"touched,omitempty"`
	// With are the numbers of the runs of all record sets that are carried out together; nil
	// of a run of one.
	With map[string]int `json:"with,omitempty"`
}

// At names a target of a dossier: what it is called and, of a workbook, the
// sheet. Hand-offs are one.
type At struct{ Target, Sheet string }

// At returns where the run went.
func (h *Head) At() At { return At{h.Target, h.Read.Sheet} }

// entry is a line of a journal after the first, as it is read.
type entry struct {
	Batch    int        `json:"batch,omitempty"`
	Intend   []stepLine `json:"intend,omitempty"`
	Outcomes []stepLine `json:"outcomes,omitempty"`
	// Of a batch that is a transaction: what becomes of its steps if it is committed,
	// and by what is asked whether it was; then, that it was.
	Undo      []stepLine      `json:"undo,omitempty"` // steps that are about to be undone
	Promise   []stepLine      `json:"promise,omitempty"`
	Ticket    json.RawMessage `json:"ticket,omitempty"`
	Committed bool            `json:"committed,omitempty"`
	Unsent    []string        `json:"unsent,omitempty"` // of a batch of requests: the ids of steps of which nothing was sent
	Loads     []target.Load   `json:"loads,omitempty"`  // of a hand-off: its files
	Beside    []target.Load   `json:"beside,omitempty"` // what stands beside these
	Answer    *Answer         `json:"answer,omitempty"` // where the outcomes were learnt from
	Proof     string          `json:"proof,omitempty"`  // SHA-256 of the verify.json that is about to be kept
	Previous  string          `json:"previous,omitempty"`
	End       string          `json:"end,omitempty"`
	When      *time.Time      `json:"when,omitempty"`
}

// stepLine is a step in a journal or a rollback file, as it is read; write.go
// writes it.
type stepLine struct {
	ID      string             `json:"id"`
	Act     changeset.Act      `json:"act"`
	Key     []string           `json:"key"`
	Outcome Outcome            `json:"outcome,omitempty"`
	Reason  string             `json:"reason,omitempty"`
	Write   map[string]*string `json:"write,omitempty"`  // intended values
	Read    map[string]*string `json:"read,omitempty"`   // where they are not what was written
	Before  map[string]*string `json:"before,omitempty"` // what was there, under its lock, where it is not what the rollback file says
	Along   []target.Dependent `json:"along,omitempty"`
	Seen    map[string]*string `json:"seen,omitempty"` // of a conflict: what the target has
	Left    []string           `json:"left,omitempty"`
	Known   map[string]string  `json:"answered,omitempty"` // of a hand-off: fields that were answered, with the reason of a refusal
	Linked  string             `json:"linked,omitempty"`
	Was     []string           `json:"was,omitempty"` // of a key change: the key before
	Fields  []fieldLine        `json:"fields,omitempty"`
	Record  []fieldLine        `json:"record,omitempty"`
	Row     *string            `json:"row,omitempty"`
	After   []string           `json:"after,omitempty"`
	Gap     string             `json:"gap,omitempty"`
	End     string             `json:"end,omitempty"`
	Lead    string             `json:"lead,omitempty"`
	When    *time.Time         `json:"when,omitempty"`
	WentBy  string             `json:"went_by,omitempty"` // what the record went by until the target gave it the key
	Named   map[string]string  `json:"named,omitempty"`   // keys of new records, by what they went by
}

// fieldLine is a field in order: from and to of an amend, to of an add, from
// of a delete.
type fieldLine struct {
	Field string  `json:"field"`
	From  *string `json:"from"`
	To    *string `json:"to"`
	Link  string  `json:"linked,omitempty"` // fields with the same are written together
}

// step turns a rollback line back into the step.
func (l *stepLine) step() (*Step, error) {
	id, err := changeset.ParseID(l.ID)
	if err != nil {
		return nil, err
	}
	s := &Step{Step: target.Step{ID: id, Act: l.Act, Key: record.NewKey(l.Key...), Was: record.NewKey(l.Was...), Linked: l.Linked}}
	for _, f := range l.Fields {
		s.Fields = append(s.Fields, changeset.FieldChange{Field: f.Field, From: changeset.ValueOf(f.From), To: changeset.ValueOf(f.To), Linked: f.Link})
	}
	for _, f := range l.Record {
		s.Record = append(s.Record, record.Field{Name: f.Field, Value: changeset.ValueOf(f.From)})
	}
	if l.Row != nil {
		s.Form = target.Form{Row: *l.Row, After: record.NewKey(l.After...), Gap: l.Gap, End: l.End, Lead: l.Lead, Kept: true}
	}
	return s, nil
}

// recordOf turns a JSON object back into a record, by name.
func recordOf(m map[string]*string) record.Record {
	var r record.Record
	for _, name := range slices.Sorted(maps.Keys(m)) {
		r = append(r, record.Field{Name: name, Value: changeset.ValueOf(m[name])})
	}
	return r
}

// readRollback reads rollback.jsonl and checks its seal.
func readRollback(b []byte) ([]*Step, error) {
	if len(b) == 0 || b[len(b)-1] != '\n' {
		return nil, errCut
	}
	last := bytes.LastIndexByte(b[:len(b)-1], '\n') + 1
	var seal struct {
		Seal  string `json:"seal"`
		Steps int    `json:"steps"`
	}
	if err := json.Unmarshal(b[last:], &seal); err != nil || seal.Seal == "" {
		return nil, errCut
	}
	if seal.Seal != changeset.Checksum(b[:last]) {
		return nil, desk.ErrAltered
	}
	var steps []*Step
	first := true
	for line := range bytes.Lines(b[:last]) {
		if first {
			first = false
			continue
		}
		var l stepLine
		if err := json.Unmarshal(line, &l); err != nil {
			return nil, err
		}
		s, err := l.step()
		if err != nil {
			return nil, err
		}
		steps = append(steps, s)
	}
	return steps, nil
}

var errCut = errors.New("the file is cut short: its seal is missing")

// Record is a run as its folder tells it.
type Record struct {
	Head   Head
	Dir    string
	Steps  []*Step // all, in order; those with an outcome of their own first
	Loads  []target.Load
	Beside []target.Load
	Heard  []Answer // of a hand-off: what was learnt, and from where
	Proofs []string // SHA-256 of each verify.json that was kept, the last one last
	Ended  string   // "complete", "stopped", or "" if it was interrupted
	When   time.Time
	size   int64                 // of the journal's whole lines
	last   string                // the digest of the last of them
	fresh  bool                  // this process wrote its backup and read it back
	batch  int                   // the last batch's number
	open   map[changeset.ID]bool // steps of a batch whose outcomes are missing
	undo   map[changeset.ID]bool // steps that were about to be undone
	lost   map[changeset.ID]bool // steps whose answer was lost, and which are looked at again
	// promise is the last of which it is not known whether it was kept.
	promise *entry
	tickets []json.RawMessage // of all batches that were promised; of requests those of the last batch
}

// Counts returns how many steps had each outcome.
func (r *Record) Counts() (n Steps) {
	for _, s := range r.Steps {
		n.count(s.Outcome)
	}
	return n
}

// Runs lists the numbers of a dossier's runs that began, in order. A folder
// without a journal is a run that never began, unless the dossier knows that
// there was one.
func Runs(t *desk.Dossier) ([]int, error) {
	entries, err := t.FS().ReadDir(t.Path("runs"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var all []int
	for _, e := range entries {
		n, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		if _, err := t.FS().Stat(t.Path(chainOf(n))); err == nil {
			all = append(all, n)
		}
	}
	chains, err := t.Chains()
	if err != nil {
		return nil, err
	}
	for _, name := range chains {
		var n int
		if _, err := fmt.Sscanf(name, "runs/%d/", &n); err == nil && name == chainOf(n) && !slices.Contains(all, n) {
			return nil, &desk.DamageError{File: t.Path(name), Err: desk.ErrMissing}
		}
	}
	slices.Sort(all)
	return all, nil
}

// newest returns a dossier's newest run whose heading fits, nil if none does.
func newest(t *desk.Dossier, fits func(h *Head) bool) (*Record, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Backward(runs) {
		r, err := ReadRun(t, n)
		if err != nil {
			return nil, err
		}
		if fits(&r.Head) {
			return r, nil
		}
	}
	return nil, nil
}

// chainOf is the name of a run's journal in the dossier.
func chainOf(n int) string { return fmt.Sprintf("runs/%d/%s", n, journalName) }

// Dir returns the folder of a run.
func Dir(t *desk.Dossier, n int) string { return t.Path("runs", strconv.Itoa(n)) }

// ReadRun reads a run from its journal and rollback file.
func ReadRun(t *desk.Dossier, n int) (*Record, error) {
	r := &Record{Dir: Dir(t, n), open: map[changeset.ID]bool{}}
	file := filepath.Join(r.Dir, journalName)
	journal, err := t.ReadChain(chainOf(n))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("run %d of %s: %w", n, t.Meta.Number, ErrNoRun)
	}
	if err != nil {
		return nil, err
	}
	rollback, err := disk.ReadFile(t.FS(), filepath.Join(r.Dir, rollbackName))
	if err != nil {
		return nil, &desk.DamageError{File: filepath.Join(r.Dir, rollbackName), Err: err}
	}
	planned, err := readRollback(rollback)
	if err != nil {
		return nil, &desk.DamageError{File: filepath.Join(r.Dir, rollbackName), Err: err}
	}
	if err := r.read(journal, planned); err != nil {
		return nil, &desk.DamageError{File: file, Err: err}
	}
	return r, nil
}

// read takes the journal in. A torn last line is passed over.
func (r *Record) read(journal []byte, planned []*Step) error {
	byID := make(map[changeset.ID]*Step, len(planned))
	for _, s := range planned {
		byID[s.ID] = s
	}
	for n := 0; ; n++ {
		line, rest, whole := bytes.Cut(journal, []byte{'\n'})
		if !whole {
			break
		}
		journal = rest
		r.size += int64(len(line)) + 1
		if n == 0 {
			if err := json.Unmarshal(line, &r.Head); err != nil || r.Head.Form != "journal" {
				return errors.New("the file is no journal")
			}
			if r.Head.Version > journalVersion {
				return errors.New("the run was made by a newer version of paletwin")
			}
			r.last = desk.LineDigest(line)
			continue
		}
		var e entry
		if err := json.Unmarshal(line, &e); err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
		if r.Head.Version >= 3 && e.Previous != r.last {
			return fmt.Errorf("line %d does not follow from the one before it", n+1)
		}
		r.last = desk.LineDigest(line)
		if err := r.take(&e, byID); err != nil {
			return fmt.Errorf("line %d: %w", n+1, err)
		}
	}
	if r.size == 0 {
		return errCut
	}
	r.Steps = append(r.Steps, planned...)
	for _, s := range planned {
		s.handed, s.all = r.Head.Handoff, s.Fields
		s.settleFields()
	}
	return nil
}

// takeTicket takes in what is kept of requests: the first ticket of a batch stands in the line of its intents.
func (r *Record) takeTicket(e *entry) error {
	if len(e.Intend) > 0 && len(e.Ticket) > 0 {
		r.tickets = nil
	}
	if len(e.Promise) == 0 && len(e.Ticket) > 0 {
		r.tickets = append(r.tickets, e.Ticket)
	}
	for _, text := range e.Unsent {
		id, err := changeset.ParseID(text)
		if err != nil {
			return err
		}
		delete(r.open, id)
	}
	return nil
}

func (r *Record) take(e *entry, byID map[changeset.ID]*Step) error {
	r.batch = max(r.batch, e.Batch)
	if e.End != "" {
		r.Ended = e.End
		if e.When != nil {
			r.When = *e.When
		}
	}
	if len(e.Loads) > 0 {
		r.Loads, r.Beside = e.Loads, e.Beside
	}
	if e.Proof != "" {
		r.Proofs = append(r.Proofs, e.Proof)
	}
	if e.Answer != nil {
		r.Heard = append(r.Heard, *e.Answer)
	}
	for _, l := range e.Intend {
		id, err := changeset.ParseID(l.ID)
		if err != nil {
			return err
		}
		r.open[id] = true
	}
	if err := r.takeTicket(e); err != nil {
		return err
	}
	if len(e.Promise) > 0 {
		r.promise, r.tickets = e, append(r.tickets, e.Ticket)
	}
	if e.Committed && r.promise != nil {
		e.Outcomes = append(e.Outcomes, r.promise.Promise...)
	}
	if len(e.Outcomes) > 0 {
		r.promise = nil
	}
	for _, l := range e.Undo {
		id, err := changeset.ParseID(l.ID)
		if err != nil {
			return err
		}
		if r.undo == nil {
			r.undo = map[changeset.ID]bool{}
		}
		r.undo[id] = true
	}
	for _, l := range e.Outcomes {
		s, err := l.step()
		if err != nil {
			return err
		}
		if p := byID[s.ID]; p != nil {
			s = p
			delete(r.open, s.ID)
			delete(r.undo, s.ID)
		} else {
			r.Steps = append(r.Steps, s)
		}
		s.Outcome, s.Reason = l.Outcome, l.Reason
		if l.When != nil {
			s.When = *l.When
		}
		s.Read, s.Seen, s.Left = recordOf(l.Read), recordOf(l.Seen), l.Left
		s.stood(recordOf(l.Before))
		s.Along = l.Along
		if s.WentBy = l.WentBy; l.WentBy != "" {
			s.Key = record.NewKey(l.Key...)
		}
		if len(l.Named) > 0 {
			s.resolve(l.Named)
		}
		if s.answered = l.Known; !r.Head.Handoff {
			s.leftOut()
		}
	}
	return nil
}
