package wear

import (
	"strings"

	"golang.org/x/text/unicode/norm"

	"paletwin/core/wear/learn"
)

// Alone reads a cell by what it shows alone, whatever became of its column. It
// returns false where that tells nothing.
//
//   - An error value that a program put there is no edit whose value could be
//     told.
//   - A text that starts with an equals sign is a formula to every program;
//     what it came to may stand there, or an edit: it is held.
//   - Letters that are composed otherwise are the same text (Unicode Standard
//     Annex 15); quotes and dashes that a program made typographic are held.
func Alone(snapshot, seen string) (Reading, bool) {
	switch {
	case snapshot == seen:
		return Reading{}, false
	case errorValue.MatchString(seen):
		return Reading{As: Unknown, Kind: ErrorValue}, true
	case len(snapshot) > 1 && snapshot[0] == '=' && !strings.HasPrefix(seen, "="):
		return Reading{As: Held, Kind: Formula}, true
	case strings.TrimPrefix(seen, "'") == snapshot && snapshot != "":
		return Reading{As: Held, Kind: Formula}, true
	case learn.ASCII(snapshot) && learn.ASCII(seen):
		return Reading{}, false
	case norm.NFC.String(snapshot) == norm.NFC.String(seen):
		return Reading{As: Snapshot, Kind: Unicode}, true
	case learn.PlainMarks.Replace(snapshot) == learn.PlainMarks.Replace(seen):
		return Reading{As: Held, Kind: Unicode}, true
	}
	return Reading{}, false
}
