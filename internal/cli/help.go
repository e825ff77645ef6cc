package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"paletwin/core/changeset"
	"paletwin/core/expr"
	screen "paletwin/internal/term"
)

// first are the commands that a person needs first, by what is to be done.
var first = [][2]string{
	{"lend SNAPSHOT", "make a copy to edit that no program can ruin"},
	{"compare SNAPSHOT EDITED", "see what was changed, and make a dossier of it"},
	{"show -", "look at each change, from and to; - is your newest dossier"},
	{"approve -, reject -", "decide, change by change or by group"},
	{"apply - --to REGISTER", "carry it out: a backup first, a proof after"},
	{"verify -", "prove again that what was meant is so, and nothing else"},
	{"rollback -", "undo it, all or some records"},
	{"guide SNAPSHOT EDITED", "be led through all of this, step by step"},
}

// word is a word of the product, with what it means.
type word struct{ Word, Means string }

// glossary are the words that are used everywhere, as help words says them.
var glossary = []word{
	{"record set", "records of one kind: the same fields, one key"},
	{"layout", "the description of a record set: fields, key, kinds of values, rules, limits"},
	{"snapshot", "the exported state, which is never changed again"},
	{"edited copy", "what came back"},
	{"source", "how files that come again from the same hands are read"},
	{"change set", "the differences: amend, add, delete, each with an id"},
	{"field change", "one field of an amend, from and to"},
	{"finding", "something noticed, with its place: note is information, warn needs a look, stop cannot be approved"},
	{"wear", "a difference that software made; nobody edited it"},
	{"slip", "a mistake as hands make it: a fill too far, a column sorted alone"},
	{"decision", "approve, hold or reject; what is undecided is open, and waits"},
	{"held", "waits for you, whatever is approved as a group"},
	{"dossier", "the folder of one bulk update: all that was read, found, decided and done"},
	{"desk", "the folder with dossiers, layouts and settings"},
	{"target", "where records live: a file, a table, a web service"},
	{"run", "one carrying-out of a dossier; a step is a record, and each gets an outcome"},
	{"load files", "what is handed to a system that only takes files"},
	{"conflict", "a record that was changed there meanwhile; it is left alone and reported"},
	{"setting", "what --with NAME=VALUE says; a target in desk.yaml may carry it"},
}

// groups are the flags by what they are for, in the order of help; what is in none comes last.
var groups = []struct {
	title string
	flags []string
}{
	{"Choose", []string{"all", "act", "field", "finding", "record", "records", "where", "held", "decided", "decision", "of", "record-set", "run", "open", "limit", "first", "retry", "delete-list", "routine"}},
	{"Read", []string{"source", "map", "sheet", "heading-row", "delimiter", "encoding", "key", "missing", "blank", "allow", "into", "joined", "snapshot", "catch-up", "current", "again", "exact"}},
	{"Write", []string{"to", "output", "as", "replace", "set", "fill", "clear", "move", "set-from", "add", "delete", "form", "rehearse", "apply", "yes", "leave-open", "detach",
		"overwrite-conflicts", "other-target", "other-register", "other-dossier", "with"}},
	{"Say", []string{"title", "note", "by", "findings", "wear", "follow", "check"}},
}

// helps gives the commands their help.
func (a *app) helps(root *cobra.Command) {
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) { a.help(cmd) })
	root.SetHelpCommand(&cobra.Command{
		Use:   "help [COMMAND|more|words|CODE]",
		Short: "Say what a command, a word or a finding is",
		ValidArgsFunction: func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			return fitting(helpTopics(root), begun), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error { return a.helpOn(root, args) },
	})
}

func helpTopics(root *cobra.Command) []string {
	all := []string{"more", "words"}
	for _, c := range root.Commands() {
		if !c.Hidden {
			all = append(all, c.Name())
		}
	}
	for _, c := range changeset.Codes() {
		all = append(all, c.Name)
	}
	return all
}

// helpOn is help about something: a command, or a word of ours.
func (a *app) helpOn(root *cobra.Command, args []string) error {
	if len(args) == 0 {
		a.help(root)
		return nil
	}
	topic := strings.Join(args, " ")
	switch topic {
	case "more":
		a.more(root)
		return nil
	case "words":
		a.words()
		return nil
	}
	if i := slices.IndexFunc(changeset.Codes(), func(c changeset.Code) bool { return c.Name == topic }); i >= 0 {
		a.helpCode(changeset.Codes()[i])
		return nil
	}
	if i := slices.IndexFunc(glossary, func(w word) bool { return strings.EqualFold(w.Word, topic) }); i >= 0 {
		a.out.Line("%s  %s", screen.Strong(glossary[i].Word), glossary[i].Means)
		return nil
	}
	if cmd, rest, err := root.Find(args); err == nil && len(rest) == 0 && cmd != root {
		a.help(cmd)
		return nil
	}
	return usage("help knows the commands, more, words and the codes of findings, not %q%s", topic, near(topic, helpTopics(root)))
}

// near says which of some words is meant; "" where none is like it.
func near(word string, all []string) string {
	if n := expr.Near(word, all); len(n) > 0 {
		return "; did you mean " + strings.Join(n, " or ") + "?"
	}
	return ""
}

// orNear is near, or which there are.
func orNear(word string, all []string) string {
	return cmp.Or(near(word, all), "; it has "+strings.Join(all, ", "))
}

// helpCode says what a finding is and what settles it.
func (a *app) helpCode(c changeset.Code) {
	a.out.Line("%s  %s", screen.Level(string(c.Level)), screen.Strong(c.Name))
	for _, line := range screen.Wrap(strings.ToUpper(c.Means[:1])+c.Means[1:]+".", min(a.out.Width, 100)) {
		a.out.Line("%s", line)
	}
	g := changeset.Groups([]changeset.Finding{c.Finding("")})[0]
	a.out.Line("")
	tab := screen.Table{Indent: "  "}
	tab.Row("paletwin show - --finding "+c.Name, screen.Dim("what it concerns"))
	other := map[string]string{"approve": "reject", "reject": "approve"}
	if g.Settle != "" {
		for _, d := range []string{g.Settle, other[g.Settle]} {
			if d == "approve" && c.Level == changeset.Stop {
				continue
			}
			tab.Row("paletwin "+d+" - --finding "+c.Name, screen.Dim(map[string]string{"approve": "it was meant", "reject": "it stays as it was"}[d]))
		}
	}
	tab.Print(a.out)
}

// words lists the words.
func (a *app) words() {
	tab := screen.Table{}
	for _, w := range glossary {
		for i, line := range screen.Wrap(w.Means, max(min(a.out.Width, 100)-16, 30)) {
			name := ""
			if i == 0 {
				name = screen.Strong(w.Word)
			}
			tab.Row(name, line)
		}
	}
	tab.Print(a.out)
}

// more lists all commands.
func (a *app) more(root *cobra.Command) {
	tab := screen.Table{Indent: "  "}
	for _, c := range root.Commands() {
		if c.Hidden || c.Name() == "help" {
			continue
		}
		tab.Row(screen.Strong(c.Name()), c.Short)
		for _, sub := range c.Commands() {
			if !sub.Hidden && sub.Name() != "help" {
				tab.Row("  "+sub.Name(), screen.Dim(sub.Short))
			}
		}
	}
	tab.Row("")
	root.PersistentFlags().VisitAll(func(f *pflag.Flag) {
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		_, use := pflag.UnquoteUsage(f)
		tab.Row(screen.Strong(name), use)
	})
	tab.Print(a.out)
	a.out.Line("")
	a.out.Line("paletwin help COMMAND says what a command takes; help words what the words mean.")
}

// help prints the help of a command.
func (a *app) help(cmd *cobra.Command) {
	a.screens()
	if !cmd.HasParent() {
		a.helpFirst(cmd)
		return
	}
	p := a.out
	if cmd.Long != "" {
		p.Line("%s", cmd.Long)
	} else {
		p.Line("%s", cmd.Short)
	}
	p.Line("")
	p.Line("  %s", screen.Strong(cmd.CommandPath()+strings.TrimPrefix(cmd.Use, cmd.Name())))
	if cmd.Example != "" {
		p.Line("")
		p.Line("%s", screen.Dim("Examples"))
		p.Line("%s", cmd.Example)
	}
	if subs := slices.DeleteFunc(cmd.Commands(), func(c *cobra.Command) bool { return c.Hidden || c.Name() == "help" }); len(subs) > 0 {
		p.Line("")
		p.Line("%s", screen.Dim("Further"))
		tab := screen.Table{Indent: "  "}
		for _, c := range subs {
			tab.Row(screen.Strong(cmd.Name()+" "+c.Name()), c.Short)
		}
		tab.Print(p)
	}
	a.helpFlags(cmd)
}

// helpFirst is the help without a command.
func (a *app) helpFirst(root *cobra.Command) {
	p := a.out
	p.Line("%s", root.Long)
	p.Line("")
	tab := screen.Table{Indent: "  "}
	for _, f := range first {
		tab.Row(screen.Strong("paletwin "+f[0]), f[1])
	}
	tab.Print(p)
	p.Line("")
	tab = screen.Table{Indent: "  "}
	tab.Row("paletwin demo", screen.Dim("see the whole work on a made-up register"))
	tab.Row("paletwin help more", screen.Dim("all commands"))
	tab.Row("paletwin help words", screen.Dim("what the words mean"))
	tab.Row("paletwin help compare", screen.Dim("what a command takes"))
	tab.Row("paletwin help fill-overrun", screen.Dim("what a finding means"))
	tab.Print(p)
}

// helpFlags prints a command's flags in groups, and its settings.
func (a *app) helpFlags(cmd *cobra.Command) {
	left := map[string]*pflag.Flag{}
	take := func(f *pflag.Flag) {
		if f.Name != "help" && cmd.Root().PersistentFlags().Lookup(f.Name) == nil {
			left[f.Name] = f
		}
	}
	cmd.LocalFlags().VisitAll(take)
	cmd.InheritedFlags().VisitAll(take)
	tab := screen.Table{}
	section := func(title string, flags []*pflag.Flag) {
		if len(flags) == 0 {
			return
		}
		tab.Row("")
		tab.Row(screen.Dim(title))
		for _, f := range flags {
			a.flagRow(&tab, f, "--")
		}
	}
	for _, g := range groups {
		var flags []*pflag.Flag
		for _, name := range g.flags {
			if f := left[name]; f != nil && !f.Hidden {
				flags = append(flags, f)
				delete(left, name)
			}
		}
		section(g.title, flags)
	}
	var rest []*pflag.Flag
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if left[f.Name] != nil && !f.Hidden {
			rest = append(rest, f)
		}
	})
	section("Else", rest)
	if s := a.tuned[cmd]; s != nil {
		tab.Row("")
		tab.Row(screen.Dim("Settings, as --with NAME=VALUE"))
		s.set.VisitAll(func(f *pflag.Flag) { a.flagRow(&tab, f, "") })
	}
	tab.Print(a.out)
	a.out.Line("")
	a.out.Line("%s", screen.Dim("With every command: --json, --quiet, --no-color, --desk FOLDER, --other-machine; paletwin help more"))
}

// flagRow adds a flag, or a setting, with its values and its default.
func (a *app) flagRow(tab *screen.Table, f *pflag.Flag, dashes string) {
	value, use := pflag.UnquoteUsage(f)
	if strings.Contains(value, "|") || strings.Contains(value, "=") { // they stand beside it already
		use = strings.TrimLeft(strings.TrimPrefix(use, value), ": ")
		use = strings.TrimSuffix(use, ": "+value)
	}
	name := dashes + f.Name
	if f.Shorthand != "" && dashes != "" {
		name = "-" + f.Shorthand + ", " + name
	}
	switch {
	case value == "" || f.Value.Type() == "bool":
	case dashes == "":
		name += "=" + value
	default:
		name += " " + value
	}
	if d := f.DefValue; d != "" && d != "false" && d != "0" && d != "-1" && d != "[]" && d != "0s" {
		use += fmt.Sprintf(" (default %s)", d)
	}
	const names = 34
	wide := max(a.out.Width-names-4, 40)
	for i, line := range screen.Wrap(use, wide) {
		if i > 0 {
			name = ""
		}
		tab.Row("  "+name, line)
	}
}
