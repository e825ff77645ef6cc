package changeset

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/words"
)

// greater lists the codes from which others follow, the greatest first: columns that are
// exchanged have values that neither may have, and whoever settles the exchange settles those.
var greater = []string{WrongFile.Name, KeyShifted.Name, KeyEdited.Name, ColumnMoved.Name, ColumnSwap.Name, RowShift.Name, LoneSort.Name, MassClear.Name,
	SameEverywhere.Name, FillSeries.Name, FillOverrun.Name, FormulaLeft.Name, Strange.Name, Factor.Name, TotalRow.Name, NoteRow.Name}

// causeOf is the code of which a unit of a change bears the greatest, and from which the others
// follow; "" is none.
func causeOf(codes ...[]string) string {
	for _, g := range greater {
		for _, some := range codes {
			if slices.Contains(some, g) {
				return g
			}
		}
	}
	return ""
}

// Following counts which codes of a field follow from a greater one. The zero Following has
// counted nothing.
type Following struct {
	units map[cause]int            // field changes that bear a code, by column
	of    map[cause]map[string]int // how many of them bear a greater one, too
}

// Count counts a change's codes.
func (l *Following) Count(ch *Change) {
	for i := range ch.Fields {
		f := &ch.Fields[i]
		if len(f.Held)+len(f.Stop)+len(f.Noted) == 0 {
			continue
		}
		g := causeOf(ch.Held, f.Held, f.Noted)
		for _, codes := range [][]string{f.Held, f.Stop} {
			for _, code := range codes {
				l.count(cause{code, f.Field}, g, 1)
			}
		}
	}
}

func (l *Following) count(c cause, g string, n int) {
	if l.units == nil {
		l.units, l.of = map[cause]int{}, map[cause]map[string]int{}
	}
	l.units[c] += n
	if g == "" || g == c.code {
		return
	}
	if l.of[c] == nil {
		l.of[c] = map[string]int{}
	}
	l.of[c][g] += n
}

// Merge takes in what another counted.
func (l *Following) Merge(o *Following) {
	for c, n := range o.units {
		l.count(c, "", n)
	}
	for c, of := range o.of {
		for g, n := range of {
			l.count(c, g, n)
			l.units[c] -= n
		}
	}
}

// Tell says on findings how many of what they count follow from a greater one: Cause and Caused.
func (l *Following) Tell(all []Finding) {
	said := map[string]bool{}
	for i := range all {
		said[all[i].Code] = true
	}
	for c, of := range l.of {
		best, whole := "", 0
		for _, g := range greater {
			if n := of[g]; said[g] && n > of[best] {
				best = g
			}
			whole += of[g]
		}
		if best == "" {
			continue
		}
		left := of[best]
		if whole == l.units[c] {
			left = int(^uint(0) >> 1)
		}
		for i := range all {
			f := &all[i]
			if f.Code != c.code || f.Column != c.column || left <= 0 {
				continue
			}
			f.Cause, f.Caused = best, min(f.Count, left)
			left -= f.Caused
		}
	}
}

// losing are the codes of what may be lost without having been meant; they are said first.
var losing = []string{Missing.Name, MissingMany.Name, MassClear.Name, Blanked.Name, StillReferred.Name, LentLost.Name, WrongFile.Name, Repeat.Name, GoneSince.Name}

// taken are the codes of what is held only to be looked at, and mostly is meant and loses nothing. Of other codes the decision that
// is named first is the one that leaves everything as it is.
var taken = []string{OverLimit.Name, LimitMove.Name, Strange.Name, KeyEdited.Name, KeyEvidence.Name}

// idle are the codes of warn and stop that no decision settles: nothing is proposed there, or one has to be told more.
var idle = []string{NotAllowed.Name, ColumnExtra.Name, LentOther.Name, OtherRegist.Name, ReadOnly.Name, OnCreation.Name, Unchecked.Name, FillGap.Name, DeriveFailed.Name, DeriveNone.Name, SelectedUnknown.Name,
	KeyBlank.Name, Repeat.Name, ShortRow.Name, LongRow.Name, ListedUnknown.Name, KeyLost.Name, ListedField.Name, ListedTwice.Name, KeepUnknown.Name, CopiesDisagree.Name, CopiesRekey.Name, SourceColumn.Name}

// MostExamples is how many examples a group of findings has.
const MostExamples = 3

// Group is what findings of one code on one column say together. Its own text is that of all of them,
// its rows are the first, its count that of all.
type Group struct {
	Finding
	Examples []string  `json:"examples,omitempty"` // of several findings the first texts
	Settle   string    `json:"settle,omitempty"`   // the decision that settles them, approve or reject, of which the other does, too, but for stops; "" is none
	Of       []Finding `json:"-"`                  // the findings
	Follow   []Group   `json:"-"`                  // groups all of which follow from this one
}

// FollowCount is how many cells, or records, follow.
func (g *Group) FollowCount() (n int) {
	for i := range g.Follow {
		n += g.Follow[i].Count
	}
	return n
}

// Groups groups findings by code, column and file. Those that follow from a greater one stand below it.
// First is what may be lost, then what cannot be used, what waits, and what is worth a look; what
// concerns more comes before what concerns less.
func Groups(all []Finding) []Group {
	type place struct {
		cause
		level Level
		file  string
	}
	at := map[place]int{}
	var groups []Group
	for i := range all {
		f := &all[i]
		p := place{cause{f.Code, f.Column}, f.Level, f.File}
		n, there := at[p]
		if !there {
			n, at[p] = len(groups), len(groups)
			groups = append(groups, Group{Finding: *f, Settle: settles(f)})
			groups[n].Count, groups[n].Caused, groups[n].Rows = 0, 0, slices.Clone(f.Rows)
		}
		groups[n].take(f)
	}
	for i := range groups {
		groups[i].tell()
	}
	groups = under(groups)
	slices.SortStableFunc(groups, func(a, b Group) int {
		if n := a.rank() - b.rank(); n != 0 || a.rank() == 3 {
			return n
		}
		return cmp.Compare(b.Count+b.FollowCount(), a.Count+a.FollowCount())
	})
	return groups
}

// under puts groups below those that they follow from.
func under(groups []Group) []Group {
	var left []Group
	home := func(g *Group) int {
		found := -1
		for i := range left {
			if h := &left[i]; h.Code == g.Cause && (found < 0 || h.Column == g.Column) {
				found = i
			}
		}
		return found
	}
	follows := func(g *Group) bool { return g.Cause != "" && g.Caused >= g.Count }
	for i := range groups {
		if !follows(&groups[i]) {
			left = append(left, groups[i])
		}
	}
	for i := range groups {
		if g := &groups[i]; !follows(g) {
			continue
		} else if n := home(g); n >= 0 {
			left[n].Follow = append(left[n].Follow, *g)
		} else {
			left = append(left, *g)
		}
	}
	return left
}

// settles is the decision that settles a finding.
func settles(f *Finding) string {
	switch {
	case f.Level == Note || slices.Contains(idle, f.Code):
		return ""
	case slices.Contains(taken, f.Code):
		return "approve"
	}
	return "reject"
}

func (g *Group) take(f *Finding) {
	g.Of = append(g.Of, *f)
	g.Count += max(1, f.Count)
	g.Caused += f.Caused
	if len(g.Of) == 1 {
		return
	}
	for _, r := range append(slices.Clone(f.Rows), f.Row) {
		if len(g.Rows) == 0 && g.Row > 0 {
			g.Rows = []int{g.Row}
		}
		if r > 0 && len(g.Rows) < MaxRows && !slices.Contains(g.Rows, r) {
			g.Rows = append(g.Rows, r)
		}
	}
	slices.Sort(g.Rows)
}

// Spreads reports whether what a group concerns may be in other columns than its own, too.
func (g *Group) Spreads() bool { return slices.Contains(greater, g.Code) }

// rank is in which order groups are told.
func (g *Group) rank() int {
	switch {
	case slices.Contains(losing, g.Code):
		return 0
	case g.Level == Stop:
		return 1
	case g.Level == Warn:
		return 2
	}
	return 3
}

// tell makes one text of those of the findings: the first, what is the same of others with other values, and
// how many there are.
func (g *Group) tell() {
	unit := "cell"
	if g.Scope != OfField {
		unit = "record"
	}
	if len(g.Of) == 1 {
		if n := fmt.Sprint(g.Count); g.Count > 1 && g.Scope == OfField && !strings.Contains(g.Text, n) {
			g.Text = words.Count(g.Count, unit) + ": " + g.Text
		}
		return
	}
	g.Key = ""
	for i := range g.Of[:min(len(g.Of), MostExamples)] {
		g.Examples = append(g.Examples, g.Of[i].Text)
	}
	_, rest, quoted := cutQuoted(g.Of[0].Text)
	text, more := g.Of[0].Text, []string{}
	for i := range g.Of[1:] {
		if len(more) == MostExamples-1 {
			break
		}
		t := g.Of[i+1].Text
		if v, r, ok := cutQuoted(t); ok && quoted && r == rest {
			t = v
		}
		more = append(more, t)
	}
	if left := len(g.Of) - 1 - len(more); left > 0 {
		more = append(more, fmt.Sprintf("%d more", left))
	}
	g.Text = fmt.Sprintf("%s: %s; also %s", words.Count(g.Count, unit), text, strings.Join(more, ", "))
}

// cutQuoted cuts a text that begins with a quoted value behind it.
func cutQuoted(s string) (value, rest string, ok bool) {
	if !strings.HasPrefix(s, `"`) {
		return "", s, false
	}
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			return s[:i+1], s[i+1:], true
		}
	}
	return "", s, false
}
