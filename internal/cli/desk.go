package cli

import (
	"cmp"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"paletwin/internal/desk"
	screen "paletwin/internal/term"
)

func newDesk(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "desk",
		Short: "List what the desk keeps: layouts, sources, selections, routines, targets, dossiers",
		Args:  exactly(0, 0, "nothing"),
		RunE:  func(*cobra.Command, []string) error { return a.listDesk() },
	}
}

// listDesk lists what the desk keeps under names, and its newest dossiers.
func (a *app) listDesk() error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	if d.New() {
		if a.json {
			return a.printJSON(map[string]any{"desk": nil, "kept": []any{}, "dossiers": 0})
		}
		a.out.Line("%s is no desk, and none above it is: the first dossier makes it one", screen.Safe(d.Dir))
		return nil
	}
	kept := d.Kept()
	names, err := d.Names()
	if err != nil {
		return err
	}
	if a.json {
		j := map[string]any{"desk": d.Dir, "name": d.Settings.Name, "shared": d.Settings.Shared, "kept": orEmpty(kept), "dossiers": len(names)}
		if n := len(names); n > 0 {
			j["newest"], _, _ = strings.Cut(names[n-1], "-")
		}
		return a.printJSON(j)
	}
	head := screen.Strong(screen.Safe(cmp.Or(d.Settings.Name, filepath.Base(d.Dir)))) + screen.Dim("  "+screen.Safe(d.Dir))
	if d.Settings.Shared != "" {
		head += screen.Dim("  shared with the group " + screen.Safe(d.Settings.Shared))
	}
	a.out.Line("%s", head)
	a.out.Line("")
	tab := screen.Table{Indent: "  "}
	a.keptRows(&tab, kept)
	newestRows(&tab, d, names[max(0, len(names)-newestShown):])
	if tab.Len() == 0 {
		a.out.Line("  nothing yet")
	}
	tab.Print(a.out)
	if n := len(names); n > newestShown {
		a.out.Line("  %s", screen.Dim(fmt.Sprintf("and %s before these", screen.Plural(n-newestShown, "dossier"))))
	}
	if len(names) > 0 {
		a.next("paletwin history")
	}
	return nil
}

// keptRows lists what is kept under names, each kind named once.
func (a *app) keptRows(tab *screen.Table, kept []desk.Kept) {
	kind := ""
	for _, k := range kept {
		label := ""
		if k.Kind != kind {
			kind, label = k.Kind, k.Kind+"s"
		}
		about := screen.Cut(screen.Safe(a.aboutKept(&k)), 70)
		if k.Broken != "" {
			about = screen.Level("stop") + " " + screen.Safe(k.Broken)
		}
		tab.Row(screen.Dim(label), screen.Strong(screen.Cut(screen.Safe(k.Name), 30)), screen.Dim(onDay(k.When)), about)
	}
}

// newestRows lists dossiers by their folders. One that cannot be opened says why.
func newestRows(tab *screen.Table, d *desk.Desk, names []string) {
	for i, name := range names {
		label := ""
		if i == 0 {
			label = "dossiers"
		}
		number, _, _ := strings.Cut(name, "-")
		t, err := d.Dossier(name, "")
		if err != nil {
			tab.Row(screen.Dim(label), screen.Strong(number), "", screen.Level("stop")+" "+screen.Safe(err.Error()))
			continue
		}
		m := t.Meta
		tab.Row(screen.Dim(label), screen.Strong(number), screen.Dim(onDay(m.When)), screen.Cut(screen.Safe(m.Title), 50)+screen.Dim(" by "+screen.Safe(m.By)))
	}
}

// onDay writes a day, nothing for none.
func onDay(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2 Jan 2006")
}

// newestShown is how many dossiers are listed beside what the desk keeps.
const newestShown = 5

// aboutKept is what is said of something kept; a place is written as short as it can be.
func (a *app) aboutKept(k *desk.Kept) string {
	switch {
	case k.Kind != "target":
		return k.About
	case k.Trial:
		return a.shown(k.To) + ", for trying"
	}
	return a.shown(k.To)
}
