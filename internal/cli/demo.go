package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paletwin/internal/demo"
	"paletwin/internal/standin"
	screen "paletwin/internal/term"
)

func newDemo(a *app) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Make a folder with the demo's register and run the whole example in it",
		Args:  exactly(0, 1, "at most a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.demo(cmd.Context(), args, "the autumn round of Saltreach Harbour Authority", demo.Story())
		},
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "database [DIR]",
		Short: "The same where the register is in a database; it needs no server",
		Args:  exactly(0, 1, "at most a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.demo(cmd.Context(), args, "the register of Saltreach Harbour Authority in a database", demo.DatabaseStory(), demo.WriteDatabase)
		},
	})
	cmd.AddCommand(&cobra.Command{
		Use:   "service [DIR]",
		Short: "The same where the register is behind a web service, which the stand-in plays",
		Args:  exactly(0, 1, "at most a folder"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.demoService(cmd.Context(), args)
		},
	})
	return cmd
}

// demoService tells the story against a stand-in that it serves.
func (a *app) demoService(ctx context.Context, args []string) error {
	l, err := net.Listen("tcp", "127.0.0.1:8099")
	if err != nil {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return err
	}
	defer l.Close()
	ctx, end := context.WithCancel(ctx)
	served := make(chan error, 1)
	serve := func(dir string) error {
		if err := demo.WriteService(dir); err != nil {
			return err
		}
		world, err := standin.Load(ctx, a.fs, filepath.Join(dir, demo.ServiceDir), nil)
		if err != nil {
			return err
		}
		moods, err := a.moodsOf(&standinFlags{page: 100, mood: demo.ServiceMoods})
		if err != nil {
			return err
		}
		s, _, err := standin.Open(ctx, world, "", false, standin.Options{Page: 100, Moods: moods, Now: func() time.Time { return demo.Start }})
		if err != nil {
			return err
		}
		go func() {
			defer s.Close()
			served <- a.serve(ctx, l, s, &standinFlags{})
		}()
		return nil
	}
	err = a.demo(ctx, args, "the register of Saltreach Harbour Authority behind a web service", demo.ServiceStory("http://"+l.Addr().String()+"/"), serve)
	end()
	if err != nil {
		return err
	}
	return <-served
}

// demo makes the folder, with what more belongs into it, and tells the story.
func (a *app) demo(ctx context.Context, args []string, title string, story []demo.Step, more ...func(dir string) error) error {
	dir, err := a.demoDir(args)
	if err != nil {
		return err
	}
	for _, write := range append([]func(string) error{demo.Write}, more...) {
		if err := write(dir); err != nil {
			return err
		}
	}
	a.out.Line("%s", screen.Strong("Pale Twin: "+title))
	a.out.Line("%s", screen.Dim("in "+a.shown(dir)))
	now := demo.Start
	for _, step := range story {
		now = now.Add(4 * time.Minute)
		a.out.Line("")
		if step.Say != "" {
			a.out.Line("%s", step.Say)
		}
		if step.Do != nil {
			if err := step.Do(dir); err != nil {
				return err
			}
		}
		if err := a.tell(ctx, dir, now, step); err != nil {
			return err
		}
	}
	a.out.Line("")
	a.out.Line("The folder is yours to go on with: %s", a.shown(dir))
	return nil
}

// tell types a command of the story, and runs it.
func (a *app) tell(ctx context.Context, dir string, now time.Time, step demo.Step) error {
	a.out.Line("%s", screen.Strong("$ paletwin "+commandLine(step.Args)))
	teller := &app{fs: a.fs, stdin: a.stdin, stdout: a.stdout, stderr: a.stdout, environ: a.environ, wd: dir,
		now: func() time.Time { return now }, user: demo.User}
	args := step.Args
	if a.noColor {
		args = append([]string{"--no-color"}, args...)
	}
	code := teller.run(ctx, args)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if code != step.Exit {
		return fmt.Errorf("paletwin %s ended with %d instead of %d", step.Args[0], code, step.Exit)
	}
	return nil
}

// demoDir makes the demo's folder: the one that was named, which must be new
// or empty, or the first free of paletwin-demo, paletwin-demo-2 …
func (a *app) demoDir(args []string) (string, error) {
	if len(args) == 1 {
		dir := a.path(args[0])
		entries, err := os.ReadDir(dir)
		if err == nil && len(entries) > 0 {
			return "", usage("%s is not empty; name a new folder for the demo", args[0])
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return "", err
		}
		return dir, os.MkdirAll(dir, 0o755)
	}
	for n := 1; ; n++ {
		dir := filepath.Join(a.wd, "paletwin-demo")
		if n > 1 {
			dir += fmt.Sprintf("-%d", n)
		}
		err := os.Mkdir(dir, 0o755)
		if !errors.Is(err, os.ErrExist) {
			return dir, err
		}
	}
}

// commandLine writes arguments as they would be typed.
func commandLine(args []string) string {
	words := make([]string, len(args))
	for i, arg := range args {
		words[i] = shellWord(arg)
	}
	return strings.Join(words, " ")
}
