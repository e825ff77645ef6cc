package cli

import (
	"bufio"
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
	"paletwin/internal/update"
)

func newGuide(a *app) *cobra.Command {
	var to, source string
	cmd := &cobra.Command{
		Use:   "guide SNAPSHOT EDITED | guide NNNN",
		Short: "Be led through an update on a terminal, step by step",
		Long: `Be led through an update: compare, look at what needs a look, decide, try it on a
few records, carry out the rest, prove it.

Each step is a command, which is shown before it runs. q leaves at any question, and
nothing is lost: guide - goes on where it was left. Enter alone never approves what
is held, nor a delete.`,
		Example: `  paletwin guide aids.csv autumn-round.csv --to register.csv
  paletwin guide -`,
		Args: exactly(1, 2, "a snapshot and its edited copy, or a dossier"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !a.asks || a.json {
				return usage("guide leads a person at a terminal; in a script say what is to be done: paletwin help more lists the commands")
			}
			g := &guide{a: a, ctx: cmd.Context(), in: bufio.NewReader(a.stdin), to: to}
			return g.lead(args, source)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the `target`: where the records live (default: it is asked for, where it is not known)")
	cmd.Flags().StringVar(&source, "source", "", "read the copy as those of this `source` are read")
	return cmd
}

// guide leads a person through an update.
type guide struct {
	a   *app
	ctx context.Context
	in  *bufio.Reader
	to  string
	t   *desk.Dossier
}

// leftError says that the person left.
type leftError struct{ number string }

func (e *leftError) Error() string { return "left" }

// lead compares, if two files were named, and leads on from what stands.
func (g *guide) lead(args []string, source string) error {
	err := g.begin(args, source)
	for err == nil {
		var more bool
		if more, err = g.next(); !more {
			break
		}
	}
	if left, is := err.(*leftError); is {
		if left.number == "" {
			return nil
		}
		g.a.say.Line("")
		g.a.say.Line("left here, and nothing is lost: %s goes on", screen.Strong("paletwin guide "+left.number))
		return nil
	}
	return err
}

func (g *guide) begin(args []string, source string) error {
	name := args[0]
	if len(args) == 2 {
		command := []string{"compare", args[0], args[1]}
		if source != "" {
			command = append(command, "--source", source)
		}
		if code := g.run(command...); code != 0 {
			return exit(code)
		}
		name = "-"
	}
	err := g.open(name)
	if none := new(desk.AttemptError); len(args) == 2 && errors.As(err, &none) { // nothing differs, and no dossier was made
		return &leftError{}
	}
	return err
}

// open opens the dossier as it stands.
func (g *guide) open(name string) error {
	d, err := desk.Find(g.a.fs, g.a.account, g.a.deskDir, g.a.wd)
	if err != nil {
		return err
	}
	if g.t, err = d.Dossier(name, g.a.user); err == nil && g.t.Several() {
		err = usage("dossier %s has several record sets, and guide leads through one: paletwin show %s", g.t.Meta.Number, g.t.Meta.Number)
	}
	return err
}

// run runs a command as a person would have typed it, which is shown, and returns its exit code.
func (g *guide) run(args ...string) int {
	shown := append([]string{"paletwin"}, args...)
	if g.a.deskDir != "" {
		args = append(args, "--desk", g.a.deskDir)
		shown = append(shown, "--desk", g.a.deskDir)
	}
	g.a.say.Line("")
	g.a.say.Line("%s %s", screen.Dim("$"), screen.Strong(commandLine(shown)))
	if g.a.noColor {
		args = append(args, "--no-color")
	}
	sub := &app{fs: g.a.fs, stdin: g.in, stdout: g.a.stdout, stderr: g.a.stderr, environ: g.a.environ, wd: g.a.wd, now: g.a.now, asks: true, account: g.a.account, user: g.a.user, led: true}
	return sub.run(g.ctx, args)
}

// ask puts a question, and returns the letter of the answer; "" is Enter alone. Whoever leaves gets *leftError.
func (g *guide) ask(question string, answers ...string) (string, error) {
	g.a.say.Line("")
	for {
		g.a.say.Print("%s %s ", screen.Strong(question), strings.Join(append(slices.Clone(answers), "[q]uit"), "  "))
		line, err := g.line()
		if err != nil {
			return "", err
		}
		said := strings.ToLower(strings.TrimSpace(line))
		if said == "" {
			return "", nil
		}
		for _, x := range answers {
			letter, word := answer(x)
			if said == letter || said == word {
				return letter, nil
			}
		}
	}
}

// paragraph says something with a mark before it, in as many lines as it needs.
func (a *app) paragraph(mark, text string) {
	tab := screen.Table{}
	for _, line := range screen.Wrap(text, max(min(a.say.Width, 110)-8, 40)) {
		tab.Row(mark, line)
		mark = ""
	}
	tab.Print(a.say)
}

// answer takes "[a]pprove all" apart: a letter and a word.
func answer(x string) (letter, word string) {
	x = strings.TrimPrefix(x, "Enter or ")
	word = strings.NewReplacer("[", "", "]", "").Replace(x)
	word, _, _ = strings.Cut(word, " ")
	_, letter, _ = strings.Cut(x, "[")
	letter, _, _ = strings.Cut(letter, "]")
	return letter, word
}

// line reads a line; the end of input and q leave, and so does an interrupt.
func (g *guide) line() (string, error) {
	said := make(chan string, 1)
	go func() { // it ends with the process where nothing is said
		line, err := g.in.ReadString('\n')
		if err != nil && (err != io.EOF || line == "") {
			line = "q"
		}
		said <- line
	}()
	select {
	case line := <-said:
		if s := strings.ToLower(strings.TrimSpace(line)); s == "q" || s == "quit" {
			return "", g.left()
		}
		return line, nil
	case <-g.ctx.Done():
		return "", g.left()
	}
}

func (g *guide) left() error {
	if g.t == nil {
		return &leftError{"-"}
	}
	return &leftError{g.t.Meta.Number}
}

// next leads one step on, from what stands, and reports whether there is more.
func (g *guide) next() (more bool, err error) {
	if err := g.open(g.t.Meta.Number); err != nil {
		return false, err
	}
	status, err := run.ReadStatus(g.t)
	if err != nil {
		return false, err
	}
	if n := len(status.Runs); n > 0 {
		return g.afterRun(status, status.Runs[n-1])
	}
	if g.t.Set().Changes.Changes() == 0 {
		g.a.say.Line("")
		g.a.say.Line("there is nothing to change, and so nothing more to do")
		return false, nil
	}
	decided, err := g.decide()
	if err != nil || !decided {
		return false, err
	}
	return g.carry(false)
}

// waiting counts what of some changes is open, and what the tool holds.
func (g *guide) waiting(f changeset.Filter) (open, held int, err error) {
	c, err := g.t.Changes()
	if err != nil {
		return 0, 0, err
	}
	defer c.Close()
	err = pick(c, &f, func(p *picked) error {
		for _, i := range p.fields {
			switch s := &p.states[i]; {
			case s.ToolHeld():
				held++
			case s.Decision == changeset.Open:
				open++
			}
		}
		return nil
	})
	return open, held, err
}

// decide leads through what waits: first each finding that has something waiting, then deletes, then the rest. It reports whether
// anything is approved.
func (g *guide) decide() (bool, error) {
	findings, err := g.t.Findings()
	if err != nil {
		return false, err
	}
	for _, group := range changeset.Groups(findings) {
		if err := g.settle(&group); err != nil {
			return false, err
		}
	}
	for _, x := range []struct {
		acts []changeset.Act
		what string
	}{{[]changeset.Act{changeset.Delete}, "delete"}, {[]changeset.Act{changeset.Amend, changeset.Add}, ""}} {
		if err := g.rest(x.acts, x.what); err != nil {
			return false, err
		}
	}
	if err := g.open(g.t.Meta.Number); err != nil {
		return false, err
	}
	c, err := g.t.Changes()
	if err != nil {
		return false, err
	}
	defer c.Close()
	approved := false
	err = pick(c, &changeset.Filter{}, func(p *picked) error {
		approved = approved || slices.ContainsFunc(p.states, func(s changeset.State) bool { return s.Decision == changeset.Approve })
		return nil
	})
	if err == nil && !approved {
		g.a.say.Line("")
		g.a.say.Line("nothing is approved, so nothing is to be carried out; %s goes on", screen.Strong("paletwin guide "+g.t.Meta.Number))
	}
	return approved, err
}

// settle asks about what a group of findings holds, or stops.
func (g *guide) settle(group *changeset.Group) error {
	if group.Settle == "" {
		return nil
	}
	f := changeset.Filter{Findings: []string{group.Code}}
	choice := []string{"--finding", group.Code}
	if group.Scope == changeset.OfField && group.Column != "" && !group.Spreads() {
		f.Fields, choice = []string{group.Column}, append(choice, "--field", group.Column)
	}
	open, held, err := g.waiting(f)
	if err != nil || open+held == 0 {
		return err
	}
	number := g.t.Meta.Number
	for shown := false; ; shown = true {
		g.a.say.Line("")
		g.a.paragraph(screen.Level(string(group.Level)), screen.Safe(group.Text)+followWords(group))
		answers := []string{"Enter or [s]how", "[r]eject", "[l]ater"}
		if group.Level != changeset.Stop {
			answers = slices.Insert(answers, 1, "[a]pprove")
		}
		if shown {
			answers = slices.Delete(answers, 0, 1)
			answers[len(answers)-1] = "Enter or [l]ater"
		}
		waits := " of this kind wait:"
		if open+held == 1 {
			waits = " of this kind waits:"
		}
		said, err := g.ask(screen.Plural(open+held, "change")+waits, answers...)
		if err != nil {
			return err
		}
		switch {
		case said == "s" || said == "" && !shown:
			g.run(append([]string{"show", number, "--limit", "12"}, choice...)...)
			continue
		case said == "a":
			g.run(append([]string{"approve", number}, choice...)...)
		case said == "r":
			g.run(append([]string{"reject", number}, choice...)...)
		}
		return g.open(number)
	}
}

// rest asks about what is open besides. A delete is approved by its letter alone.
func (g *guide) rest(acts []changeset.Act, what string) error {
	open, _, err := g.waiting(changeset.Filter{Acts: acts})
	if err != nil || open == 0 {
		return err
	}
	number := g.t.Meta.Number
	var choice []string
	for _, act := range acts {
		choice = append(choice, "--act", act.String())
	}
	question := screen.Plural(open, "change") + " are open:"
	if what != "" {
		question = screen.Plural(open, what) + " are open:"
	}
	if open == 1 {
		question = strings.Replace(question, " are ", " is ", 1)
	}
	for shown := false; ; shown = true {
		answers := []string{"Enter or [s]how", "[a]pprove", "[r]eject", "[l]ater"}
		switch {
		case shown && what == "":
			answers = []string{"Enter or [a]pprove", "[r]eject", "[l]ater"}
		case shown:
			answers = []string{"[a]pprove", "[r]eject", "Enter or [l]ater"}
		}
		said, err := g.ask(question, answers...)
		if err != nil {
			return err
		}
		switch {
		case said == "s" || said == "" && !shown:
			g.run(append([]string{"show", number, "--decision", "open", "--limit", "30"}, choice...)...)
			continue
		case said == "a" || said == "" && what == "":
			g.run(append([]string{"approve", number}, append(choice, "--all")...)...)
		case said == "r":
			g.run(append([]string{"reject", number}, append(choice, "--all")...)...)
		}
		return g.open(number)
	}
}

// carry leads to the target: a trial, or all of it.
func (g *guide) carry(again bool) (more bool, err error) {
	number := g.t.Meta.Number
	if u, err := g.t.Unlooked(); err != nil || u.Changes > 0 {
		if err == nil {
			g.a.say.Line("")
			g.a.say.Line("%s", run.MissingLook(g.t, u))
			g.a.say.Line("then %s goes on", screen.Strong("paletwin guide "+number))
		}
		return false, err
	}
	command := []string{"apply", number}
	if !again {
		to, files, err := g.where()
		if err != nil {
			return false, err
		}
		if files {
			g.run("handoff", number)
			return true, nil
		}
		command = append(command, to...)
	}
	answers := []string{"[t]rial on five records", "[a]ll", "Enter or [r]ehearse"}
	if again {
		answers = []string{"[a]ll of the rest", "[t]rial on five more", "Enter or [r]ehearse"}
	}
	said, err := g.ask("Carry it out?", answers...)
	if err != nil {
		return false, err
	}
	switch said {
	case "t":
		command = append(command, "--first", "5")
	case "", "r":
		g.run(append(command, "--rehearse")...)
		return true, nil
	}
	before, err := run.Runs(g.t)
	if err != nil {
		return false, err
	}
	code := g.run(command...)
	after, err := run.Runs(g.t)
	if err != nil {
		return false, err
	}
	if len(after) == len(before) { // nothing was begun: it was said why, or the person said no
		if code == exitLook || code == 0 {
			return true, nil
		}
		return false, exit(code)
	}
	g.to = ""
	return true, nil
}

// where is where the records live, as apply takes it; files says that the system takes load files.
func (g *guide) where() (to []string, files bool, err error) {
	switch last := run.LastPlace(g.t); {
	case g.to != "":
		return []string{"--to", g.to}, false, nil
	case update.Known(g.t, nil) != "":
		return nil, false, nil
	case last != nil && !last.Handoff:
		g.a.say.Line("")
		g.a.say.Line("dossiers of these records went to %s", screen.Strong(g.a.shown(last.Target)))
		said, err := g.ask("There again?", "Enter or [y]es", "[n]o")
		if err != nil {
			return nil, false, err
		}
		if said != "n" {
			g.to = g.a.shown(last.Target)
			return []string{"--to", g.to}, false, nil
		}
	}
	g.a.say.Line("")
	g.a.say.Print("%s a file, a table's address, a name from desk.yaml; [f]iles, for a system that takes load files  [q]uit ", screen.Strong("Where do the records live?"))
	for {
		line, err := g.line()
		if err != nil {
			return nil, false, err
		}
		switch said := strings.TrimSpace(line); said {
		case "":
		case "f", "files":
			return nil, true, nil
		default:
			g.to = said
			return []string{"--to", said}, false, nil
		}
	}
}

// afterRun leads on from the last run.
func (g *guide) afterRun(s *run.Status, last *run.Record) (more bool, err error) {
	number := g.t.Meta.Number
	switch {
	case last.Head.Handoff:
		g.a.say.Line("")
		g.a.say.Line("the load files are written; what the system answers is read by %s", screen.Strong("paletwin handoff collect "+number+" RESULT"))
		return false, nil
	case last.Ended == "":
		if _, err := g.ask("The last run was interrupted.", "Enter or [f]inish it"); err != nil {
			return false, err
		}
		if code := g.run("apply", number, "--yes"); code == exitFailed {
			return false, exit(code)
		}
		return true, nil
	case last.Head.Left.Approved > 0:
		g.a.say.Line("")
		g.a.say.Line("%s are approved and not carried out yet; look at %s now, if you like", screen.Plural(last.Head.Left.Approved, "record"), g.a.shown(last.Head.Target))
		return g.carry(true)
	case s.Steps.Conflict > 0:
		return g.conflicts(s.Steps.Conflict)
	}
	return false, g.prove()
}

// conflicts asks what becomes of records that others changed.
func (g *guide) conflicts(n int) (bool, error) {
	number := g.t.Meta.Number
	g.a.say.Line("")
	g.a.say.Line("%s changed there meanwhile, and left alone: the outcomes say what stands there", screen.Plural(n, "record"))
	said, err := g.ask("What of them?", "Enter or [k]eep theirs", "[o]verwrite with what was meant")
	if err != nil {
		return false, err
	}
	if said != "o" {
		return false, g.prove()
	}
	if code := g.run("approve", number, "--overwrite-conflicts"); code != 0 {
		return false, exit(code)
	}
	if code := g.run("apply", number, "--overwrite-conflicts"); code == exitFailed || code == exitUsage {
		return false, exit(code)
	}
	if err := g.open(number); err != nil {
		return false, err
	}
	return false, g.prove()
}

// prove ends with the proof, and says what undoes it all.
func (g *guide) prove() error {
	number := g.t.Meta.Number
	code := g.run("verify", number)
	g.a.say.Line("")
	if code != 0 {
		return exit(code)
	}
	open, held, err := g.waiting(changeset.Filter{})
	if err != nil {
		return err
	}
	if open+held > 0 {
		g.a.say.Line("%s still wait for a decision, and are not lost: paletwin show %s", screen.Plural(open+held, "change"), number)
	}
	g.a.say.Line("done. %s undoes it, all or some records", screen.Strong("paletwin rollback "+number))
	return nil
}
