// Package demo holds the world of the examples, Saltreach Harbour Authority
// and its register of navigation aids, and the story of its autumn round.
package demo

import (
	"embed"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

//go:generate go run ./gen data

//go:embed data/*.csv data/layouts/*.yaml
var data embed.FS

// User is who tells the story: the registrar.
const User = "mairead"

// Start is when the story's first command is typed.
var Start = time.Date(2026, 10, 6, 9, 12, 0, 0, time.UTC)

// Write writes the demo's files into a folder.
func Write(dir string) error {
	files, err := fs.Sub(data, "data")
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, files); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "desk.yaml"), []byte("# The demo's desk.\nname: Saltreach Harbour Authority\n"), 0o600)
}

// Step is one command of the story, and what is said before it.
type Step struct {
	Say  string
	Args []string
	Exit int                    // the exit code that belongs to the story
	Do   func(dir string) error // what others do before it, in the demo's folder; nil is nothing
}

// Story is the autumn round.
func Story() []Step {
	return []Step{
		{Say: "The registrar took a snapshot of the register (aids.csv), edited a copy in a spreadsheet (autumn-round.csv) and now compares the two. The layout says what the records are.",
			Args: []string{"compare", "aids.csv", "autumn-round.csv", "--title", "Autumn round"}},
		{Say: "The spreadsheet took codes for dates, dropped zeros and wrote TRUE for true. None of that is an edit, and none of it is proposed.",
			Args: []string{"show", "0001", "--wear", "--limit", "6"}},
		{Say: "What will change? First the nine aids that go from depot D03 to D07.",
			Args: []string{"show", "0001", "--field", "depot"}},
		{Say: "There are eleven: the fill went one row too far, and one depot does not exist. Neither goes in.",
			Args: []string{"reject", "0001", "--finding", "fill-overrun", "--note", "filled one row too far"}},
		{Args: []string{"reject", "0001", "--finding", "near-miss", "--note", "D07 was meant; comes with the next round"}},
		{Say: "One fee was typed without its point.",
			Args: []string{"reject", "0001", "--finding", "factor", "--note", "286.62 was meant; comes with the next round"}},
		{Say: "And a status was emptied by mistake. One look at the record: it stays as it is.",
			Args: []string{"show", "0001", "--record", "00410"}},
		{Args: []string{"reject", "0001", "--finding", "blank", "--note", "emptied by mistake"}},
		{Say: "Two aids were struck off the register on purpose: their deletes are approved by name.",
			Args: []string{"approve", "0001", "--act", "delete", "--held", "--note", "struck off, minutes of 1 October"}},
		{Say: "The rest is as it should be.",
			Args: []string{"approve", "0001", "--all", "--note", "autumn round"}},
		{Say: "A trial on the first five records.",
			Args: []string{"apply", "0001", "--to", "register.csv", "--first", "5", "--yes"}},
		{Say: "Then the rest. Meanwhile a colleague changed two of the aids in the register: they are left alone.",
			Args: []string{"apply", "0001", "--yes"}, Exit: 3},
		{Say: "Three of the handed-over aids were wrong after all: undo just those.",
			Args: []string{"rollback", "0001", "--record", "00244", "--record", "00252", "--record", "00261", "--field", "depot", "--apply", "--yes"}},
		{Say: "What was done, by whom, when.",
			Args: []string{"history"}},
	}
}
