package review

import (
	"context"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/internal/account"
	"paletwin/internal/demo"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

var update = flag.Bool("update", false, "write the golden screens anew")

var clock = time.Date(2026, 10, 6, 9, 20, 0, 0, time.UTC)

// matter opens the demo's autumn round, made into a dossier.
func matter(t testing.TB) *desk.Contents {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir))
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	l, err := d.FindLayout("aids")
	require.NoError(t, err)
	c := &desk.Comparison{Title: "Autumn round", By: "mairead", Now: clock, Layout: l,
		Snapshot: desk.Source{Path: filepath.Join(dir, "aids.csv"), Name: "aids.csv"}, Edited: &desk.Source{Path: filepath.Join(dir, "autumn-round.csv"), Name: "autumn-round.csv"},
		Options: compare.Options{RecordSet: "aids", Key: []string{"aid_no"}, Program: compare.Program{Wear: true, Year: 2026}, SlipSearch: compare.SlipSearch{Slips: compare.SlipsHold}}}
	dossier, _, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	m, err := dossier.Contents()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, m.Close()) })
	return m
}

func start(m *desk.Contents, by string, width, height int) *Model {
	r := New(m, Options{By: by, Now: func() time.Time { return clock }, Plain: true})
	r.Update(tea.WindowSizeMsg{Width: width, Height: height})
	return r
}

var special = map[string]tea.Key{"up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}, "enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape},
	"tab": {Code: tea.KeyTab}, "pgdown": {Code: tea.KeyPgDown}, "pgup": {Code: tea.KeyPgUp}, "home": {Code: tea.KeyHome}, "end": {Code: tea.KeyEnd}, "backspace": {Code: tea.KeyBackspace}}

// press types keys: words of special, or letters.
func press(r *Model, keys ...string) {
	for _, k := range keys {
		if s, ok := special[k]; ok {
			r.Update(tea.KeyPressMsg(s))
			continue
		}
		for _, c := range k {
			r.Update(tea.KeyPressMsg{Code: c, Text: string(c)})
		}
	}
}

// golden compares a screen with the one that is kept.
func golden(t *testing.T, name string, r *Model) {
	file := filepath.Join("testdata", name+".txt")
	got := r.View().Content + "\n"
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

func TestScreens(t *testing.T) {
	t.Setenv("TZ", "UTC")
	m := matter(t)
	r := start(m, "lina", 80, 24)
	golden(t, "first-80x24", r)
	press(r, "f")
	golden(t, "finding-80x24", r)
	r = start(m, "lina", 130, 40)
	press(r, "down", "down", "down") // the deletions
	golden(t, "deletions-130x40", r)
	press(r, "e", "new.service_fee > old.service_fee * 2", "enter")
	golden(t, "where-130x40", r)
	press(r, "?")
	golden(t, "keys-130x40", r)
	r = start(m, "lina", 59, 24)
	golden(t, "narrow", r)
}

// A decision is on disk at once; undo brings back what stood; and a group is
// asked about first.
func TestDecidingAndUndoing(t *testing.T) {
	m := matter(t)
	r := start(m, "lina", 100, 30)
	stands := func() counts {
		c, err := m.Dossier.Changes()
		require.NoError(t, err)
		defer c.Close()
		var n counts
		for ch, err := range c.Changes() {
			require.NoError(t, err)
			lines, err := c.Find(ch.ID.String(), 1)
			require.NoError(t, err)
			for _, s := range c.Ledger.States(lines[0], ch) {
				switch s.Decision {
				case changeset.Approve:
					n.approved++
				case changeset.Hold:
					n.held++
				case changeset.Reject:
					n.rejected++
				default:
					n.open++
				}
			}
		}
		return n
	}
	require.Equal(t, counts{open: 87, held: 6}, stands())
	press(r, "right", "n", "as agreed", "enter", "a")
	assert.Equal(t, counts{open: 86, approved: 1, held: 6}, stands())
	assert.Equal(t, "as agreed", r.state(0).Note)
	assert.Equal(t, 1, r.at, "the cursor goes on to the next")
	press(r, "r")
	assert.Equal(t, counts{open: 85, approved: 1, held: 6, rejected: 1}, stands())
	press(r, "left", "a")
	assert.Equal(t, confirming, r.ask)
	assert.Contains(t, r.View().Content, "approve 85 of all changes? y / n")
	press(r, "n")
	assert.Equal(t, counts{open: 85, approved: 1, held: 6, rejected: 1}, stands())
	press(r, "a", "y")
	assert.Equal(t, counts{approved: 86, held: 6, rejected: 1}, stands())
	press(r, "z")
	assert.Equal(t, counts{open: 85, approved: 1, held: 6, rejected: 1}, stands())
	press(r, "z", "z", "z")
	assert.Equal(t, counts{open: 87, held: 6}, stands(), "the tool's holds come back, too")
	assert.Equal(t, "nothing to undo", r.said)

	// A finding is decided as a group, held as it is; what is stopped is not
	// approved.
	for r.groups[r.group].label != "fill-overrun" {
		press(r, "down")
	}
	press(r, "r", "y")
	assert.Equal(t, counts{open: 87, held: 5, rejected: 1}, stands())
	for r.groups[r.group].label != "value-required" {
		press(r, "up")
	}
	press(r, "a", "y")
	assert.Contains(t, r.said, "1 cannot be approved")
	press(r, "right", "u")
	assert.Equal(t, "value-required", codes(r.state(r.current()))[0])
}

// Two reviewers do not write over each other.
func TestTwoReviewers(t *testing.T) {
	m := matter(t)
	other, err := m.Dossier.Desk().Dossier(m.Dossier.Meta.Number, "")
	require.NoError(t, err)
	second, err := other.Contents()
	require.NoError(t, err)
	defer second.Close()
	one, two := start(m, "lina", 100, 30), start(second, "petr", 100, 30)
	press(one, "right", "a", "a")
	press(two, "right", "down", "down", "r")
	two.Update(tick{})
	one.Update(tick{})
	assert.Equal(t, one.all(), two.all())
	assert.Equal(t, counts{open: 84, approved: 2, held: 6, rejected: 1}, one.all())
	assert.Equal(t, "petr", one.state(2).By)
	assert.Contains(t, one.said, "somebody else decided")
}

// Whatever is typed, the counts add up, the screen fits, and nothing steers
// the terminal.
func TestAnyKeysKeepTheScreenWhole(t *testing.T) {
	m := matter(t)
	keys := []string{"up", "down", "left", "right", "enter", "esc", "tab", "pgdown", "pgup", "home", "end", "backspace", "a", "h", "r", "o", "A", "H", "R", "O", "z", "n", "u", "f", "/", "e", "?", "[", "]", "y", "x", "D07", "new.status == \"withdrawn\""}
	rapid.Check(t, func(t *rapid.T) {
		r := start(m, "lina", 100, 30)
		for range rapid.IntRange(1, 25).Draw(t, "keys") {
			switch rapid.IntRange(0, 9).Draw(t, "what") {
			case 0:
				r.Update(tea.WindowSizeMsg{Width: rapid.IntRange(1, 200).Draw(t, "width"), Height: rapid.IntRange(1, 60).Draw(t, "height")})
			case 1:
				r.Update(tea.MouseClickMsg{X: rapid.IntRange(0, 120).Draw(t, "x"), Y: rapid.IntRange(0, 40).Draw(t, "y")})
			case 2:
				r.Update(tea.MouseWheelMsg{X: rapid.IntRange(0, 120).Draw(t, "x"), Y: rapid.IntRange(0, 40).Draw(t, "y"), Button: tea.MouseWheelDown})
			default:
				press(r, rapid.SampledFrom(keys).Draw(t, "key"))
			}
			require.NoError(t, r.failed)
			n := r.all()
			require.Equal(t, len(r.units), n.open+n.approved+n.held+n.rejected)
			lines := strings.Split(r.View().Content, "\n")
			require.LessOrEqual(t, len(lines), max(r.height, 1))
			for _, l := range lines {
				require.NotContains(t, l, "\x1b")
				if r.width >= fewestWide && r.height >= fewestLines {
					require.LessOrEqual(t, ansi.StringWidth(l), r.width)
				}
			}
		}
	})
}
