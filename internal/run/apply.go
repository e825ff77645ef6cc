package run

import (
	"context"
	"errors"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/target"
)

// Options say how a run goes.
type Options struct {
	First       int           // at most so many records are attempted; 0 means all
	Read        table.Options // how the target was said to be
	OtherTarget bool          // go on although the target is not the one expected
	PerField    bool          // write the fields of a record that are as the snapshot had them, though others are not
	Overwrite   bool          // write over conflicts that were decided upon, if the target still has what was seen then
	Again       bool          // do again what earlier runs did
	Retry       bool          // of a hand-off: only what the system refused
	// RetryUnknown takes in, of a retry, what the system did not answer: where
	// a fresh export shows whether it was done.
	RetryUnknown bool
	Rehearse     bool          // read and check everything, write nothing
	Batch        int           // at most so many steps a batch; 0 leaves it to the target
	Pause        time.Duration // between batches
	StopAfter    Stop          // when to give up
	System       []string      // fields that the target writes itself
	Cascade      bool          // of deletes: what refers to a record may go along with it
	Anew         bool          // of key changes: where keys cannot be changed, records may be deleted and added
	Touched      bool          // read, keep and prove the records alone that are touched
	LeaveOpen    bool          // what is left open or held is to be left: kept for those who ask later
}

// Stop says after how many refusals a run ends: so many, or a share of its
// steps. The zero Stop never ends it.
type Stop struct {
	Refusals int
	Percent  float64
}

// reached reports whether refused of all steps are enough to end a run.
func (s Stop) reached(refused, all int) bool {
	return s.Refusals > 0 && refused >= s.Refusals || s.Percent > 0 && 100*float64(refused) >= s.Percent*float64(all) && refused > 0
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

	layout *layout.Layout
	schema *schema.Schema // the layout's
	found  table.Found    // how the target was found to be
	fields []string       // of the dossier's snapshot
	// compared are the fields of the comparison that the changes come from: for a
	// rollback, that of what it undoes.
	compared []string
	// newRecords are what new records go by that get their keys from the target;
	// nil where it gives none.
	newRecords map[string]bool
	// Of a run of several record sets: the numbers of the runs of all of them, and what is
	// done after each batch.
	with map[string]int
	// inGroup says that other record sets are carried out with it: what was written may be taken back at once, as it stood.
	inGroup bool
	// formsAgain says that it is read again how records stand when the rollback file is written, so that it need not be held: where nobody
	// asks for it later.
	formsAgain bool
	batched    func(batch []*Step) error
}

// Report is what an apply did.
type Report struct {
	Run       int // 0 if nothing was attempted
	Target    string
	Handed    bool // the target takes files, and answers later
	Resumed   bool // an interrupted run was finished
	Rehearsed bool // nothing was written; Steps is what would have become of them
	Stopped   bool // the run ended early, after too many refusals
	Partly    int  // records done of which some approved fields were left
	Declined  bool // Confirm said no
	Steps     Steps
	Left      Left
	Backup    string // its file
	Outcome   string // its file
	Verify    *Verification
	Attempted []*Step
	Waiting   []*Step       // of several record sets: what was left, since it needs what another one leaves, with the reasons
	Loads     []target.Load // of a hand-off: the files it made
	// Waits is how often the target was busy, and was waited for: WaitedIn in all.
	Waits    int
	WaitedIn time.Duration
	// Claimed are those whose second look was recorded by others, and is relied on.
	Claimed []changeset.Person
}

// Apply carries the approved part of a dossier out. The caller holds the
// dossier's lock. An interrupted run is finished first and alone: its report
// comes back with Resumed set, and the caller calls again for the rest.
func Apply(ctx context.Context, j *Job) (*Report, error) {
	last, err := j.ready()
	if err != nil {
		return nil, err
	}
	if last != nil && last.Ended == "" {
		if err := j.mayFinish(last); err != nil {
			return nil, err
		}
		if last.Head.With != nil {
			return nil, refuse(Unfinished, "run %d was of all record sets of dossier %s, and was interrupted: paletwin apply %s finishes it", last.Head.Run, j.Dossier.Whole().Meta.Number, j.Dossier.Whole().Meta.Number)
		}
		return j.finish(ctx, last)
	}
	return j.begin(ctx, last.next())
}

// mayFinish refuses to rehearse where a run has to be finished first.
func (j *Job) mayFinish(last *Record) error {
	if !j.Options.Rehearse {
		return nil
	}
	return refuse(Unfinished, "run %d was interrupted and has to be finished before anything is rehearsed", last.Head.Run)
}

// Finished refuses where a dossier's last run did not come to its end.
func Finished(t *desk.Dossier) error {
	runs, err := Runs(t)
	if err != nil || len(runs) == 0 {
		return err
	}
	last, err := readEnd(t, runs[len(runs)-1])
	if err != nil || last.Ended != "" {
		return err
	}
	return refuse(Unfinished, "run %d of dossier %s was interrupted and has to be finished first", last.Head.Run, t.Meta.Number)
}

// next is the number of the run after this one, which may be nil.
func (r *Record) next() int {
	if r == nil {
		return 1
	}
	return r.Head.Run + 1
}

// ready completes the job, and returns the dossier's last run, nil if it has none: without its steps, where it ended.
func (j *Job) ready() (last *Record, err error) {
	if j.Progress == nil {
		j.Progress = func(string, int, int) {}
	}
	if c, err := j.Dossier.Closed(); err != nil {
		return nil, err
	} else if c != nil {
		return nil, refuse(Closed, "dossier %[1]s was closed by %[2]s on %[3]s: paletwin reopen %[1]s brings it back", j.Dossier.Whole().Meta.Number, c.By, c.When.Local().Format("2 January 2006"))
	}
	if j.layout, err = j.Dossier.Layout(); err != nil {
		return nil, err
	}
	if j.schema, err = j.Dossier.Schema(); err != nil {
		return nil, err
	}
	if j.newRecords, err = newRecords(j.Dossier, j.schema); err != nil {
		return nil, err
	}
	runs, err := Runs(j.Dossier)
	if err != nil {
		return nil, err
	}
	if len(runs) > 0 {
		if last, err = readEnd(j.Dossier, runs[len(runs)-1]); err != nil {
			return nil, err
		}
	}
	if err := j.guard(last); err != nil {
		return nil, err
	}
	j.Options.Again = j.Options.Again || j.Dossier.Desk().Settings.Trial(j.Target.Name())
	if len(j.Options.System) == 0 {
		if j.Options.System = systemFields(j.Dossier, last); len(j.Options.System) == 0 {
			j.Options.System = j.schema.System()
		}
	}
	traits := j.Target.Traits()
	j.formsAgain = !j.inGroup && traits.Reread > 0
	for _, f := range traits.System {
		if !slices.Contains(j.Options.System, f) {
			j.Options.System = append(slices.Clip(j.Options.System), f)
		}
	}
	return last, nil
}

// systemFields returns the fields that the target writes itself, as the last
// run was told or, before the first, the dossier's options say.
func systemFields(t *desk.Dossier, last *Record) []string {
	if last != nil {
		return last.Head.System
	}
	if t.Meta.Options == nil {
		return nil
	}
	return t.Meta.Options.System
}

// guard refuses a target that is not the one meant.
func (j *Job) guard(last *Record) error {
	name := j.Target.Name()
	if last != nil && last.Ended == "" && last.Head.At() != j.at() {
		return refuse(UnfinishedThere, "run %d of this dossier was interrupted on %s, and is finished there before anything goes elsewhere", last.Head.Run, last.Head.Target)
	}
	if j.Options.OtherTarget {
		return nil
	}
	for _, in := range j.Dossier.Inputs() {
		if in == j.Dossier.Meta.Snapshot && j.Dossier.Meta.CatchesUp != "" {
			continue // the register itself may be what it was laid on
		}
		if in.Path != "" && disk.SameFile(in.Path, name) {
			return refuse(IsInput, "%s is a file this dossier was made from (%s)", name, in.Name)
		}
	}
	other, err := j.lastElsewhere()
	if err != nil {
		return err
	}
	if other != nil && other.Dossier != j.Dossier.Meta.Number {
		return refuse(OtherTarget, "this dossier undoes what was done to %s, not to %s", other.Target, name)
	}
	if other != nil {
		return refuse(OtherTarget, "the last run of this dossier went to %s, not to %s", other.Target, name)
	}
	if last != nil {
		return nil // after a run, the register may well be what the copy is
	}
	info, err := j.Dossier.FS().Stat(name)
	if err != nil {
		return nil // not a file
	}
	for _, ed := range j.Dossier.Meta.Edited {
		if info.Size() != ed.Size {
			continue
		}
		if sum, err := disk.Sum(j.Dossier.FS(), name); err == nil && sum == ed.SHA256 {
			return refuse(IsInput, "%s is the edited copy, byte for byte", name)
		}
	}
	return nil
}

// at is where the run goes.
func (j *Job) at() At { return At{j.Target.Name(), j.Options.Read.Sheet} }

// lastElsewhere returns the last run's heading if it went to another target
// than this one and neither is for trying, nil if none did. A dossier that
// undoes another one belongs to the target of what it undoes.
func (j *Job) lastElsewhere() (*Head, error) {
	settings := &j.Dossier.Desk().Settings
	if settings.Trial(j.Target.Name()) {
		return nil, nil
	}
	h, _, err := newestHead(j.Dossier, func(h *Head) bool { return !settings.Trial(h.Target) })
	if err != nil {
		return nil, err
	}
	if h != nil {
		if h.At() == j.at() {
			return nil, nil
		}
		return h, nil
	}
	if j.Dossier.Meta.Undoes == nil {
		return nil, nil
	}
	h, err = LastTarget(j.Dossier)
	if err != nil || h == nil || h.At() == j.at() || h.Handoff {
		return nil, err
	}
	return h, nil
}

// begin plans run n, prepares it and carries it out.
func (j *Job) begin(ctx context.Context, n int) (*Report, error) {
	p, err := j.plan(ctx)
	if err != nil {
		return nil, err
	}
	if err := j.waitForOthers(p); err != nil {
		return nil, err
	}
	rep := p.rep
	switch {
	case len(p.steps) == 0:
		return rep, nil
	case j.Options.StopAfter.reached(refusals(p.steps), len(p.steps)):
		return rep.stopped(p.steps), nil
	case j.Options.Rehearse:
		return rep.rehearsed(p.steps), j.room()
	case j.Confirm != nil && !j.Confirm(p.plan, len(p.write)):
		rep.Declined = true
		return rep, nil
	}
	r, err := j.start(ctx, n, p)
	if err != nil {
		return nil, err
	}
	return j.carryOut(ctx, r, rep, p.write)
}

// start makes the run's folder, with backup and rollback file.
func (j *Job) start(ctx context.Context, n int, p *planned) (*Record, error) {
	if c, ok := j.Target.(target.Committer); ok {
		if err := c.Prepare(ctx); err != nil {
			return nil, err
		}
	}
	return j.prepare(ctx, n, p.rep.Left, p.steps, p.write)
}

// planned is what a run is going to do, by what its target has.
type planned struct {
	plan         *Plan
	rep          *Report
	steps, write []*Step // all that it deals with, and those that are to be written
}

// plan takes what is approved and looks what the target has of it.
func (j *Job) plan(ctx context.Context) (*planned, error) {
	c, err := j.Dossier.Changes()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	j.fields = c.Header.Fields
	if j.compared, err = comparedFields(j.Dossier, c); err != nil {
		return nil, err
	}
	plan, err := MakePlan(j.Dossier, c, j.at(), j.Options)
	if err != nil {
		return nil, err
	}
	rep := &Report{Target: j.Target.Name(), Left: plan.Left, Rehearsed: j.Options.Rehearse}
	_, rep.Handed = j.Target.(target.Loader)
	p := &planned{plan: plan, rep: rep}
	if len(plan.Steps) == 0 {
		return p, nil
	}
	if rep.Claimed, err = j.secondLook(c, plan.Steps); err != nil {
		return nil, err
	}
	c.Ledger = nil // a million decisions take room, and the steps say what was decided
	if err := j.narrowTo(plan.Steps); err != nil {
		return nil, err
	}
	if err := j.checkTable(ctx); err != nil {
		return nil, err
	}
	if s, ok := j.Target.(target.Summer); ok && !j.Options.Rehearse {
		s.Summing()
	}
	p.steps, p.write, err = j.judgeAll(ctx, c, plan.Steps)
	rep.Left.Approved += len(plan.Steps) - len(p.steps)
	return p, err
}

// comparedFields are the fields of the comparison that a dossier's changes come
// from.
func comparedFields(t *desk.Dossier, c *desk.Changes) ([]string, error) {
	if t.Meta.Undoes == nil || t.Meta.Undoes.Restore {
		return c.Header.Fields, nil
	}
	for t.Meta.Undoes != nil && !t.Meta.Undoes.Restore {
		from, err := t.Desk().Dossier(t.Meta.Undoes.Dossier, "")
		if err != nil {
			return nil, err
		}
		t = from
	}
	c, err := t.Changes()
	if err != nil {
		return nil, err
	}
	return c.Header.Fields, c.Close()
}

// checkTable refuses a target that could not be compared with its backup when
// the run has ended, so that nothing could be proven of it and nothing undone.
func (j *Job) checkTable(ctx context.Context) error {
	img, release, err := j.Target.Table(ctx)
	if err != nil {
		return err
	}
	j.found = img.Found
	if j.Target.Traits().Unread {
		return release() // the snapshot, which was compared
	}
	set := j.Dossier.Set()
	if err := compare.Check(ctx, img, compare.Options{RecordSet: set.Name, Key: set.Key, Layout: j.layout}); err != nil {
		_ = release() // the first error counts
		if ctx.Err() == nil && !errors.Is(err, table.ErrChanged) {
			err = &TableError{err}
		}
		return err
	}
	return release()
}

// rehearsed completes the report of a run that writes nothing.
func (rep *Report) rehearsed(steps []*Step) *Report {
	for _, s := range steps {
		if s.Outcome == "" {
			s.Outcome = Done
		}
		rep.Steps.count(s.Outcome)
		rep.partly(s)
	}
	rep.Attempted = steps
	return rep
}

// partly counts a record that was done but for some approved fields.
func (rep *Report) partly(s *Step) {
	if s.Outcome == Done && s.Partly() {
		rep.Partly++
	}
}

// judgeAll reads the records as they are now, and gives each step that is
// not to be written its outcome. It returns those that are, and all that the
// run deals with.
func (j *Job) judgeAll(ctx context.Context, c *desk.Changes, steps []*Step) (all, write []*Step, err error) {
	if err := j.judgeStates(ctx, c, steps); err != nil {
		return nil, nil, err
	}
	if write, err = j.check(ctx, steps, j.Options.First); err != nil {
		return nil, nil, err
	}
	for _, s := range steps {
		if s.Outcome != "" {
			s.When = momentOf(j.Now())
		}
	}
	return reached(steps, write), write, nil
}

// where is what a message calls the state that was read: the target, or the
// export that stands for it.
func (j *Job) where() string {
	if h, ok := j.Target.(target.Loader); ok {
		return h.From()
	}
	return j.Target.Name()
}

// there is what a step's reason calls it.
func (j *Job) there() string {
	if _, ok := j.Target.(target.Loader); ok {
		return "the export"
	}
	return "the target"
}

// judgeStates reads the steps' records, judges by them, and checks what is left to be written by the layout. Where they are
// taken to be as the steps say, there is nothing to judge.
func (j *Job) judgeStates(ctx context.Context, c *desk.Changes, steps []*Step) error {
	if j.Target.Traits().Unread {
		for _, s := range steps {
			j.checkLayout(s, new(target.State))
		}
		return nil
	}
	j.Progress("reading the target", 0, 0)
	lacks := j.checkColumns(steps)
	known, asked := 0, 0
	err := j.eachState(ctx, steps, func(s *Step, now *target.State) error {
		if now.Count > 1 {
			return refuse(TwiceThere, "%s stands %d times in %s", s.Key, now.Count, j.where())
		}
		if s.Act != changeset.Add {
			asked++
			known += now.Count
		}
		if lacks == nil {
			s.take(j.judge(s, now))
			j.checkLayout(s, now)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if 2*known < asked && !j.Options.OtherTarget {
		if err := j.knowsFew(ctx, c, steps); err != nil {
			return err
		}
	}
	return lacks
}

// knowsFew refuses a target that knows fewer than half of the records that the
// dossier as a whole amends or deletes, without those it has deleted there.
func (j *Job) knowsFew(ctx context.Context, c *desk.Changes, steps []*Step) error {
	done, err := everDone(j.Dossier, j.at())
	if err != nil {
		return err
	}
	var all []record.Key
	for line := range c.Lines() {
		if line.Act() == changeset.Add || line.Act() == changeset.Delete && done.has(unit{line.ID(), ""}) {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return err
		}
		all = append(all, ch.Key)
	}
	if err := j.narrow(all); err != nil {
		return err
	}
	states, err := j.Target.Current(ctx, all)
	if err != nil {
		return err
	}
	known := 0
	for i := range states {
		known += min(states[i].Count, 1)
	}
	if 2*known < len(all) {
		return refuse(UnknownKeys, "%s knows %d of the %d records that dossier %s changes", j.where(), known, len(all), j.Dossier.Meta.Number)
	}
	return j.narrowTo(steps)
}

// checkTarget refuses what the target is known not to take.
func (j *Job) checkTarget(ctx context.Context, steps []*Step) error {
	clean := undecided(steps)
	reasons, err := j.reasons(ctx, j.forTarget(clean, nil))
	for i, why := range reasons {
		if why != "" {
			clean[i].Outcome, clean[i].Reason = Refused, why
		}
	}
	return err
}

// reasons asks the target what it is known not to take.
func (j *Job) reasons(ctx context.Context, steps target.Steps) ([]string, error) {
	if w, ok := j.Target.(target.Whole); ok {
		return w.CheckAll(ctx, steps)
	}
	return j.Target.Check(ctx, target.All(steps))
}

// checkColumns refuses a target that has no column for a field to be written.
func (j *Job) checkColumns(steps []*Step) error {
	has := map[string]bool{}
	for _, f := range j.Target.Fields() {
		has[f] = true
	}
	for _, s := range steps {
		for f := range s.Fields.All() {
			if !has[f.Field] {
				return refuse(MissingColumn, "%s has no column %q", j.where(), f.Field)
			}
		}
		if s.Act == changeset.Add {
			for f := range s.Record.All() {
				if !has[f.Name] && !f.Value.Blank() {
					return refuse(MissingColumn, "%s has no column %q", j.where(), f.Name)
				}
			}
		}
	}
	return nil
}
