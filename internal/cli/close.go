package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"paletwin/internal/desk"
	"paletwin/internal/run"
	screen "paletwin/internal/term"
)

func newClose(a *app) *cobra.Command {
	var note string
	cmd := &cobra.Command{
		Use:   "close NNNN",
		Short: "Put a dossier away: it is not carried out, and - is another one",
		Example: `  paletwin close 0003 --note "done by hand"
  paletwin reopen 0003`,
		Args: exactly(1, 1, "a dossier"),
		RunE: func(_ *cobra.Command, args []string) error { return a.close(args[0], note) },
	}
	cmd.Flags().StringVar(&note, "note", "", "why: a `text` for those who ask later")
	return cmd
}

func (a *app) close(name, note string) error {
	t, err := a.whole(name)
	if err != nil {
		return err
	}
	parts, err := t.Parts()
	if err != nil {
		return err
	}
	for _, p := range parts {
		if err := run.Finished(p); err != nil {
			return err
		}
	}
	n := t.Whole().Meta.Number
	if c, err := t.Closed(); err != nil || c != nil {
		if err == nil && !a.json {
			a.out.Line("%s is closed already, %s", n, closedWords(c))
		}
		return err
	}
	if err := t.Close(&desk.Closed{By: a.user, When: a.now(), Note: note}); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]any{"dossier": n, "closed": true})
	}
	a.out.Line("closed %s  %s", screen.Strong(n), screen.Safe(t.Whole().Meta.Title))
	a.next("paletwin reopen "+n+"   (to bring it back)", "paletwin history --open")
	return nil
}

// closedWords says who closed a dossier, and when.
func closedWords(c *desk.Closed) string {
	return fmt.Sprintf("by %s on %s", screen.Safe(c.By), c.When.Local().Format("2 January 2006")) + quoted(c.Note)
}

// bringBack opens a dossier that was closed; was reports whether it was one.
func (a *app) bringBack(name string) (was bool, err error) {
	t, err := a.whole(name)
	if err != nil {
		return false, err
	}
	c, err := t.Closed()
	if err != nil || c == nil {
		return false, err
	}
	if err := t.Reopen(); err != nil {
		return true, err
	}
	n := t.Whole().Meta.Number
	if a.json {
		return true, a.printJSON(map[string]any{"dossier": n, "closed": false})
	}
	a.out.Line("open again  %s  %s", screen.Strong(n), screen.Safe(t.Whole().Meta.Title))
	a.next("paletwin show " + n)
	return true, nil
}
