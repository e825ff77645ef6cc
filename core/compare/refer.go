package compare

import (
	"context"
	"fmt"
	"slices"

	"paletwin/core/changeset"
	"paletwin/core/record"
)

// Referrer is a field of other records that names those that are compared.
type Referrer struct {
	Set, Field string
	From       string                    // where the other records were read, for people
	By         string                    // the field of the compared records whose value they name
	Form       func(value string) string // a value as values are counted
	Count      map[string]int            // how many of the other records name a value, by its form
}

// referred is a record that is to be deleted and that others name.
type referred struct {
	key   record.Key
	by    *Referrer
	count int
}

// judgeReferrers asks who refers to the records, where some are to be deleted.
func (jd *judgement) judgeReferrers(ctx context.Context) error {
	if jd.deletes() == 0 {
		return nil
	}
	return jd.askReferrers(ctx)
}

// askReferrers asks who refers to the records.
func (jd *judgement) askReferrers(ctx context.Context) error {
	if jd.o.Referrers == nil {
		return nil
	}
	var findings []changeset.Finding
	var err error
	jd.referrers, findings, err = jd.o.Referrers(ctx)
	for _, f := range findings {
		jd.find(f, f.File, "")
	}
	return err
}

// deletes is how many records may be deleted.
func (p *pairs) deletes() (n int) {
	for _, m := range p.mate {
		if m == mateListed || m == mateNone && p.copy != nil && p.o.Missing != Ignore {
			n++
		}
	}
	return n
}

// refer holds a delete of a record that others name.
func (jd *judgement) refer(ch *changeset.Change, t *tally) {
	if ch.Act != changeset.Delete {
		return
	}
	code := changeset.StillReferred.Name
	for i := range jd.referrers {
		r := &jd.referrers[i]
		v, _ := ch.Record.Get(r.By)
		if n := r.Count[r.Form(v.String())]; n > 0 && !v.Blank() {
			t.referred = append(t.referred, referred{ch.Key, r, n})
			if !slices.Contains(ch.Held, code) {
				ch.Held = append(ch.Held[:len(ch.Held):len(ch.Held)], code)
			}
		}
	}
}

func refers(n int, set string) string {
	if n == 1 {
		return "1 record of " + set + " refers"
	}
	return fmt.Sprintf("%d records of %s refer", n, set)
}

// reportReferred makes findings of the records that others name.
func (wr *writer) reportReferred(all []referred) {
	for _, r := range all {
		f := changeset.StillReferred.Finding("%s is to be deleted, and %s to it (%s)", r.key, refers(r.count, r.by.Set), r.by.Field)
		f.Key, f.Count = r.key.String(), r.count
		wr.find(f, r.by.From, "")
	}
}
