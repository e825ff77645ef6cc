package run

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Options say how a run goes.
type Options struct {
	First       int  // at most so many records are attempted; 0 means all
	OtherTarget bool // go on although the target is not the one expected
}

// Job is one apply.
type Job struct {
	Dossier *desk.Dossier
	Target  target.Target
	By      string
	Now     func() time.Time
	Options Options
	// Confirm, if not nil, is asked once everything was read and checked and
	// before anything is written; false ends the run with nothing written.
	Confirm func(p *Plan, write int) bool
	// Progress, if not nil, is told what is being done.
	Progress func(what string, done, all int)
}

// Report is what an apply did.
type Report struct {
	Run       int // 0 if nothing was attempted
	Target    string
	Resumed   bool // an interrupted run was finished
	Declined  bool // Confirm said no
	Steps     Steps
	Left      Left
	Backup    string // its file
	Outcome   string // its file
	Verify    *Verification
	Attempted []*Step
}

// Apply carries the approved part of a dossier out. The caller holds the
// dossier's lock. An interrupted run is finished first and alone: its report
// comes back with Resumed set, and the caller calls again for the rest.
func Apply(ctx context.Context, j *Job) (*Report, error) {
	if j.Progress == nil {
		j.Progress = func(string, int, int) {}
	}
	runs, err := Runs(j.Dossier)
	if err != nil {
		return nil, err
	}
	var last *Record
	if len(runs) > 0 {
		if last, err = ReadRun(j.Dossier, runs[len(runs)-1]); err != nil {
			return nil, err
		}
	}
	if err := j.guard(last); err != nil {
		return nil, err
	}
	if last != nil && last.Ended == "" {
		return j.finish(ctx, last)
	}
	return j.begin(ctx, len(runs))
}

// guard refuses a target that is not the one meant.
func (j *Job) guard(last *Record) error {
	name := j.Target.Name()
	if j.Options.OtherTarget {
		return nil
	}
	for _, in := range j.Dossier.Inputs() {
		if in.Path != "" && sameFile(in.Path, name) {
			return refuse(IsInput, "%s is a file this dossier was made from (%s)", name, in.Name)
		}
	}
	if last != nil && last.Head.Target != name {
		return refuse(OtherTarget, "the last run of this dossier went to %s, not to %s", last.Head.Target, name)
	}
	ed := j.Dossier.Meta.Edited
	if ed == nil {
		return nil
	}
	info, err := j.Dossier.FS().Stat(name)
	if err != nil || info.Size() != ed.Size {
		return nil // not a file, or another one
	}
	if sum, err := disk.Sum(j.Dossier.FS(), name); err == nil && sum == ed.SHA256 {
		return refuse(IsInput, "%s is the edited copy, byte for byte", name)
	}
	return nil
}

func sameFile(a, b string) bool {
	ai, err := os.Stat(a)
	if err != nil {
		return false
	}
	bi, err := os.Stat(b)
	return err == nil && os.SameFile(ai, bi)
}

// begin plans a new run, prepares it and carries it out.
func (j *Job) begin(ctx context.Context, earlier int) (*Report, error) {
	c, err := j.Dossier.Changes()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	plan, err := MakePlan(j.Dossier, c)
	if err != nil {
		return nil, err
	}
	rep := &Report{Target: j.Target.Name(), Left: plan.Left}
	steps := plan.Steps
	if n := j.Options.First; n > 0 && len(steps) > n {
		rep.Left.Approved = len(steps) - n
		steps = steps[:n]
	}
	if len(steps) == 0 {
		return rep, nil
	}
	write, err := j.judgeAll(ctx, steps)
	if err != nil {
		return nil, err
	}
	if j.Confirm != nil && !j.Confirm(plan, len(write)) {
		rep.Declined = true
		return rep, nil
	}
	r, err := j.prepare(ctx, earlier+1, steps, write)
	if err != nil {
		return nil, err
	}
	return j.carryOut(ctx, r, rep, write)
}

// judgeAll reads the records as they are now, and gives each step that is
// not to be written its outcome. It returns those that are.
func (j *Job) judgeAll(ctx context.Context, steps []*Step) ([]*Step, error) {
	j.Progress("reading the target", 0, len(steps))
	states, err := j.Target.Current(ctx, keys(steps))
	if err != nil {
		return nil, err
	}
	known, asked := 0, 0
	for i, s := range steps {
		if states[i].Count > 1 {
			return nil, refuse(TwiceThere, "%s stands %d times in %s", s.Key, states[i].Count, j.Target.Name())
		}
		if s.Act != changeset.Add {
			asked++
			known += states[i].Count
		}
	}
	if 2*known < asked && !j.Options.OtherTarget {
		return nil, refuse(UnknownKeys, "%s knows %d of the %d records that are to change", j.Target.Name(), known, asked)
	}
	if err := j.checkColumns(steps); err != nil {
		return nil, err
	}
	var write []*Step
	for i, s := range steps {
		judge(s, &states[i])
		if s.Outcome == "" {
			write = append(write, s)
		} else {
			s.When = j.Now()
		}
	}
	return write, nil
}

// checkColumns refuses a target that has no column for a field to be written.
func (j *Job) checkColumns(steps []*Step) error {
	has := map[string]bool{}
	for _, f := range j.Target.Fields() {
		has[f] = true
	}
	for _, s := range steps {
		for _, f := range s.Fields {
			if !has[f.Field] {
				return refuse(MissingColumn, "%s has no column %q", j.Target.Name(), f.Field)
			}
		}
		if s.Act == changeset.Add {
			for _, f := range s.Record {
				if !has[f.Name] && !f.Value.Blank() {
					return refuse(MissingColumn, "%s has no column %q", j.Target.Name(), f.Name)
				}
			}
		}
	}
	return nil
}

// prepare makes the run's folder: backup and rollback file, both read back,
// and the journal's heading, with which the run has begun.
func (j *Job) prepare(ctx context.Context, n int, steps, write []*Step) (*Record, error) {
	fsys, dir := j.Dossier.FS(), Dir(j.Dossier, n)
	if err := mkdirs(fsys, j.Dossier.Path("runs"), dir); err != nil {
		return nil, err
	}
	j.Progress("backing up", 0, 0)
	head := Head{Form: "journal", Version: 1, Dossier: j.Dossier.Meta.Number, Run: n, Target: j.Target.Name(),
		By: j.By, When: j.Now().UTC(), Steps: len(steps), Backup: backupStem + j.Target.Ext()}
	if err := j.backup(ctx, dir, &head); err != nil {
		return nil, err
	}
	rollback, err := writeRollback(fsys, dir, map[string]any{"paletwin": "rollback", "version": 1, "dossier": head.Dossier, "run": n,
		"record_set": j.Dossier.Set().Name, "key": j.Dossier.Set().Key, "target": head.Target}, write)
	if err != nil {
		return nil, err
	}
	back, err := disk.ReadFile(fsys, filepath.Join(dir, rollbackName))
	if err != nil {
		return nil, err
	}
	if _, err := readRollback(back); err != nil {
		return nil, fmt.Errorf("rollback file: %w", err)
	}
	head.Rollback = rollback.SHA256
	jr := &journal{fsys: fsys, name: filepath.Join(dir, journalName)}
	if err := jr.append(head); err != nil {
		return nil, err
	}
	r := &Record{Head: head, Dir: dir, Steps: steps, open: map[changeset.ID]bool{}}
	var settled []stepLine
	for _, s := range steps {
		if s.Outcome != "" {
			settled = append(settled, s.outcome())
		}
	}
	if len(settled) > 0 {
		if err := jr.append(entry{Outcomes: settled}); err != nil {
			return nil, err
		}
	}
	r.size = jr.size
	return r, nil
}

func mkdirs(fsys disk.FS, dirs ...string) error {
	for _, d := range dirs {
		if err := fsys.Mkdir(d); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
	}
	return nil
}

// backup writes the target's whole state and reads it back.
func (j *Job) backup(ctx context.Context, dir string, head *Head) error {
	fsys := j.Dossier.FS()
	if s, ok := j.Target.(interface{ Size() int64 }); ok {
		if room, err := fsys.Free(dir); err == nil && room >= 0 && room < 2*s.Size() {
			return refuse(NoRoom, "the disk of %s has %d MB free, and backup and rewriting need %d MB", dir, room>>20, 2*s.Size()>>20+1)
		}
	}
	file := filepath.Join(dir, head.Backup)
	w, err := disk.WriteFile(fsys, file, 0o600, func(w io.Writer) error { return j.Target.Backup(ctx, w) })
	if err != nil {
		return err
	}
	sum, err := disk.Sum(fsys, file)
	if err != nil {
		return err
	}
	if sum != w.SHA256 {
		return fmt.Errorf("%s: %w", file, ErrBackup)
	}
	head.SHA256 = sum
	return nil
}

// carryOut writes the steps batch by batch and ends the run.
func (j *Job) carryOut(ctx context.Context, r *Record, rep *Report, write []*Step) (*Report, error) {
	rep.Run = r.Head.Run
	rep.Backup = filepath.Join(r.Dir, r.Head.Backup)
	jr := &journal{j.Dossier.FS(), filepath.Join(r.Dir, journalName), r.size}
	forms, err := forms(j.Dossier)
	if err != nil {
		return nil, err
	}
	size := j.Target.Batch()
	if size <= 0 {
		size = len(write)
	}
	for from := 0; from < len(write); from += size {
		r.batch++
		part := write[from:min(from+size, len(write))]
		j.Progress("writing", from, len(write))
		if err := j.batch(ctx, jr, r.batch, part, forms); err != nil {
			return nil, err
		}
	}
	return j.end(ctx, jr, r, rep)
}

// batch carries out one batch: intent, write, read back, outcomes.
func (j *Job) batch(ctx context.Context, jr *journal, n int, part []*Step, forms map[changeset.ID]target.Form) error {
	intent := entry{Batch: n}
	for _, s := range part {
		intent.Intend = append(intent.Intend, s.intent())
	}
	if err := jr.append(intent); err != nil {
		return err
	}
	results, err := j.Target.Write(ctx, forTarget(part, forms))
	if err != nil {
		return err
	}
	if err := j.readBack(ctx, part, results); err != nil {
		return err
	}
	return jr.append(outcomes(n, part))
}

func outcomes(n int, part []*Step) entry {
	e := entry{Batch: n}
	for _, s := range part {
		e.Outcomes = append(e.Outcomes, s.outcome())
	}
	return e
}

// readBack gives the steps of a batch their outcomes, and notes where the
// target made something else of a value.
func (j *Job) readBack(ctx context.Context, part []*Step, results []target.Result) error {
	if err := j.Target.Refresh(ctx); err != nil {
		return err
	}
	states, err := j.Target.Current(ctx, keys(part))
	if err != nil {
		return err
	}
	for i, s := range part {
		s.When = j.Now()
		if results[i].Refused {
			s.Outcome, s.Reason = Refused, results[i].Reason
			continue
		}
		s.Outcome = Done
		s.noteRead(&states[i])
	}
	return nil
}

// noteRead keeps what was read back where it is not what was written.
func (s *Step) noteRead(now *target.State) {
	s.Read = nil
	if now.Count == 0 || s.Act == changeset.Delete {
		return
	}
	wanted := s.Record
	if s.Act == changeset.Amend {
		wanted = nil
		for _, f := range s.Fields {
			wanted = append(wanted, record.Field{Name: f.Field, Value: f.To})
		}
	}
	for _, f := range now.Record {
		if w, asked := wanted.Get(f.Name); asked && w.String() != f.Value.String() {
			s.Read.Set(f.Name, f.Value)
		}
	}
}

// finish ends a run that was interrupted, under its own number and with its
// own backup and rollback file. A step whose batch was open is done if the
// target has what it wanted.
func (j *Job) finish(ctx context.Context, r *Record) (*Report, error) {
	rep := &Report{Target: j.Target.Name(), Resumed: true}
	var rest []*Step
	for _, s := range r.Steps {
		if s.Outcome == "" {
			rest = append(rest, s)
		}
	}
	states, err := j.Target.Current(ctx, keys(rest))
	if err != nil {
		return nil, err
	}
	var write, confirmed []*Step
	for i, s := range rest {
		if states[i].Count > 1 {
			return nil, refuse(TwiceThere, "%s stands %d times in %s", s.Key, states[i].Count, j.Target.Name())
		}
		planned := *s
		if r.open[s.ID] && has(s, &states[i]) {
			s.Outcome, s.Reason, s.When = Done, "confirmed after an interruption", j.Now()
			s.noteRead(&states[i])
			confirmed = append(confirmed, s)
			continue
		}
		judge(s, &states[i])
		if s.Outcome == "" {
			// What is written and undone stands in the rollback file already.
			*s = planned
			write = append(write, s)
			continue
		}
		s.When = j.Now()
		confirmed = append(confirmed, s)
	}
	jr := &journal{j.Dossier.FS(), filepath.Join(r.Dir, journalName), r.size}
	if len(confirmed) > 0 {
		if err := jr.append(outcomes(r.batch, confirmed)); err != nil {
			return nil, err
		}
		r.size = jr.size
	}
	return j.carryOut(ctx, r, rep, write)
}

// end writes outcome.csv and the proof, and closes the journal.
func (j *Job) end(ctx context.Context, jr *journal, r *Record, rep *Report) (*Report, error) {
	rep.Steps = r.Counts()
	rep.Attempted = r.Steps
	rep.Outcome = filepath.Join(r.Dir, outcomeName)
	if err := writeOutcome(j.Dossier, rep.Outcome, r.Steps); err != nil {
		return nil, err
	}
	when := j.Now().UTC()
	if err := jr.append(entry{End: "complete", When: &when}); err != nil {
		return nil, err
	}
	j.Progress("checking", 0, 0)
	img, release, err := j.Target.Table(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	rep.Verify, err = Verify(ctx, j.Dossier, img, j.Now())
	return rep, err
}

// OpenBackup opens a run's backup and checks its digest.
func OpenBackup(t *desk.Dossier, r *Record) (*desk.Table, error) {
	file := filepath.Join(r.Dir, r.Head.Backup)
	b, err := desk.OpenTable(t.FS(), file, r.Head.Backup)
	if err != nil {
		return nil, &desk.DamageError{File: file, Err: err}
	}
	var sum [32]byte
	if err := table.Guard(func() error { sum = sha256.Sum256(b.Data); return nil }); err != nil {
		return nil, err
	}
	if hex.EncodeToString(sum[:]) != r.Head.SHA256 {
		_ = b.Close() // the first error counts
		return nil, &desk.DamageError{File: file, Err: desk.ErrAltered}
	}
	return b, nil
}
