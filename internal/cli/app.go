// Package cli is the command line: flags, wording and exit codes. It
// computes nothing; each command calls the rooms below and says what came
// back.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	screen "paletwin/internal/term"
)

// Version is the version of paletwin.
const Version = "0.1.0"

// Exit codes, as SEMANTICS gives them.
const (
	exitFailed  = 1
	exitUsage   = 2
	exitLook    = 3 // needs a look: nothing was made, or something is left
	exitRefused = 4
)

// app is what the commands share.
type app struct {
	fs      disk.FS
	stdin   io.Reader
	stdout  io.Writer
	stderr  io.Writer
	environ []string
	args    []string // the command line
	wd      string
	now     func() time.Time
	user    string
	account account.Account
	asks    bool // a person sits there to be asked
	plain   bool // the console shows no colours

	// Global flags.
	json    bool
	quiet   bool
	noColor bool
	deskDir string
	set     string // of commands on a dossier: one of its record sets
	moved   bool   // another machine worked on the desk, and that is meant
	another bool   // of commands on a dossier that write: one in the place of another is meant

	tuned  map[*cobra.Command]*settings
	params []string // of a routine
	led    bool     // the guide runs the command, and says what is next

	made   bool       // a dossier was made
	writes bool       // the command writes on the desk
	dry    bool       // as if it did, that is: it rehearses, or makes no dossier
	at     *desk.Desk // once it was found

	ctx  context.Context // of the command
	ends []func()        // what is to be let go of when it has ended

	out *screen.Screen // results
	say *screen.Screen // progress, hints and errors
}

// Main runs the command line of this process and returns its exit code.
func Main() int {
	wd, err := os.Getwd()
	if err != nil {
		fmt.Fprintln(os.Stderr, "paletwin: the working folder cannot be told:", err)
		return exitFailed
	}
	a := &app{fs: fileSystem(), stdin: os.Stdin, stdout: os.Stdout, stderr: os.Stderr, environ: environ(), wd: wd, now: time.Now,
		asks: term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stderr.Fd()))}
	a.plain = !screen.Console(os.Stdout, os.Stderr)
	a.account = account.Current(a.env)
	a.user = a.account.Name
	ends := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // as nohup has it
		ends = append(ends, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ends...)
	defer stop()
	context.AfterFunc(ctx, func() {
		stop() // a second interrupt ends the process at once
		time.AfterFunc(patience, func() { os.Exit(a.fail(errCutShort)) })
	})
	return a.run(ctx, os.Args[1:])
}

// doubleClicked is what Windows shows to who opens the program with the mouse.
const doubleClicked = `Pale Twin is used by typing, and has no window of its own.

Open PowerShell in the folder in which paletwin.exe is (type powershell into the
folder's address bar and press Enter), and type

    .\paletwin demo

It shows the whole work on a made-up register. INSTALL.md beside the program says more.

`

// environ is the environment. What a terminal library would ask another program about is not in it: no program but this one is started.
func environ() []string {
	return slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "TMUX=") })
}

// patience is how long a command that was interrupted may take to end by
// itself. What it leaves half-done then is what a kill would leave, and what the
// next command makes good.
const patience = 700 * time.Millisecond

// errCutShort says that a command was ended in the middle of what it did.
var errCutShort = errors.New("interrupted in the middle of what was being done")

// faultError is a fault of the program itself.
type faultError struct {
	fault any
	stack []byte
}

func (e *faultError) Error() string { return fmt.Sprint(e.fault) }

// run runs one command line. A fault of the program ends it as other errors do, with 1: what it leaves is what a kill would leave.
func (a *app) run(ctx context.Context, args []string) (code int) {
	defer func() {
		if fault := recover(); fault != nil {
			code = a.fail(&faultError{fault, debug.Stack()})
		}
	}()
	a.args = args
	cobra.MousetrapHelpText, cobra.MousetrapDisplayDuration = doubleClicked, 0 // until Enter is pressed
	root := newRoot(a)
	root.SetArgs(args)
	root.SetIn(a.stdin)
	root.SetOut(screen.Gate(a.stdout))
	if len(args) > 0 && (args[0] == cobra.ShellCompRequestCmd || args[0] == cobra.ShellCompNoDescRequestCmd) {
		root.SetOut(a.stdout) // a shell reads it; what it is made of is safe, and has tabs
	}
	root.SetErr(screen.Gate(a.stderr))
	a.screens()
	a.ctx = ctx
	defer func() {
		for _, end := range a.ends {
			end()
		}
	}()
	cmd, err := root.ExecuteContextC(ctx)
	if err == nil {
		return 0
	}
	a.attempted(cmd)
	return a.fail(err)
}

// attempted marks that a command failed which was to make a dossier, so that "-"
// is not taken for an older one.
func (a *app) attempted(cmd *cobra.Command) {
	switch cmd.Name() {
	case "compare", "derive", "rollback", "restore":
	default:
		return
	}
	for _, f := range []string{"rehearse", "output"} { // none was to be made
		if cmd.Flags().Changed(f) {
			return
		}
	}
	if d, err := a.desk(); err == nil && !a.made {
		d.Attempt(a.user)
	}
}

// screens makes the screens, anew once the flags are known.
func (a *app) screens() {
	width := 140 // where there is no terminal, lines may be long
	if f, ok := a.stdout.(*os.File); ok {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			width = w
		}
	}
	a.out = screen.New(a.stdout, a.environ, width, a.noColor || a.plain)
	say := a.stderr
	a.say = screen.New(say, a.environ, width, a.noColor || a.plain)
}

func newRoot(a *app) *cobra.Command {
	root := &cobra.Command{
		Use:   "paletwin",
		Short: "Change many records at once, and be able to answer for it",
		Long: `Pale Twin compares an exported record snapshot with its edited copy, builds a
change set that can be reviewed and decided on, carries the approved changes out
with a backup before and a proof after, and can undo them.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          noSuchCommand,
		RunE: func(cmd *cobra.Command, args []string) error {
			return cmd.Help()
		},
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.screens()
			a.writes = writing(cmd)
			a.dry = cmd.Flags().Changed("rehearse")
			if cmd.Name() != "show" && cmd.Name() != "history" { // what writes goes on where nobody reads on
				signal.Ignore(syscall.SIGPIPE)
			}
			return a.tune(cmd)
		},
		CompletionOptions:          cobra.CompletionOptions{HiddenDefaultCmd: true},
		Version:                    Version,
		SuggestionsMinimumDistance: 2,
	}
	f := root.PersistentFlags()
	f.BoolVar(&a.json, "json", false, "print the whole result for machines")
	f.BoolVarP(&a.quiet, "quiet", "q", false, "leave out progress and hints")
	f.BoolVar(&a.noColor, "no-color", false, "leave out colours (NO_COLOR does the same)")
	f.StringVar(&a.deskDir, "desk", "", "the desk's `folder` (default: the nearest one upward)")
	f.BoolVar(&a.moved, "other-machine", false, "go on although another machine worked on the desk today")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		a.json = a.json || slices.Contains(a.args, "--json") // which may stand behind what is wrong
		return &usageError{err.Error() + a.settingHint(cmd, err.Error())}
	})
	onDossier := []*cobra.Command{newShow(a), newReview(a), newApprove(a), newHold(a), newReject(a), newReopen(a), newClose(a), newApply(a), newHandoff(a), newVerify(a), newRollback(a), newRestore(a), newHistory(a)}
	takesSet(a, onDossier...)
	for _, c := range onDossier {
		if writing(c) {
			c.PersistentFlags().BoolVar(&a.another, "other-dossier", false, "go on although the dossier is not the one that was made under its number")
		}
	}
	root.AddCommand(newDemo(a), newStandin(a), newDesk(a), newLayout(a), newTake(a), newLend(a), newCompare(a), newDerive(a), newGuide(a), newMan(a), newVersion(a))
	root.AddCommand(onDossier...)
	a.completes(root, onDossier)
	a.takeSettings(root, "")
	a.helps(root)
	return root
}

func noSuchCommand(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	text := fmt.Sprintf("there is no command %q", args[0])
	if s := cmd.SuggestionsFor(args[0]); len(s) > 0 {
		text += "; did you mean " + strings.Join(s, " or ") + "?"
	}
	return &usageError{text}
}

// usageError is a command line that cannot be carried out as it stands.
type usageError struct{ text string }

func (e *usageError) Error() string { return e.text }

func usage(format string, args ...any) error { return &usageError{fmt.Sprintf(format, args...)} }

// exactly asks for arguments by name: "NNNN" or "SNAPSHOT [EDITED]".
func exactly(low, high int, names string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < low {
			return usage("%s needs %s", cmd.CommandPath(), names)
		}
		if high >= 0 && len(args) > high {
			return usage("%s takes %s, and %q is one too many", cmd.CommandPath(), names, args[high])
		}
		return nil
	}
}

// exitError ends a command with an exit code, everything having been said.
type exitError struct{ code int }

func (e *exitError) Error() string { return fmt.Sprintf("exit %d", e.code) }

// exit returns the error that ends a command with the code, nil for 0.
func exit(code int) error {
	if code == 0 {
		return nil
	}
	return &exitError{code}
}

// fail says an error in words and returns the exit code.
func (a *app) fail(err error) int {
	var done *exitError
	if errors.As(err, &done) {
		return done.code
	}
	m := explain(err)
	if a.json {
		if b, err := screen.JSON(map[string]any{"error": m}); err == nil {
			_, _ = a.stderr.Write(b) // nothing is left to tell it to
		}
		return m.exit
	}
	a.say.Line("%s %s", screen.Strong("paletwin:"), m.Text)
	if m.Do != "" {
		a.say.Line("  %s", strings.ReplaceAll(m.Do, "\n", "\n  "))
	}
	return m.exit
}

// printJSON prints a result for machines.
func (a *app) printJSON(v any) error {
	b, err := screen.JSON(v)
	if err != nil {
		return err
	}
	if _, err = a.stdout.Write(b); !errors.Is(err, syscall.EPIPE) {
		return err
	}
	return nil // nobody reads on
}

// data is where values go as they are, to be kept: on a terminal they are seen, and pass the gate.
func (a *app) data() io.Writer {
	if f, ok := a.stdout.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return screen.Gate(a.stdout)
	}
	return a.stdout
}

// hint says what to do next, on the error output.
func (a *app) hint(format string, args ...any) {
	if !a.quiet && !a.json {
		a.say.Line(format, args...)
	}
}

// next names the next commands.
func (a *app) next(commands ...string) {
	if a.quiet || a.json || a.led {
		return
	}
	a.say.Line("")
	for i, c := range commands {
		word := "next"
		if i > 0 {
			word = "  or"
		}
		a.say.Line("%s  %s", screen.Dim(word), c)
	}
}

// desk finds the desk that the command works on.
func (a *app) desk() (*desk.Desk, error) {
	if a.at != nil {
		return a.at, nil
	}
	if a.writes && a.account.Machine == "" && a.account.ID != "" {
		a.account = account.OnMachine(a.env)
	}
	d, err := desk.Find(a.fs, a.account, a.deskDir, a.wd)
	if d != nil {
		a.fs = d.FS
		d.Password, d.Command = a.password(), strings.Join(append([]string{"paletwin"}, os.Args[1:]...), " ")
	}
	if err != nil {
		return d, err
	}
	if !a.writes {
		a.at = d
		return d, nil
	}
	notes, err := d.Enter(desk.Way{Moved: a.moved, Dry: a.dry, Quiet: a.quiet || a.json}, a.now())
	for _, n := range notes {
		a.hint("%s", screen.Safe(n))
	}
	if err != nil {
		return nil, err
	}
	a.at = d
	return d, nil
}

// writing reports whether a command writes on the desk.
func writing(cmd *cobra.Command) bool {
	for ; cmd.HasParent() && cmd.Parent().HasParent(); cmd = cmd.Parent() {
	}
	switch cmd.Name() {
	case cobra.ShellCompRequestCmd, cobra.ShellCompNoDescRequestCmd, "completion", "help":
		return false
	case "show", "history", "demo", "standin", "layout", "desk":
		return false
	}
	return true
}

// password is that of workbooks, from the environment: on the command line
// others could read it.
func (a *app) password() string { return a.env("PALETWIN_XLSX_PASSWORD") }

// env is a variable of the environment, "" where it is not set.
func (a *app) env(name string) string {
	for _, e := range a.environ {
		if v, ok := strings.CutPrefix(e, name+"="); ok {
			return v
		}
	}
	return ""
}

// secret asks for a database's password on a terminal; nil where there is none to ask.
func (a *app) secret() func(who string) (string, error) {
	in, ok := a.stdin.(*os.File)
	if !a.asks || !ok {
		return nil
	}
	return func(who string) (string, error) {
		a.say.Print("password for %s: ", screen.Safe(who))
		b, err := term.ReadPassword(int(in.Fd()))
		a.say.Line("")
		return string(b), err
	}
}

// dossier opens the dossier with the given name, which has one record set, or the one of several
// that is named.
func (a *app) dossier(name string) (*desk.Dossier, error) {
	t, err := a.whole(name)
	if err == nil && t.Several() {
		return nil, &whichSet{t}
	}
	return t, err
}

// opened opens the dossier with the given name; for "-" it says which.
func (a *app) opened(name string) (*desk.Dossier, error) {
	d, err := a.desk()
	if err != nil {
		return nil, err
	}
	t, err := d.Dossier(name, a.user)
	if err != nil {
		return nil, err
	}
	if a.writes {
		if err := t.Recognise(a.another, a.now()); err != nil {
			return nil, err
		}
		for _, file := range d.Conflicted(t) {
			a.hint("%s looks like what another machine wrote at the same time; what it has is not read", screen.Safe(a.shown(file)))
		}
	}
	if name == "-" {
		a.hint("%s", screen.Dim(fmt.Sprintf("dossier %s, %s", t.Meta.Number, screen.Safe(t.Meta.Title))))
	}
	parts, err := t.Parts()
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		beyond, err := p.Beyond()
		if err != nil {
			return nil, err
		}
		if len(beyond) > 0 && !run.Working(p) {
			for _, chain := range beyond {
				a.hint("%s", beyondWords(chain))
			}
		}
	}
	return t, nil
}

// path makes a name from the command line absolute.
func (a *app) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(a.wd, name)
}

// shown writes a path as short as it can be written from here.
func (a *app) shown(name string) string {
	if file, table, ok := strings.Cut(strings.TrimPrefix(name, "sqlite:"), "#"); ok && strings.HasPrefix(name, "sqlite:") {
		return "sqlite:" + a.shown(file) + "#" + table
	}
	if r, err := filepath.Rel(a.wd, name); err == nil && !strings.HasPrefix(r, "..") {
		return r
	}
	if target.Scheme(name) == "" {
		return filepath.FromSlash(name)
	}
	return name
}

// shellWord is a word as a shell takes it for one: in quotes where it has to be.
func shellWord(s string) string {
	plain := func(r rune) bool {
		return r > 127 || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.ContainsRune("_-./:=,+@%#", r)
	}
	if s != "" && !strings.HasPrefix(s, "#") && !strings.ContainsFunc(s, func(r rune) bool { return !plain(r) }) {
		return s
	}
	if !strings.ContainsAny(s, "\"$`\\!") {
		return `"` + s + `"`
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
