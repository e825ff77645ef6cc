package compare

import (
	"context"

	"paletwin/core/changeset"
	"paletwin/core/judge"
	"paletwin/core/layout"
)

// judgement is what is known of the changes as a whole, before the first is
// written: limits that they go over, and slips.
type judgement struct {
	*drafter
	over  [changeset.Delete + 1]bool // acts that are held, since they go over a limit
	slips judge.Marks
	// referrers are who refers to the records, where some are to be deleted.
	referrers []Referrer
	kept      []*batch // the drafts, nil where they have to be made again

	sampledAt []uint32 // the records of the sample, as it has them
}

// judge judges the changes.
func (dr *drafter) judge(ctx context.Context) (*judgement, error) {
	jd := &judgement{drafter: dr}
	if err := jd.judgeLimits(ctx); err != nil {
		return nil, err
	}
	if err := jd.judgeReferrers(ctx); err != nil {
		return nil, err
	}
	return jd, jd.judgeSlips(ctx)
}

// mark puts what was judged on a change.
func (jd *judgement) mark(ch *changeset.Change, at judge.Place) {
	if jd.over[ch.Act] {
		ch.Held = append(ch.Held[:len(ch.Held):len(ch.Held)], changeset.OverLimit.Name)
	}
	jd.slips.Mark(ch, at)
}

// judgeLimits decides before the first change is made which acts go over the
// limits, the layout's and the derivation's, and reads the values of unique
// fields.
func (jd *judgement) judgeLimits(ctx context.Context) error {
	if jd.l != nil {
		if err := jd.judgeLimit(ctx, &jd.l.Limits, "the layout"); err != nil {
			return err
		}
	}
	if jd.o.Limits != nil {
		return jd.judgeLimit(ctx, jd.o.Limits, jd.o.LimitsOf)
	}
	return nil
}

func (jd *judgement) judgeLimit(ctx context.Context, l *layout.Limits, whose string) error {
	all := jd.inAll()
	amends := 0
	if jd.copy != nil && l.Amend.Set {
		for i, m := range jd.mate {
			if m >= mateRow && !jd.equal.has(uint32(i)) {
				amends++
			}
		}
		if l.Amend.Over(amends, all) { // more at first sight, so count them
			n, err := jd.countAmends(ctx)
			if err != nil {
				return err
			}
			amends = n
		}
	}
	limits := judge.Limits{Limits: l, Whose: whose}
	over, findings := limits.Over(judge.Numbers{Records: all, Amend: amends, Add: len(jd.adds), Delete: jd.deletes()}, jd.o.allows)
	for _, a := range over {
		jd.over[a] = true
	}
	for _, f := range findings {
		jd.find(f, "", "")
	}
	return nil
}

// countAmends counts the amends of all drafts.
func (dr *drafter) countAmends(ctx context.Context) (n int, err error) {
	err = dr.each(ctx, nil, func(b *batch) error {
		for _, ch := range b.changes {
			if ch.Act == changeset.Amend {
				n++
			}
		}
		return nil
	})
	return n, err
}
