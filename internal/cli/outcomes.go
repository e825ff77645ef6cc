package cli

import (
	"paletwin/internal/run"
	screen "paletwin/internal/term"
)

// outcome is a line of what became of records.
type outcome struct {
	word   string
	n      int
	more   string // what the word means here
	always bool   // the line is there for none, too
}

// outcomes lists what became of records.
func (a *app) outcomes(all ...outcome) {
	tab := screen.Table{Indent: "  ", Right: []bool{false, true}, Heading: []string{"", "records"}}
	for _, o := range all {
		if o.n == 0 {
			o.more = ""
		}
		if o.n > 0 || o.always {
			tab.Row(o.word, screen.Strong(screen.Count(o.n)), screen.Dim(o.more))
		}
	}
	tab.Print(a.out)
}

// left are the outcomes of a run that wrote something else than was asked for.
func left(n run.Steps, settled, conflict, refused string) []outcome {
	return []outcome{{string(run.Settled), n.Settled, settled, false}, {string(run.Conflict), n.Conflict, conflict, false},
		{string(run.Refused), n.Refused, refused, false}, {string(run.Undone), n.Undone, "written, and taken back, since what belongs to it was not", false}, {string(run.Skipped), n.Skipped, "not attempted", false}}
}
