// Package judge judges changes before they are written: against the rules of a
// layout, against limits on how many there may be, and by the slips that were
// found among them. It makes codes and findings; what it judges it is given.
package judge

import (
	"cmp"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/words"
)

// Place is where a change was found: a record of the snapshot, by its number, and
// a row of the copy. Either may be None.
type Place struct{ Record, Row uint32 }

// None stands for no record, and for no row.
const None = ^uint32(0)

// Numbers are how many records there are, and how many changes of each act.
type Numbers struct {
	Records            int
	Amend, Add, Delete int
}

// Limits are how many changes are allowed, and who says so: "the layout".
type Limits struct {
	*layout.Limits
	Whose string
	What  string // would change so many: "the copies"; "" is the copy
}

// Over returns the acts of which there are more than the limits allow, with a
// finding each. Acts that are not allowed at all are passed over.
func (l *Limits) Over(n Numbers, allowed func(changeset.Act) bool) (over []changeset.Act, findings []changeset.Finding) {
	for _, x := range []struct {
		act   changeset.Act
		limit *layout.Limit
		n     int
	}{{changeset.Amend, &l.Amend, n.Amend}, {changeset.Add, &l.Add, n.Add}, {changeset.Delete, &l.Delete, n.Delete}} {
		if !allowed(x.act) || !x.limit.Over(x.n, n.Records) {
			continue
		}
		f := changeset.OverLimit.Finding("%s would %s %s, and %s allows %s; they are held", cmp.Or(l.What, "the copy"), x.act, words.Count(x.n, "record"), l.Whose, x.limit.Text)
		f.Count = x.n
		over, findings = append(over, x.act), append(findings, f)
	}
	return over, findings
}
