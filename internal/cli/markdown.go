package cli

import (
	"fmt"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	screen "paletwin/internal/term"
)

// showMarkdown prints a dossier's summary and changes as Markdown, in the form
// of GitHub's tables.
func (a *app) showMarkdown(name string, sel *selection, limit int) error {
	t, err := a.dossier(name)
	if err != nil {
		return err
	}
	c, err := t.Changes()
	if err != nil {
		return err
	}
	defer c.Close()
	filter, err := sel.filter(t, c)
	if err != nil {
		return err
	}
	shown, n, all, err := firstPicked(c, &filter, limit)
	if err != nil {
		return err
	}
	known, err := a.recognise(t, shown)
	if err != nil {
		return err
	}
	set := t.Set()
	a.out.Line("### %s %s", t.Meta.Number, mark(t.Meta.Title))
	a.out.Line("")
	a.out.Line("%s: %s; %s.", mark(set.Name), actWords(set.Changes.Counts), n.String())
	a.out.Line("")
	a.out.Line("| change | act | %s | record | field | from | to | decision |", mark(strings.Join(set.Key, ", ")))
	a.out.Line("| --- | --- | --- | --- | --- | --- | --- | --- |")
	for _, p := range shown {
		a.markdownRows(p, known[p.Key], set.Key)
	}
	if all > len(shown) {
		a.out.Line("")
		a.out.Line("… and %s more: `paletwin show %s --limit 0 --with markdown` shows all.", screen.Plural(all-len(shown), "change"), t.Meta.Number)
	}
	return nil
}

// actWords counts changes by their acts.
func actWords(n changeset.Counts) string {
	return fmt.Sprintf("%s amended (%s), %s added, %s deleted", screen.Count(n.Amend), screen.Plural(n.FieldChanges, "field change"), screen.Count(n.Add), screen.Count(n.Delete))
}

// markdownRows prints the rows of a change, one a field.
func (a *app) markdownRows(p *picked, known record.Record, key []string) {
	if p.Act != changeset.Amend {
		known = p.Chosen(p.states[0].Of)
	}
	head := fmt.Sprintf("| `%s` | %s | %s | %s |", p.ID.String()[:8], p.Act, mark(p.Key.String()), mark(aboutWords(known, key)))
	if p.Act != changeset.Amend {
		a.out.Line("%s | | | %s%s |", head, markState(&p.states[0]), markCopies(p.In("")))
		return
	}
	for _, i := range p.fields {
		f := &p.Fields[i]
		a.out.Line("%s %s | %s | %s | %s |", head, mark(f.Field), markValue(f.From), strongMark(markValue(p.states[i].Wanted(f))), markState(&p.states[i])+markCopies(p.In(f.Field)))
	}
}

// markCopies says in which copies a change was found.
func markCopies(in string) string {
	if in == "" {
		return ""
	}
	return "; " + mark(in)
}

// aboutWords is about without a terminal's cuts.
func aboutWords(r record.Record, key []string) string {
	for _, f := range r {
		isKey := false
		for _, k := range key {
			isKey = isKey || k == f.Name
		}
		if !isKey && !f.Value.Blank() {
			return screen.Cut(f.Value.String(), 40)
		}
	}
	return ""
}

func markValue(v record.Value) string {
	switch {
	case v.IsNull():
		return "*null*"
	case v.Blank():
		return "*empty*"
	}
	return mark(screen.Cut(screen.Safe(v.String()), 60))
}

func strongMark(s string) string {
	if strings.HasPrefix(s, "*") {
		return s
	}
	return "**" + s + "**"
}

func markState(s *changeset.State) string {
	switch {
	case len(s.Stop) > 0 && s.ToolHeld():
		return "stop: " + strings.Join(s.Stop, ", ")
	case s.ToolHeld():
		return "held: " + strings.Join(s.Held, ", ")
	case s.Decision == changeset.Open:
		return "open"
	}
	words := participle[s.Decision] + ", " + mark(s.By)
	if s.Note != "" {
		words += ": " + mark(screen.Cut(screen.Safe(s.Note), 60))
	}
	return words
}

// markdown's signs lose their meaning with a backslash before them; those of
// HTML are written as HTML has them.
var markdownSigns = strings.NewReplacer("\\", "\\\\", "|", "\\|", "*", "\\*", "_", "\\_", "`", "\\`", "[", "\\[", "]", "\\]", "#", "\\#", "~", "\\~", "@", "&#64;", "<", "&lt;", ">", "&gt;", "&", "&amp;")

// mark writes a text from data into Markdown.
func mark(s string) string {
	return markdownSigns.Replace(screen.Safe(s))
}
