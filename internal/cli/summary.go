package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/words"
	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

// summary is a dossier as its summary shows it.
type summary struct {
	number, title, by string
	when              time.Time
	set               desk.RecordSet
	snapshot, edited  string
	compared          bool // made by comparing two files
}

func summaryOf(t *desk.Dossier) *summary {
	s := &summary{number: t.Meta.Number, title: t.Meta.Title, by: t.Meta.By, when: t.Meta.When, set: *t.Set(),
		snapshot: t.Meta.Snapshot.Name, compared: t.Meta.Undoes == nil}
	s.set.Changes.ByField = s.set.Fields
	if len(t.Meta.Edited) > 0 {
		s.edited = words.List(t.Meta.Edited.Names())
	}
	return s
}

// summary prints what was found: counts that add up, fields, sums, findings.
func (a *app) summary(s *summary, findings []changeset.Finding) {
	p := a.out
	head := screen.Strong(screen.Safe(s.title))
	if s.number != "" {
		head = screen.Strong(s.number) + "  " + head
	}
	p.Line("%s", head)
	line := screen.Safe(s.set.Name)
	if s.compared {
		line += fmt.Sprintf(": %s in the snapshot", screen.Plural(s.set.Records.Snapshot, "record"))
		if n := len(s.set.Copies); n > 0 {
			line += fmt.Sprintf(", %s in %d copies of it", screen.Count(s.set.Records.Edited), n)
		} else if s.set.Records.Edited > 0 {
			line += fmt.Sprintf(", %s in the copy", screen.Count(s.set.Records.Edited))
		}
	} else {
		line += ", by " + s.by
	}
	p.Line("%s", screen.Dim(line+"; key "+strings.Join(s.set.Key, " + ")))
	if s.set.DeletesHeld != "" {
		p.Line("%s  %s", screen.Level("warn"), screen.Safe(s.set.DeletesHeld))
	}
	p.Line("")
	a.counts(s)
	a.byField(s)
	a.totals(&s.set)
	a.findings(s.number, findings, false)
}

// totals prints the sums of the columns that a change set moves.
func (a *app) totals(set *desk.RecordSet) {
	a.sums(set.Totals, set.Fields, "after")
	if h := set.Changes.HeldActs; len(set.Totals) > 0 && h != nil && h.Delete > 0 {
		a.out.Line("  %s", screen.Dim("after: without the "+screen.Plural(h.Delete, "delete")+" that "+areHeld(h.Delete)))
	}
}

// counts prints the records of both sides by what becomes of them: each side
// adds up, and where there are several copies each of them does.
func (a *app) counts(s *summary) {
	n, r := &s.set.Changes, &s.set.Records
	t := screen.Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"", "records"}}
	row := func(word string, snapshot, edited int, each func(*compare.CopyFound) int, more string) {
		cells, there := []string{word}, snapshot != 0
		if s.compared {
			cells = append(cells, signed(snapshot))
			counts := []int{edited}
			if len(s.set.Copies) > 0 {
				counts = nil
			}
			for i := range s.set.Copies {
				counts = append(counts, each(&s.set.Copies[i]))
			}
			for _, n := range counts {
				there, cells = there || n != 0, append(cells, signed(n))
			}
		} else {
			there, cells = there || edited != 0, append(cells, screen.Count(max(snapshot, edited)))
		}
		if there {
			t.Row(append(cells, more)...)
		}
	}
	if s.compared {
		t.Right, t.Heading = append(t.Right, true), []string{"", "snapshot", "copy"}
		if len(s.set.Copies) > 0 {
			t.Heading, t.Right = t.Heading[:2], t.Right[:2]
		}
		for _, c := range s.set.Copies {
			t.Heading, t.Right = append(t.Heading, screen.Cut(screen.Safe(c.Name), 24)), append(t.Right, true)
		}
	}
	row(screen.Act("amend"), n.Amend, n.Amend, func(c *compare.CopyFound) int { return c.Changes.Amend }, screen.Plural(n.FieldChanges, "field change"))
	adds := 0
	if !s.compared {
		adds = n.Add
	}
	row(screen.Act("add"), adds, n.Add, func(c *compare.CopyFound) int { return c.Changes.Add }, allAdds(s))
	row(screen.Act("delete"), n.Delete, 0, func(c *compare.CopyFound) int { return 0 }, "")
	if s.compared {
		row("against", -r.Against, 0, func(*compare.CopyFound) int { return 0 }, screen.Dim("amended in one copy and not in another, so counted twice above"))
		row("unchanged", r.Unchanged, r.Unchanged, func(c *compare.CopyFound) int { return c.Records.Unchanged }, "")
		row("kept", r.Kept, 0, func(*compare.CopyFound) int { return 0 }, screen.Dim("nothing is proposed of them"))
		row("skipped", 0, r.Skipped, func(c *compare.CopyFound) int { return c.Records.Skipped }, screen.Dim("rows from which nothing follows"))
		row("stopped", r.StoppedRecords, r.Stopped, func(c *compare.CopyFound) int { return c.Records.Stopped }, screen.Dim("rows that cannot be used, and records that may be theirs"))
		all := []string{screen.Dim("in all"), screen.Dim(screen.Count(r.Snapshot))}
		for _, c := range s.set.Copies {
			all = append(all, screen.Dim(some(c.Records.Edited)))
		}
		if len(s.set.Copies) == 0 {
			all = append(all, screen.Dim(some(r.Edited)))
		}
		t.Row(append(all, screen.Dim("records"))...)
	}
	t.Print(a.out)
	if n.Held+n.HeldFields > 0 {
		a.out.Line("  %s %s", screen.Hue("amend", "held"), heldWords(n))
	}
}

// allAdds says how many new records there are where several copies may have the same.
func allAdds(s *summary) string {
	if n := s.set.Changes.Add; len(s.set.Copies) > 0 && n > 0 {
		return screen.Dim(screen.Plural(n, "new record") + " in all")
	}
	return ""
}

// signed writes a number, and none as nothing.
func signed(n int) string {
	if n < 0 {
		return "−" + screen.Count(-n)
	}
	return some(n)
}

// some writes a number, and none as nothing.
func some(n int) string {
	if n == 0 {
		return ""
	}
	return screen.Count(n)
}

func areHeld(n int) string {
	if n == 1 {
		return "is held"
	}
	return "are held"
}

// heldWords counts what is held, each with its unit.
func heldWords(n *changeset.Tally) string {
	var parts []string
	if n.HeldFields > 0 {
		parts = append(parts, screen.Plural(n.HeldFields, "field change"))
	}
	if h := n.HeldActs; h != nil {
		if h.Add > 0 {
			parts = append(parts, screen.Plural(h.Add, "add"))
		}
		if h.Delete > 0 {
			parts = append(parts, screen.Plural(h.Delete, "delete"))
		}
	} else if n.Held > 0 { // of a dossier of before these were told apart
		parts = append(parts, screen.Plural(n.Held, "record")+" whole")
	}
	return strings.Join(parts, ", ") + ": the tool waits for your decision on them"
}

func (a *app) byField(s *summary) {
	if len(s.set.Fields) == 0 {
		return
	}
	most := 0
	for _, f := range s.set.Fields {
		most = max(most, f.Changes)
	}
	a.out.Line("")
	t := screen.Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"field", "changes", ""}}
	for _, f := range s.set.Fields {
		t.Row(screen.Cut(screen.Safe(f.Field), 30), screen.Count(f.Changes), screen.Hue("amend", screen.Bar(f.Changes, most, 24)))
	}
	t.Print(a.out)
}

// sums prints exact sums. Where amends move some of them, those are what the
// eye needs: adds and deletes alone move them all.
func (a *app) sums(totals []compare.Total, amended []changeset.FieldCount, after string) {
	shown := slices.DeleteFunc(slices.Clone(totals), func(x compare.Total) bool {
		return !slices.ContainsFunc(amended, func(f changeset.FieldCount) bool { return f.Field == x.Field })
	})
	if len(shown) == 0 {
		shown = totals
	}
	if len(shown) == 0 {
		return
	}
	a.out.Line("")
	t := screen.Table{Indent: "  ", Right: []bool{false, true, false, true}, Heading: []string{"sum of", "before", "", after}}
	for _, x := range shown {
		t.Row(screen.Cut(screen.Safe(x.Field), 30), screen.Pale(x.Before), "→", screen.Strong(x.After))
	}
	t.Print(a.out)
}
