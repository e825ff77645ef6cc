package handoff

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"paletwin/internal/disk"
	"paletwin/internal/target"
	"paletwin/internal/term"
)

// readMe says in which order to load what, what each file should report, and
// what to do then.
func (s *System) readMe(name string, byHand int) (disk.Written, error) {
	return disk.WriteFile(s.FS, name, 0o600, func(w io.Writer) error {
		_, err := io.WriteString(w, term.SafeLines(s.readMeText(byHand)))
		return err
	})
}

func (s *System) readMeText(byHand int) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	title := strings.Join(strings.Fields(s.Title), " ")
	line("Hand-off of dossier %s, run %d: %s", s.Dossier, s.run, title)
	line("")
	line("Load these files into %s, in this order. Each should report so many records:", s.Set)
	line("")
	s.list(&b, Forward)
	line("")
	line("Then say what it answered, and prove it with a fresh export:")
	line("")
	line("  paletwin handoff collect %s RESULT", s.Dossier)
	line("  paletwin verify %s FRESH-EXPORT", s.Dossier)
	line("")
	line("To undo exactly this, if nothing else has changed since, load these in this order:")
	line("")
	s.list(&b, Back)
	if byHand > 0 {
		line("")
		line("  and by hand what %s/%s lists, with the reason (%d).", Back, ByHandName, byHand)
	}
	line("")
	line("Where others may have worked on the records since, or only some were done, let")
	line("  paletwin rollback %s --current FRESH-EXPORT", s.Dossier)
	line("make a dossier of what is to be undone; it leaves alone what others changed.")
	for _, more := range s.notes() {
		line("")
		line("%s", more)
	}
	return b.String()
}

// list lists the load files of a folder.
func (s *System) list(b *strings.Builder, folder string) {
	width := 0
	var files []target.Load
	for _, l := range s.loads {
		if strings.HasPrefix(l.Name, folder+"/") {
			files = append(files, l)
			width = max(width, len([]rune(l.Name)))
		}
	}
	if len(files) == 0 {
		fmt.Fprintln(b, "  nothing")
	}
	for _, l := range files {
		fmt.Fprintf(b, "  %-*s  %7d  %s\n", width, l.Name, l.Records, l.Acts)
	}
}

// RunScript is how a script is run, so that no client takes anything in it for
// itself; "" for other forms.
func (s *System) RunScript() string { return dialects[s.Dialect].run }

// notes say what is special about the form.
func (s *System) notes() []string {
	switch s.Form {
	case SQL:
		note := "Each file is one transaction: unless every record is still as it was exported, it names those that are\n" +
			"not (\"" + movedWords + "…\"), changes nothing and ends with an error about paletwin_check. Else it says\n" +
			"\"" + carriedOutWords + "\" and their number. Run it with\n  " + s.RunScript()
		if s.Dialect == MariaDB {
			note += "\nThe table must be transactional (InnoDB is)."
		}
		return []string{note}
	case JSONPatch:
		return []string{"Each line is one record: its act, its key, and the patch of its document (RFC 6902).\nThe patch of an addition makes the document, that of a deletion removes it."}
	case JSON:
		return []string{"Each file is an array of records: of each its key and the members that change. null empties a field."}
	case JSONL:
		return []string{"Each line is one record: its key and the members that change. null empties a field."}
	}
	notes := s.clears()
	if s.Shape == Sparse {
		notes = append(notes, "An empty cell leaves the field as it is.")
	}
	return notes
}

// clears says what empties a field, where any of the amends sends it.
func (s *System) clears() []string {
	var notes []string
	fields := map[string][]string{}
	for _, l := range s.loads {
		for _, f := range l.Fields {
			if w := s.word(f); strings.Contains(l.Acts, "amend") && w.Clear != "" && !slices.Contains(fields[w.Clear], w.Heading) {
				fields[w.Clear] = append(fields[w.Clear], w.Heading)
			}
		}
	}
	for _, sign := range slices.Sorted(maps.Keys(fields)) {
		where := ""
		if len(fields) > 1 {
			where = " in " + strings.Join(fields[sign], ", ")
		}
		notes = append(notes, fmt.Sprintf("A cell with %s%s empties the field.", sign, where))
	}
	return notes
}
