package handoff

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strings"

	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/term"
)

// Part is the hand-off of one of several record sets.
type Part struct {
	Set     string
	Dossier string // its number
	Dir     string // of its files
	Loads   []target.Load
	ByHand  int
	Run     string // how a script is run; "" of other forms
}

// setLoad is a file of one of several sets.
type setLoad struct {
	target.Load
	set  int
	name string
}

// ReadMeOf writes the README of a hand-off of several record sets, which are in an order in which those
// that are referred to come first. Their files stand in a folder each, by the sets' names. First of all is
// loaded what is added, in that order, then what is amended, and at last what is deleted, the other way round.
func ReadMeOf(fsys disk.FS, file, dossier, title string, parts []*Part) error {
	_, err := disk.WriteUnsummed(fsys, file, 0o600, func(w io.Writer) error {
		_, err := io.WriteString(w, term.SafeLines(readMeOf(dossier, title, parts)))
		return err
	})
	return err
}

func readMeOf(dossier, title string, parts []*Part) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("Hand-off of dossier %s, %d record sets: %s", dossier, len(parts), strings.Join(strings.Fields(title), " "))
	line("")
	line("Load these files in this order, each into what its folder names. Each should report so many records:")
	line("")
	listAll(&b, parts, true)
	line("")
	line("Then say what was answered, set by set, and prove it with fresh exports:")
	line("")
	for _, p := range parts {
		line("  paletwin handoff collect %s RESULT", p.Dossier)
	}
	line("  paletwin verify %s FOLDER-OF-FRESH-EXPORTS", dossier)
	line("")
	line("To undo exactly this, if nothing else has changed since, load these in this order:")
	line("")
	listAll(&b, parts, false)
	for _, p := range parts {
		if p.ByHand > 0 {
			line("")
			line("  and by hand what %s/%s/%s lists, with the reason (%d).", p.Set, Back, ByHandName, p.ByHand)
		}
	}
	line("")
	line("If a file is refused, load none behind it that names its records: those of the same new record")
	line("belong together. The README of each folder says more of its files.")
	for _, p := range parts {
		if p.Run != "" {
			line("")
			line("Run each script with")
			line("  %s", p.Run)
			break
		}
	}
	return b.String()
}

// listAll lists the files of all parts in the order in which they are loaded.
func listAll(b *strings.Builder, parts []*Part, forward bool) {
	var all []setLoad
	width := 0
	for i, p := range parts {
		for _, l := range p.Loads {
			if l.Forward() == forward {
				name := p.Set + "/" + l.Name
				all, width = append(all, setLoad{l, i, name}), max(width, len([]rune(name)))
			}
		}
	}
	slices.SortStableFunc(all, func(x, y setLoad) int {
		if c := cmp.Compare(x.turn(), y.turn()); c != 0 {
			return c
		}
		if x.turn() == deleted {
			return cmp.Compare(y.set, x.set)
		}
		return cmp.Compare(x.set, y.set)
	})
	if len(all) == 0 {
		fmt.Fprintln(b, "  nothing")
	}
	for _, l := range all {
		fmt.Fprintf(b, "  %-*s  %7d  %s\n", width, l.name, l.Records, l.Acts)
	}
}

const deleted = 2

// turn is when a file is loaded: what adds comes first, what deletes alone at last.
func (l *setLoad) turn() int {
	switch acts := strings.Split(l.Acts, ","); {
	case slices.Contains(acts, "add"):
		return 0
	case slices.Contains(acts, "amend"):
		return 1
	}
	return deleted
}
