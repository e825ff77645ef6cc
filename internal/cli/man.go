package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"

	screen "paletwin/internal/term"
)

func newMan(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "man FOLDER",
		Short: "Write the manual pages of all commands into a folder",
		Example: `  paletwin man man1
  man -l man1/paletwin-compare.1`,
		Args: exactly(1, 1, "a folder"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.man(cmd.Root(), args[0]) },
	}
}

// man writes a page for each command.
func (a *app) man(root *cobra.Command, folder string) error {
	dir := a.path(folder)
	if err := a.fs.Mkdir(dir); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	for cmd, s := range a.tuned {
		cmd.Long = strings.TrimRight(cmd.Long+"\n\n"+cmd.Short, "\n") + "\n\n" + s.manual()
	}
	header := &doc.GenManHeader{Title: "PALETWIN", Section: "1", Source: "Pale Twin " + Version, Manual: "Pale Twin",
		Date: thisBuild().When} // without one the library asks SOURCE_DATE_EPOCH, and else the clock
	root.DisableAutoGenTag = true
	if err := doc.GenManTree(root, header, dir); err != nil {
		return err
	}
	entries, err := a.fs.ReadDir(dir)
	if err != nil {
		return err
	}
	a.out.Line("%s  %s", screen.Strong(folder), screen.Plural(len(entries), "page"))
	return nil
}

// manual is the settings' part of a page, in Markdown.
func (s *settings) manual() string {
	var b strings.Builder
	b.WriteString("# SETTINGS\nSaid as **--with** *NAME=VALUE*; a target in desk.yaml may carry them.\n\n")
	s.set.VisitAll(func(f *pflag.Flag) {
		value, use := pflag.UnquoteUsage(f)
		name := "**" + f.Name + "**"
		if value != "" && f.Value.Type() != "bool" {
			name += "=*" + value + "*"
		}
		fmt.Fprintf(&b, "%s\n\t%s\n\n", name, use)
	})
	return b.String()
}
