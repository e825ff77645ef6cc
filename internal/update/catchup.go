package update

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"paletwin/core/catchup"
	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/run"
)

// CatchUp lays the changes of a dossier on newer records, those of a comparison's snapshot.
// A dossier that has not run is compared anew, and keeps its decisions on what is equal; else
// a new one is made that names the old.
func (o *Office) CatchUp(ctx context.Context, t *desk.Dossier, c *desk.Comparison) (*desk.Dossier, *compare.Result, error) {
	if t.Meta.Undoes != nil || t.Meta.Snapshot == nil {
		return nil, nil, &Misuse{NotCompared, []any{t.Meta.Number}}
	}
	lock, err := t.Lock()
	if err != nil {
		return nil, nil, err
	}
	defer lock.Unlock()
	runs, err := run.Runs(t)
	if err != nil {
		return nil, nil, err
	}
	if len(runs) == 0 {
		c.Into = t
	} else if c.Title == "" {
		c.Title = t.Meta.Title
	}
	in, findings, err := o.work(t)
	if err != nil {
		return nil, nil, err
	}
	old, err := t.OpenInput(t.Meta.Snapshot)
	if err != nil {
		return nil, nil, err
	}
	defer old.Close()
	in.Old = old.Image
	c.CatchesUp = t.Meta.Number
	c.Edited = &desk.Source{Name: "the changes of " + t.Meta.Number}
	c.Options.RecordSet, c.Options.Key = in.Set, in.Key
	c.Options.Missing, c.Options.AllMissing, c.Options.Blank, c.Options.Slips = compare.Asked, true, compare.Clear, compare.SlipsOff
	others := c.Options.OtherRegister
	c.Options.Allow, c.Options.Wear, c.Options.OtherRegister = nil, false, true
	var laid *catchup.Laid
	c.Options.Judge = func(ch *changeset.Change) { laid.Hold(ch) }
	c.Derive = func(ctx context.Context, fresh *table.Image, w io.Writer) ([]changeset.Finding, error) {
		in.Fresh, in.Others = fresh, others
		var err error
		if laid, err = catchup.Lay(ctx, in, w); err != nil {
			return nil, err
		}
		return append(laid.Findings, findings...), nil
	}
	made, res, err := t.Desk().Compare(ctx, c)
	return made, res, laying(err)
}

// laying says why changes cannot be laid on newer records.
func laying(err error) error {
	if lacks := new(catchup.MissingField); errors.As(err, &lacks) {
		return &run.Refusal{Code: run.MissingColumn, Text: lacks.Error()}
	}
	if few := new(catchup.FewKnown); errors.As(err, &few) {
		return &run.Refusal{Code: run.OtherRecords, Text: few.Error()}
	}
	return err
}

// work reads what a dossier changes, and the findings that hold any of it.
func (o *Office) work(t *desk.Dossier) (*catchup.Input, []changeset.Finding, error) {
	in := &catchup.Input{Set: t.Set().Name, Key: t.Set().Key}
	var err error
	if in.Of, err = t.Schema(); err != nil {
		return nil, nil, err
	}
	if in.System = in.Of.System(); t.Meta.Options != nil && len(t.Meta.Options.System) > 0 {
		in.System = t.Meta.Options.System
	}
	if in.Of.Assigned() {
		if in.Added, in.Keys, err = run.Added(t); err != nil {
			return nil, nil, err
		}
	}
	c, err := t.Changes()
	if err != nil {
		return nil, nil, err
	}
	defer c.Close()
	goes, err := chosen(c)
	if err != nil {
		return nil, nil, err
	}
	var findings []changeset.Finding
	held := map[string]bool{}
	for line := range c.Lines() {
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, nil, fmt.Errorf("dossier %s: %w", t.Meta.Number, err)
		}
		if other, against := ch.Against(c.Header.RecordSet); against {
			switch amend := ch.Act == changeset.Amend; {
			case amend && goes[other], !amend && !goes[ch.ID]:
				continue
			case amend:
				f := changeset.CopiesDisagree.Finding("%s is changed %s; only what is changed is laid on the newer records", ch.Key, ch.In(ch.Fields[0].Field))
				f.Scope, f.Key = changeset.OfRecord, ch.Key.String()
				findings = append(findings, f)
			}
		}
		in.Changes = append(in.Changes, ch)
		codes := slices.Concat(ch.Held, ch.Stop)
		for i := range ch.Fields {
			codes = slices.Concat(codes, ch.Fields[i].Held, ch.Fields[i].Stop)
		}
		for _, code := range codes {
			held[code] = true
		}
	}
	all, err := t.Findings()
	for _, f := range all {
		if held[f.Code] && !catchup.Anew(f.Code) {
			findings = append(findings, f)
		}
	}
	return in, findings, err
}

// chosen are the deletes that are approved although another copy amends the record.
func chosen(c *desk.Changes) (map[changeset.ID]bool, error) {
	goes := map[changeset.ID]bool{}
	for line := range c.Lines() {
		if line.Plain() || line.Act() != changeset.Delete {
			continue
		}
		ch, err := line.Change(c.Header.Fields)
		if err != nil {
			return nil, err
		}
		if _, against := ch.Against(c.Header.RecordSet); against {
			goes[ch.ID] = c.Ledger.States(line, ch)[0].Decision == changeset.Approve
		}
	}
	return goes, nil
}
