package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

// This file writes what belongs together, of sets that live in one database, in one transaction: then nobody
// ever sees a part of it, and nothing has to be taken back.

// jointBatch is about how many steps are written in one transaction.
const jointBatch = 500

// joint writes the clusters whose sets are all in one database. What waits for others, or for a key that is still
// to be given, is left to the phases.
func (g *Group) joint(ctx context.Context) error {
	of := map[string][]*cluster{}
	var bases []string
	for _, c := range g.touched {
		base := g.database(c)
		if base == "" {
			continue
		}
		if of[base] == nil {
			bases = append(bases, base)
		}
		of[base] = append(of[base], c)
	}
	for _, base := range bases {
		var batch []*cluster
		n := 0
		for i, c := range of[base] {
			batch, n = append(batch, c), n+len(c.steps)
			if n < jointBatch && i < len(of[base])-1 {
				continue
			}
			if err := g.jointBatch(ctx, batch); err != nil {
				return err
			}
			batch, n = nil, 0
		}
	}
	return nil
}

// database is the database that all of a cluster is in, if it can be written there as a whole now; else "".
func (g *Group) database(c *cluster) (base string) {
	if c.torn || !c.apart() {
		return ""
	}
	for _, p := range c.steps {
		j, ok := p.m.Target.(target.Joint)
		if !ok || p.m.record == nil || p.s.Outcome != "" || p.s.Act == changeset.Add && schema.IsNew(p.s.Key) || base != "" && j.Database() != base {
			return ""
		}
		base = j.Database()
		if p.s.Act == changeset.Delete && slices.ContainsFunc(g.leaving(p.m, p.s), func(o owned) bool { return g.of[o.s] != c && o.s.Outcome != Done }) {
			return ""
		}
	}
	return base
}

// jointPart is steps of a member that are written at one time.
type jointPart struct {
	m     *member
	steps []*Step
	will  []*Step
}

// jointParts puts the steps of clusters into the order of the phases.
func (g *Group) jointParts(all []*cluster) (parts []*jointPart) {
	g.inOrder(func(m *member, act changeset.Act) {
		p := &jointPart{m: m}
		for _, c := range all {
			for _, o := range c.steps {
				if o.m == m && o.s.Act == act {
					p.steps = append(p.steps, o.s)
				}
			}
		}
		if len(p.steps) > 0 {
			parts = append(parts, p)
		}
	})
	return parts
}

// jointBatch writes clusters in one transaction: what becomes of them is promised in the journal of each set.
func (g *Group) jointBatch(ctx context.Context, all []*cluster) error {
	parts := g.jointParts(all)
	link := map[*Step]string{}
	for i, c := range all {
		for _, o := range c.steps {
			link[o.s] = fmt.Sprint("cluster ", i)
		}
	}
	var sent []target.Part
	of := map[*member][]*jointPart{}
	for _, p := range parts {
		if of[p.m] == nil {
			p.m.record.batch++
		}
		of[p.m] = append(of[p.m], p)
		steps := target.All(p.m.forTarget(p.steps, p.m.before))
		for i, s := range p.steps {
			steps[i].Linked = link[s]
		}
		sent = append(sent, target.Part{Target: p.m.Target.(target.Committer), Steps: steps})
	}
	lead := parts[0].m
	lead.Progress("writing", 0, 0)
	results, err := lead.Target.(target.Joint).CommitJoint(ctx, sent, func(ticket json.RawMessage, results [][]target.Result) error {
		for k, p := range parts {
			p.will = make([]*Step, len(p.steps))
			for i, s := range p.steps {
				p.will[i] = s.copied()
				p.will[i].became(&results[k][i], p.m.Job)
			}
		}
		return g.each(of, func(m *member, parts []*jointPart) error {
			m.record.tickets = append(m.record.tickets, ticket)
			return m.jr.append(promised(m.record.batch, stepsOf(parts, func(p *jointPart) []*Step { return p.will }), ticket))
		})
	})
	if errors.As(err, new(*target.Unwritten)) && ctx.Err() == nil {
		return nil // set by set it shows which of them is the cause
	}
	if err != nil {
		return g.named(lead, err)
	}
	for _, c := range all {
		c.torn = true // it has its outcomes
	}
	has := func(f target.Fate) bool {
		return slices.ContainsFunc(results, func(r []target.Result) bool {
			return slices.ContainsFunc(r, func(r target.Result) bool { return r.Fate == f })
		})
	}
	if !has(target.Done) || has(target.Unknown) { // what may have been promised is void
		for k, p := range parts {
			for i, s := range p.steps {
				s.became(&results[k][i], p.m.Job)
			}
		}
		err := g.each(of, func(m *member, parts []*jointPart) error {
			return m.jr.append(outcomes(m.record.batch, stepsOf(parts, func(p *jointPart) []*Step { return p.steps }), nil))
		})
		if err == nil && has(target.Unknown) {
			err = fmt.Errorf("%s: %w", lead.Dossier.Set().Name, ErrUnknown)
		}
		return err
	}
	for _, p := range parts {
		for i, s := range p.steps {
			*s = *p.will[i]
		}
	}
	return g.each(of, func(m *member, _ []*jointPart) error { return m.jr.append(committed(m.record.batch)) })
}

// each goes through members in the group's order.
func (g *Group) each(of map[*member][]*jointPart, do func(m *member, parts []*jointPart) error) error {
	for _, m := range g.members {
		if parts := of[m]; parts != nil {
			if err := do(m, parts); err != nil {
				return g.named(m, err)
			}
		}
	}
	return nil
}

func stepsOf(parts []*jointPart, of func(*jointPart) []*Step) (all []*Step) {
	for _, p := range parts {
		all = append(all, of(p)...)
	}
	return all
}
