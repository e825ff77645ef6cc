package run

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/internal/target"
)

// carryOut writes the steps batch by batch and ends the run.
func (j *Job) carryOut(ctx context.Context, r *Record, rep *Report, write []*Step) (*Report, error) {
	rep.Run = r.Head.Run
	rep.Backup = filepath.Join(r.Dir, r.Head.Backup)
	if h, ok := j.Target.(target.Loader); ok {
		h.Run(r.Head.Run)
	}
	jr := r.journal(j.Dossier)
	before, err := formerly(j.Dossier)
	if err != nil {
		return nil, err
	}
	err = j.inBatches(ctx, jr, r, rep, write, before)
	before.Close()
	if err != nil {
		return nil, err
	}
	rep, err = j.end(ctx, jr, r, rep)
	if err != nil {
		err = &Broken{Run: r.Head.Run, Done: r.Counts().Done, Of: len(r.Steps), Written: true, Err: err}
	}
	return rep, err
}

// inBatches writes the steps: those that name new records by the keys that they get
// after these.
func (j *Job) inBatches(ctx context.Context, jr *journal, r *Record, rep *Report, write []*Step, before *formers) error {
	keys, err := knownKeys(j.Dossier, r.Head.At())
	if err != nil {
		return err
	}
	parts, never := [][]*Step{write}, []*Step(nil)
	if j.newRecords != nil {
		parts, never = inTurn(write, keys, j.newRecords)
	}
	from := 0
	for _, part := range parts {
		ready, lacking := named(part, keys, j.newRecords)
		never = append(never, lacking...)
		groups, err := j.batches(ctx, ready)
		if err != nil {
			return r.broken(err, nil)
		}
		for _, b := range groups {
			all := len(b)
			if b = slices.DeleteFunc(b, func(s *Step) bool { return s.Outcome != "" }); len(b) == 0 {
				from += all // what they belong to was not written
				continue
			}
			if from > 0 {
				if err := target.Sleep(ctx, j.Options.Pause); err != nil {
					return r.broken(err, nil)
				}
			}
			j.Progress("writing", from, len(write))
			r.batch++
			if err := j.oneBatch(ctx, jr, r, b, before); err != nil {
				return err
			}
			for _, s := range b {
				if went := s.wentBy(); went != "" && keys != nil {
					keys[went] = s.Key.String()
				}
			}
			from += all
			if j.batched != nil {
				if err := j.batched(b); err != nil {
					return err
				}
			}
			if j.Options.StopAfter.reached(r.Counts().Refused, len(r.Steps)) {
				rep.Stopped = from < len(write)
				return nil
			}
		}
	}
	return j.refuseLacking(jr, r, never)
}

// oneBatch carries out a batch, or says how far the run had come.
func (j *Job) oneBatch(ctx context.Context, jr *journal, r *Record, part []*Step, before *formers) error {
	err := j.batch(ctx, jr, r, part, before)
	switch {
	case err == nil, errors.As(err, new(*Broken)):
		return err
	case errors.Is(err, target.ErrMoved):
		return r.broken(errors.Join(err, j.abandon(jr, r)), nil)
	case errors.As(err, new(*target.Unwritten)):
		part = nil
	}
	return r.broken(err, part)
}

// broken says how far a run had come when it failed, with a batch open or none.
func (r *Record) broken(err error, open []*Step) error {
	b := &Broken{Run: r.Head.Run, Done: r.Counts().Done, Of: len(r.Steps), Err: err}
	for _, s := range open {
		if s.Outcome == "" {
			b.Unknown++
		}
	}
	return b
}

// batches parts steps into batches, each of what is in one place.
func (j *Job) batches(ctx context.Context, steps []*Step) (all [][]*Step, err error) {
	places, err := j.byPlace(ctx, steps)
	for _, some := range places {
		all = append(all, batches(some, j.batchSize())...)
	}
	return all, err
}

// byPlace parts steps by the places where their target has the records; in each the order stays.
func (j *Job) byPlace(ctx context.Context, steps []*Step) ([][]*Step, error) {
	d, ok := j.Target.(target.Divided)
	if !ok || len(steps) == 0 {
		return [][]*Step{steps}, nil
	}
	keys := make([]record.Key, len(steps))
	for i, s := range steps {
		keys[i] = s.Key
	}
	at, err := d.Divide(ctx, keys)
	if err != nil || at == nil {
		return [][]*Step{steps}, err
	}
	places := make([][]*Step, slices.Max(at)+2) // the first is of those that have none
	for i, s := range steps {
		places[at[i]+1] = append(places[at[i]+1], s)
	}
	return slices.DeleteFunc(places, func(p []*Step) bool { return len(p) == 0 }), nil
}

// batchSize returns how many steps make a batch; 0 is all of them.
func (j *Job) batchSize() int {
	n := j.Target.Traits().Batch
	if most := j.Options.Batch; most > 0 && (n == 0 || most < n) {
		n = most
	}
	return n
}

// batch carries out one batch: intent, write, read back, outcomes. Of a transaction what is
// promised is the intent.
func (j *Job) batch(ctx context.Context, jr *journal, r *Record, part []*Step, before *formers) error {
	sent := j.forTarget(part, before)
	if c, ok := j.Target.(target.Committer); ok {
		return j.commit(ctx, c, jr, r, part, target.All(sent))
	}
	if q, ok := j.Target.(target.Requester); ok {
		return j.request(ctx, q, jr, r, part, target.All(sent))
	}
	if err := jr.appendAll(r.batch, "intend", part, (*Step).intent); err != nil {
		return err
	}
	results, err := j.send(ctx, sent)
	if err != nil {
		return err
	}
	if h, ok := j.Target.(target.Loader); ok {
		for _, s := range part {
			s.Outcome, s.When = Unknown, momentOf(j.Now())
		}
		return jr.append(outcomes(r.batch, part, h))
	}
	if err := j.readBack(ctx, part, results); err != nil {
		return err
	}
	return jr.appendAll(r.batch, "outcomes", part, (*Step).outcome)
}

// send has the target write steps.
func (j *Job) send(ctx context.Context, steps target.Steps) ([]target.Result, error) {
	if w, ok := j.Target.(target.Whole); ok {
		return w.WriteAll(ctx, steps)
	}
	var all []target.Step
	if err := table.Guard(func() error { all = target.All(steps); return nil }); err != nil { // how they looked is read of a file
		return nil, &target.Unwritten{Err: err}
	}
	results, err := j.Target.Write(ctx, all)
	if err == nil {
		target.Doubted(all, results)
	}
	return results, err
}

// readsBack reports whether the target reads back what it writes, and says of each step what became of it, also when it is asked later.
func (j *Job) readsBack() bool {
	switch j.Target.(type) {
	case target.Committer, target.Requester:
		return true
	}
	return false
}

// readBack gives the steps of a batch their outcomes, and notes where the
// target made something else of a value.
func (j *Job) readBack(ctx context.Context, part []*Step, results []target.Result) error {
	if err := j.Target.Refresh(ctx); err != nil {
		return err
	}
	for i := range results {
		part[i].given(results[i].Key)
	}
	if r, ok := j.Target.(target.Refiller); ok {
		defer r.LetGo() // after the last batch nobody asks again
	}
	i := 0
	return j.eachState(ctx, part, func(s *Step, now *target.State) error {
		done := new(target.Result)
		if results != nil {
			done = &results[i]
		}
		if s.ends(done, j.Now()) {
			s.noteRead(now)
		}
		i++
		return nil
	})
}

// ends gives the step its outcome, and reports whether it was done.
func (s *Step) ends(r *target.Result, when time.Time) bool {
	s.When = momentOf(when)
	switch r.Fate {
	case target.Refused:
		s.Outcome, s.Reason = Refused, r.Reason
	case target.Moved:
		s.Outcome, s.Reason = Conflict, r.Reason
	case target.Unknown:
		s.Outcome, s.Reason = Unknown, r.Reason
	default:
		s.Outcome = Done
	}
	return s.Outcome == Done
}

// noteRead keeps what was read back where it is not what was written.
func (s *Step) noteRead(now *target.State) {
	if s.rare != nil {
		s.rare.Read = nil
	}
	if now.Count == 0 || s.Act == changeset.Delete {
		return
	}
	if s.Act == changeset.Amend && s.asWritten(now) {
		return
	}
	var wanted record.Record
	if s.Act == changeset.Amend {
		wanted = values(s.Fields)
	} else {
		wanted = s.Record.Record()
	}
	if s.Act == changeset.Add {
		for _, u := range schema.Filled(wanted, now.Record, nil, nil) {
			s.keep().Read.Set(u.Field, u.Real) // the target completed the record
		}
	}
	get := wanted.Finder()
	for _, f := range now.Record {
		if w, asked := get(f.Name); asked && w != f.Value {
			s.keep().Read.Set(f.Name, f.Value)
		}
	}
}

// asWritten reports whether a record has what was written to it.
func (s *Step) asWritten(now *target.State) bool {
	for f := range s.Fields.All() {
		if v, there := now.Record.Get(f.Field); there && v != f.To {
			return false
		}
	}
	return true
}

// abandon ends a run of which it is known that the open batch was not
// written: its steps were not attempted.
func (j *Job) abandon(jr *journal, r *Record) error {
	for _, s := range r.Steps {
		if s.Outcome == "" {
			s.Outcome, s.Reason, s.When = Skipped, "the target changed after it was read", momentOf(j.Now())
		}
	}
	if err := jr.appendAll(r.batch, "outcomes", r.Steps, (*Step).outcome); err != nil {
		return err
	}
	return j.close(jr, r, "stopped")
}

// end writes outcome.csv and the proof, and closes the journal.
func (j *Job) end(ctx context.Context, jr *journal, r *Record, rep *Report) (*Report, error) {
	how := "complete"
	if rep.Stopped {
		how = "stopped"
	}
	var skipped []*Step
	for _, s := range r.Steps {
		if s.Outcome == "" {
			s.Outcome, s.Reason, s.When = Skipped, "the run ended after too many refusals", momentOf(j.Now())
			skipped = append(skipped, s)
		}
		rep.partly(s)
	}
	if len(skipped) > 0 {
		if err := jr.append(outcomes(r.batch, skipped, nil)); err != nil {
			return nil, err
		}
	}
	rep.Steps, rep.Attempted, rep.Outcome = r.Counts(), r.Steps, filepath.Join(r.Dir, outcomeName)
	if err := j.close(jr, r, how); err != nil {
		return nil, err
	}
	if c, ok := j.Target.(target.Committer); ok {
		_ = c.Settled(ctx, r.tickets) // a ticket that stays does no harm
	}
	if q, ok := j.Target.(target.Requester); ok {
		rep.Waits, rep.WaitedIn = q.Waited()
	}
	if j.readsBack() {
		if err := j.Target.Refresh(ctx); err != nil {
			return nil, err
		}
	}
	if h, ok := j.Target.(target.Loader); ok {
		rep.Loads = h.Loads()
		return rep, nil // what became of it shows when it has been loaded
	}
	j.Progress("checking", 0, 0)
	keys, err := Looked(j.Dossier, &r.Head)
	if err == nil {
		err = j.narrow(keys)
	}
	if err != nil {
		return nil, err
	}
	img, release, err := j.Target.Table(ctx)
	if err != nil {
		return nil, err
	}
	r.size, r.last = jr.size, jr.last
	rep.Verify, err = verify(ctx, j.Dossier, r, Proof{Fresh: img, Now: j.Now})
	return rep, errors.Join(err, release())
}

// close writes outcome.csv and the journal's last line.
func (j *Job) close(jr *journal, r *Record, how string) error {
	if err := writeOutcome(j.Dossier, filepath.Join(r.Dir, outcomeName), r.Steps); err != nil {
		return err
	}
	r.Ended = how
	return jr.append(ended(how, j.Now()))
}

// resolveAll resolves what the steps of an interrupted run name, as far as it got.
func (j *Job) resolveAll(r *Record, steps []*Step) error {
	keys, err := knownKeys(j.Dossier, r.Head.At())
	if err != nil || len(keys) == 0 {
		return err
	}
	for _, s := range steps {
		s.resolve(keys)
	}
	return nil
}

// finish ends a run that was interrupted, under its own number and with its
// own backup and rollback file. A step whose batch was open is done if the
// target has what it wanted.
func (j *Job) finish(ctx context.Context, r *Record) (*Report, error) {
	said := j.Options
	defer func() { j.Options = said }()
	rep, write, err := j.resume(ctx, r)
	if err != nil {
		return nil, err
	}
	return j.carryOut(ctx, r, rep, write)
}

// resume finds out how far a run came, and what is still to be written of it; the options are
// those that it began with.
func (j *Job) resume(ctx context.Context, r *Record) (*Report, []*Step, error) {
	if c, ok := j.Target.(target.Committer); ok {
		if err := c.Prepare(ctx); err != nil {
			return nil, nil, err
		}
	}
	rep := &Report{Target: j.Target.Name(), Resumed: true}
	_, rep.Handed = j.Target.(target.Loader)
	j.Options.System, j.Options.Touched = r.Head.System, r.Head.Touched
	if err := j.narrowTo(r.Steps); err != nil {
		return nil, nil, err
	}
	if err := j.askFate(ctx, r); err != nil {
		return nil, nil, err
	}
	if err := j.resolveAll(r, undecided(r.Steps)); err != nil {
		return nil, nil, err
	}
	if err := j.askAgain(ctx, r); err != nil {
		return nil, nil, err
	}
	rest := undecided(r.Steps)
	states, err := j.Target.Current(ctx, keys(rest))
	if err != nil {
		return nil, nil, err
	}
	var write, known []*Step
	tells := j.readsBack()
	_, hands := j.Target.(target.Loader) // what was not handed over yet is in nobody's hands
	for i, s := range rest {
		if states[i].Count > 1 {
			return nil, nil, refuse(TwiceThere, "%s stands %d times in %s", s.Key, states[i].Count, j.Target.Name())
		}
		if !tells && !hands && r.open[s.ID] && s.Act == changeset.Add && j.schema.Assigned() && schema.IsNew(s.Key) {
			// Whether it was added nobody can tell: its key is not known.
			s.Outcome, s.Reason, s.When = Unknown, "the run was interrupted while it was added; look whether the target has it before it is done --again", momentOf(j.Now())
			known = append(known, s)
			continue
		}
		if (!tells || r.lost[s.ID]) && r.open[s.ID] && s.stands(j.schema, j.Options.System, &states[i]) {
			s.Outcome, s.Reason, s.When = Done, "confirmed after an interruption", momentOf(j.Now())
			s.noteRead(&states[i])
			known = append(known, s)
			continue
		}
		v := j.judge(s, &states[i])
		if v.Outcome == "" { // what is written and what is undone stands in the rollback file
			write = append(write, s)
			continue
		}
		s.Ending = v.Ending
		s.When = momentOf(j.Now())
		known = append(known, s)
	}
	for i, s := range rest {
		j.checkLayout(s, &states[i])
	}
	if _, err := j.check(ctx, rest, 0); err != nil { // what was asked for may be another form than before
		return nil, nil, err
	}
	write = slices.DeleteFunc(write, func(s *Step) bool {
		if s.Outcome != "" {
			s.When = momentOf(j.Now())
			known = append(known, s)
		}
		return s.Outcome != ""
	})
	if len(known) > 0 {
		line, err := outcomes(r.batch, known, nil)
		if err := r.append(j.Dossier, line, err); err != nil {
			return nil, nil, err
		}
	}
	return rep, write, nil
}
