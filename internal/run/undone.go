package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/internal/target"
)

// ErrUnknown says that it is not known what became of something that others belong to.
var ErrUnknown = errors.New("the target did not answer, and what belongs together waits until it is known what it has")

// after looks what became of a batch. What belongs to a step that was not written is taken back, and
// not written; where it is not known, the runs stop, and go on from there.
func (g *Group) after(ctx context.Context, m *member, batch []*Step) error {
	for _, s := range batch {
		c := g.of[s]
		if c == nil || !c.apart() {
			continue
		}
		if s.Outcome == Unknown {
			return fmt.Errorf("%s %s: %w", m.Dossier.Set().Name, s.Key, ErrUnknown)
		}
	}
	for _, s := range batch {
		if c := g.of[s]; c != nil && c.apart() && !c.torn {
			if err := g.takeBack(ctx, c); err != nil {
				return err
			}
		}
	}
	return nil
}

// mend takes back what an interruption left half-done of what belongs together.
func (g *Group) mend(ctx context.Context) error {
	if g.members[0].hands() {
		return nil
	}
	for _, c := range g.touched {
		if !c.apart() {
			continue
		}
		if err := g.takeBack(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// takeBack undoes what was written of a cluster, if something of it was not, and leaves the rest.
func (g *Group) takeBack(ctx context.Context, c *cluster) error {
	by, failed := c.failed()
	if !failed {
		return nil
	}
	c.torn = true
	var stays *owned // what could not be taken back: what it refers to stays, too
	for _, m := range slices.Backward(g.members) {
		var written, rest []*Step
		for _, p := range c.steps {
			switch {
			case p.m != m || p.s == by.s:
			case p.s.Outcome == Done && m.record != nil && m.record.Ended != "": // its run ended before the others
				stays = &owned{m, p.s}
			case p.s.Outcome == Done && m.record != nil && m.record.Ended == "":
				written = append(written, p.s)
			case p.s.Outcome == "":
				p.s.tornBy(by)
				p.s.When = momentOf(m.Now())
				rest = append(rest, p.s)
			}
		}
		if len(rest) > 0 && m.jr != nil {
			if err := m.jr.append(outcomes(m.record.batch, rest, nil)); err != nil {
				return err
			}
		}
		if len(written) == 0 {
			continue
		}
		if stays != nil {
			if err := m.leave(written, by, *stays); err != nil {
				return err
			}
			continue
		}
		if err := m.undo(ctx, written, by); err != nil {
			return g.named(m, err)
		}
		if i := slices.IndexFunc(written, func(s *Step) bool { return s.Outcome == Done }); i >= 0 {
			stays = &owned{m, written[i]}
		}
	}
	return nil
}

// leave leaves steps as they were written that belong to one which was not, since what refers to them
// could not be taken back.
func (m *member) leave(written []*Step, by, stays owned) error {
	for _, s := range written {
		s.Reason = fmt.Sprintf("it belongs to %s %s, which was not written, and was not taken back, since %s %s stays", by.m.Dossier.Set().Name, by.s.Key, stays.m.Dossier.Set().Name, stays.s.Key)
		s.When = momentOf(m.Now())
	}
	return m.jr.append(outcomes(m.record.batch, written, nil))
}

// undo takes steps back that were written, if the target still has what they wrote.
func (m *member) undo(ctx context.Context, written []*Step, by owned) error {
	if err := m.jr.append(undoing(written)); err != nil {
		return err
	}
	back := make([]*Step, len(written))
	for i, s := range written {
		back[i] = s.inverse(m.Dossier.Set().Name)
	}
	if err := m.Target.Refresh(ctx); err != nil {
		return err
	}
	states, err := m.Target.Current(ctx, keys(back))
	if err != nil {
		return err
	}
	var write []*Step
	for i, b := range back {
		as := b.former // it comes back as it was
		b.take(m.judge(b, &states[i]))
		if b.former = as; b.Outcome == "" {
			write = append(write, b)
		}
	}
	if err := m.writeBack(ctx, write); err != nil {
		return err
	}
	for i, s := range written {
		b := back[i]
		s.When = momentOf(m.Now())
		switch b.Outcome {
		case Done, Settled:
			s.Outcome = Undone
			s.Reason = fmt.Sprintf("it was written, and taken back: it belongs to %s %s, which was not written: %s", by.m.Dossier.Set().Name, by.s.Key, by.s.Reason)
			if s.rare != nil {
				s.rare.Read, s.rare.Along = nil, nil
			}
		case Unknown:
			return fmt.Errorf("%s, which is taken back: %w", s.Key, ErrUnknown)
		default: // it stays done
			s.Reason = fmt.Sprintf("it belongs to %s %s, which was not written, and could not be taken back: %s", by.m.Dossier.Set().Name, by.s.Key, b.Reason)
		}
	}
	return m.jr.append(outcomes(m.record.batch, written, nil))
}

// inverse is the step that undoes another one.
func (s *Step) inverse(set string) *Step {
	c := &changeset.Change{Act: s.Act.Inverse(), Key: s.Key, Linked: s.Linked()}
	s.undo(c, s.Fields)
	b := &Step{ID: changeset.MakeID(set, c.Key, c.Act), Act: c.Act, Key: c.Key, Fields: changeset.Pack(changeset.Edits(c.Fields)), Record: c.Record.Pack(), former: new(former)}
	if c.Linked != "" {
		b.aside().linked = c.Linked
	}
	if s.Act != changeset.Add {
		if s.former != nil {
			*b.former = *s.former
		}
		b.former.along = s.Rare().Along
	}
	return b
}

// writeBack writes steps that undo others, and gives them their outcomes.
func (m *member) writeBack(ctx context.Context, back []*Step) error {
	places, err := m.byPlace(ctx, back)
	if err != nil {
		return err
	}
	for _, some := range places {
		if err := m.writeBackAt(ctx, some); err != nil {
			return err
		}
	}
	return nil
}

// writeBackAt is writeBack of what is in one place.
func (m *member) writeBackAt(ctx context.Context, back []*Step) error {
	if len(back) == 0 {
		return nil
	}
	sent := make([]target.Step, len(back))
	for i, b := range back {
		sent[i] = b.forTarget(*b.former, nil)
	}
	var results []target.Result
	var err error
	if c, ok := m.Target.(target.Committer); ok {
		// What it has tells whether it was done: before and after differ.
		results, err = c.Commit(ctx, sent, func(ticket json.RawMessage, _ []target.Result) error {
			m.record.tickets = append(m.record.tickets, ticket)
			return nil
		})
	} else {
		results, err = m.Target.Write(ctx, sent)
	}
	if err != nil {
		return err
	}
	target.Doubted(sent, results)
	for i, b := range back {
		b.ends(&results[i], m.Now())
	}
	return m.Target.Refresh(ctx)
}
