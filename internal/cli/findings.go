package cli

import (
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	screen "paletwin/internal/term"
)

// findingRoom is how many lines of findings a summary has.
const findingRoom = 12

// findings prints findings by column and cause, each with the decision that settles it in the dossier
// of a number ("" has none): all of them and what they are made of, or, in a summary, what has room.
func (a *app) findings(number string, all []changeset.Finding, whole bool) {
	if len(all) == 0 {
		return
	}
	groups := changeset.Groups(all)
	a.out.Line("")
	v := &findingView{a: a, number: number, whole: whole, file: onlyFile(all)}
	shown := groups
	if !whole && len(groups) >= findingRoom { // two lines say what is not shown
		shown = groups[:findingRoom-2]
	}
	v.measure(shown)
	more := len(groups) > len(shown)
	if v.spare = findingRoom - 1 - len(shown); more { // a line for what settles those without room, and one for those that are not shown
		v.spare--
	}
	for i := range shown {
		v.group(&shown[i])
	}
	v.tab.Print(a.out)
	if v.unsaid != "" {
		a.out.Line("  %s", screen.Dim("each is settled by its code, as "+v.unsaid))
	}
	if left := groups[len(shown):]; len(left) > 0 {
		a.out.Line("  %s", screen.Dim("and "+screen.Plural(len(left), "finding")+" more"+stopsOf(left)+": show --findings"))
	}
}

// findingView is a list of findings in the making.
type findingView struct {
	a      *app
	number string
	whole  bool
	file   string // the one that is not named on every line; "" names all
	tab    screen.Table
	wide   int    // of a text
	spare  int    // lines that are left beside one for each group
	unsaid string // the first command that had no room
}

// measure finds out how wide texts may be.
func (v *findingView) measure(groups []changeset.Group) {
	v.tab.Indent = "  "
	codes, places := 0, 0
	for i := range groups {
		v.widest(&groups[i], &codes, &places)
	}
	v.wide = max(v.a.out.Width-len("  stop      ")-codes-places, 40)
}

func (v *findingView) widest(g *changeset.Group, codes, places *int) {
	*codes, *places = max(*codes, len(g.Code)), max(*places, len([]rune(v.place(&g.Finding))))
	if !v.whole {
		return
	}
	for i := range g.Of {
		*places = max(*places, len([]rune(v.place(&g.Of[i]))))
	}
	for i := range g.Follow {
		v.widest(&g.Follow[i], codes, places)
	}
}

// group adds a group: a line, and as many more as are left.
func (v *findingView) group(g *changeset.Group) {
	if v.whole && len(g.Of) > 1 {
		for i := range g.Of {
			v.text(&g.Of[i], screen.Safe(g.Of[i].Text), screen.Level(string(g.Level)))
		}
	} else {
		v.text(&g.Finding, screen.Safe(g.Text)+followWords(g), screen.Level(string(g.Level)))
	}
	switch command := v.command(g); {
	case command == "":
	case v.whole || v.spare > 0:
		v.tab.Row("", "", "", screen.Dim(command))
		v.spare--
	case v.unsaid == "":
		v.unsaid = command
	}
	if !v.whole {
		return
	}
	for i := range g.Follow {
		f := &g.Follow[i]
		for k := range f.Of {
			v.text(&f.Of[k], screen.Safe(f.Of[k].Text), screen.Dim("  ↳"))
		}
	}
}

// text adds a finding's line, or lines.
func (v *findingView) text(f *changeset.Finding, text, mark string) {
	lines := screen.Wrap(screen.Cut(text, 300), v.wide)
	if more := len(lines) - 1; !v.whole && more > 0 {
		if f.Level == changeset.Note || more > v.spare {
			lines = []string{lines[0] + " …"} // show --findings has it whole
		} else {
			v.spare -= more
		}
	}
	cells := []string{mark, f.Code, screen.Dim(v.place(f))}
	for _, line := range lines {
		v.tab.Row(append(cells, line)...)
		cells = []string{"", "", ""}
	}
}

// followWords says what follows from a finding.
func followWords(g *changeset.Group) string {
	switch n := g.FollowCount(); {
	case n > 0:
		var codes []string
		for i := range g.Follow {
			if c := g.Follow[i].Code; !strings.Contains(strings.Join(codes, " "), c) {
				codes = append(codes, c)
			}
		}
		return "; from this follow " + strings.Join(codes, ", ") + " of " + screen.Plural(n, "cell")
	case g.Caused > 0:
		return fmt.Sprintf("; %s of them follow from %s", screen.Count(g.Caused), g.Cause)
	}
	return ""
}

// command is the decision that settles a group.
func (v *findingView) command(g *changeset.Group) string {
	if v.number == "" || g.Settle == "" {
		return ""
	}
	return settling(v.number, g) + otherwise(g)
}

// otherwise names the other decision that settles a group.
func otherwise(g *changeset.Group) string {
	switch {
	case g.Level == changeset.Stop:
		return ""
	case g.Settle == "approve":
		return "   (or reject)"
	}
	return "   (or approve, if it is meant)"
}

// settling is the command that settles a group in a dossier.
func settling(number string, g *changeset.Group) string {
	c := "paletwin " + g.Settle + " " + number + " --finding " + g.Code
	if g.Scope == changeset.OfField && g.Column != "" && !g.Spreads() {
		c += " --field " + shellWord(g.Column)
	}
	return c
}

// stopsOf counts the stops among findings that are not shown.
func stopsOf(groups []changeset.Group) string {
	var parts []string
	for i := range groups {
		if g := &groups[i]; g.Level == changeset.Stop {
			parts = append(parts, screen.Count(g.Count)+" "+g.Code+" "+screen.Safe(g.Column))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return ", among them stops (" + strings.Join(parts, ", ") + ")"
}

// onlyFile is the one file whose rows findings name, or, where they name none, the one that they name; "" where
// there are several.
func onlyFile(all []changeset.Finding) string {
	var rows, files []string
	for i := range all {
		if f := &all[i]; f.File != "" {
			if files = append(files, f.File); f.Row > 0 {
				rows = append(rows, f.File)
			}
		}
	}
	if len(rows) == 0 {
		rows = files
	}
	if slices.Sort(rows); len(slices.Compact(rows)) != 1 || strings.Contains(rows[0], "#") && !strings.Contains(rows[0], ":") { // of several sheets each is named; a table has a scheme
		return ""
	}
	return rows[0]
}

// place writes where a finding is.
func (v *findingView) place(f *changeset.Finding) string {
	var parts []string
	if f.File != "" && f.File != v.file {
		parts = append(parts, v.a.shown(f.File))
	}
	if f.Column != "" {
		parts = append(parts, f.Column)
	}
	const most = 6
	switch {
	case len(f.Rows) > 1:
		parts = append(parts, "rows "+ints(f.Rows, most))
	case f.Row > 0:
		parts = append(parts, fmt.Sprintf("row %d", f.Row))
	}
	return screen.Safe(strings.Join(parts, " "))
}

func ints(n []int, most int) string {
	var b strings.Builder
	for i, v := range n[:min(len(n), most)] {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprint(&b, v)
	}
	if len(n) > most {
		b.WriteString(" …")
	}
	return b.String()
}
