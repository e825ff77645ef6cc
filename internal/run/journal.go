package run

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/forms"
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

// Versions of journals below forms.Journal's, which says what they are.
const (
	promising = 4
	grouped   = 5
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
	_, n, err := newestHead(t, fits)
	if n == 0 {
		return nil, err
	}
	return ReadRun(t, n)
}

// newestHead returns the heading of a dossier's newest run that fits, and its number; nil and 0 if none does.
func newestHead(t *desk.Dossier, fits func(h *Head) bool) (*Head, int, error) {
	runs, err := Runs(t)
	if err != nil {
		return nil, 0, err
	}
	for _, n := range slices.Backward(runs) {
		h, err := ReadHead(t, n)
		if err != nil {
			return nil, 0, err
		}
		if fits(h) {
			return h, n, nil
		}
	}
	return nil, 0, nil
}

// chainOf is the name of a run's journal in the dossier.
func chainOf(n int) string { return fmt.Sprintf("runs/%d/%s", n, journalName) }

// Dir returns the folder of a run.
func Dir(t *desk.Dossier, n int) string { return t.Path("runs", strconv.Itoa(n)) }

// ReadHead reads the heading of a run's journal, and holds it against what the dossier knows of it. What the run came to
// is not read.
func ReadHead(t *desk.Dossier, n int) (*Head, error) {
	line, err := t.ReadFirst(chainOf(n))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, noRun(t, n)
	}
	if err != nil {
		return nil, err
	}
	h, err := headOf(line)
	if err != nil {
		return nil, &desk.DamageError{File: t.Path(chainOf(n)), Err: err}
	}
	return h, nil
}

func noRun(t *desk.Dossier, n int) error {
	return fmt.Errorf("run %d of %s: %w", n, t.Meta.Number, ErrNoRun)
}

// headOf reads a journal's first line.
func headOf(line []byte) (*Head, error) {
	h := new(Head)
	if err := json.Unmarshal(line, h); err != nil || h.Form != forms.Journal.Name {
		return nil, errors.New("the file is no journal")
	}
	return h, forms.Journal.Check(h.Version)
}

// readEnd reads a run's heading and how it ended, and none of its steps; all of it where it did not end.
func readEnd(t *desk.Dossier, n int) (*Record, error) {
	r := &Record{Dir: Dir(t, n)}
	err := t.WithChain(chainOf(n), func(journal []byte) error {
		return r.walk(journal, func(e *entry) error { r.Ended = cmp.Or(e.end, r.Ended); return nil })
	})
	if err != nil || r.Ended == "" {
		return ReadRun(t, n) // which says what is wrong
	}
	return r, nil
}

// readRollbackFile reads a rollback file, of which nothing is kept in memory but its steps: with how their records stood, or without.
func readRollbackFile(fsys disk.FS, name string, forms bool) (steps []*Step, err error) {
	err = withFile(fsys, name, func(data []byte) error {
		steps, err = readRollback(data, forms)
		return err
	})
	return steps, err
}

// withFile gives what a file has, which holds until read returns.
func withFile(fsys disk.FS, name string, read func(data []byte) error) error {
	m, err := fsys.Map(name)
	if err != nil {
		return err
	}
	defer m.Close()
	return table.Guard(func() error { return read(m.Data) })
}

// ReadRun reads a run from its journal and rollback file. How records stood is read of a run of several record sets alone, which may be
// taken back at once.
func ReadRun(t *desk.Dossier, n int) (*Record, error) {
	r := &Record{Dir: Dir(t, n), open: map[changeset.ID]bool{}}
	err := withJournal(t, n, func(journal []byte) error {
		forms := false
		if line, _, whole := bytes.Cut(journal, []byte{'\n'}); whole {
			h, err := headOf(line)
			forms = err == nil && h.With != nil
		}
		planned, err := readRollbackFile(t.FS(), filepath.Join(r.Dir, rollbackName), forms)
		if err != nil {
			return &desk.DamageError{File: filepath.Join(r.Dir, rollbackName), Err: err}
		}
		return r.read(journal, planned)
	})
	if err != nil {
		return nil, err
	}
	return r, nil
}

// withJournal reads a run's journal. What is wrong with it is a *desk.DamageError.
func withJournal(t *desk.Dossier, n int, read func(journal []byte) error) error {
	file := filepath.Join(Dir(t, n), journalName)
	damaged := new(desk.DamageError)
	err := t.WithChain(chainOf(n), func(journal []byte) error {
		err := read(journal)
		if err != nil && !errors.As(err, &damaged) {
			return &desk.DamageError{File: file, Err: err}
		}
		return err
	})
	switch {
	case errors.As(err, &damaged):
	case errors.Is(err, fs.ErrNotExist):
		return noRun(t, n)
	case errors.Is(err, table.ErrChanged):
		return &desk.DamageError{File: file, Err: err}
	}
	return err
}
