package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// guided leads through an update of the demo's files with answers by what is asked, and returns what was shown.
func guided(t *testing.T, dir string, answers func(asked string) string, args ...string) (string, int) {
	t.Helper()
	return answering(t, program, dir, []string{"NO_COLOR=1", "TERM=dumb"}, answers, append([]string{"guide"}, args...)...)
}

// harbourFiles are the demo's files in a folder, with the register as the snapshot.
func harbourFiles(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../internal/demo/data")))
	b, err := os.ReadFile(filepath.Join(dir, "aids.csv"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "register.csv"), b, 0o600))
	return dir
}

// Enter at every question approves nothing that is held, and no delete.
func TestEnterApprovesNothingThatIsHeld(t *testing.T) {
	dir := harbourFiles(t)
	out, code := guided(t, dir, func(asked string) string {
		if strings.Contains(asked, "Carry it out?") {
			return "q"
		}
		return ""
	}, "aids.csv", "autumn-round.csv", "--to", "register.csv")
	require.Zero(t, code, out)
	assert.Contains(t, out, "$ paletwin compare aids.csv autumn-round.csv")
	assert.Contains(t, out, "$ paletwin approve 0001 --act amend --act add --all")
	assert.Contains(t, out, "left here, and nothing is lost: paletwin guide 0001 goes on")
	deletes, _ := command(t, program, dir, nil, "show", "1", "--act", "delete", "--decision", "approve", "--json")
	assert.Empty(t, deletes)
	held, _ := command(t, program, dir, nil, "show", "1", "--finding", "fill-overrun", "--decision", "approve", "--json")
	assert.Empty(t, held)
	approved, _ := command(t, program, dir, nil, "show", "1", "--decision", "approve", "--json")
	assert.NotEmpty(t, approved)
}

// A delete that is open waits for its letter: Enter, as often as it is pressed, does not approve it.
func TestEnterApprovesNoDelete(t *testing.T) {
	dir := t.TempDir()
	text := func(rows int, value string) string {
		s := "k,v\n"
		for n := range rows {
			s += fmt.Sprintf("%d,%s\n", n, value)
		}
		return s
	}
	for name, s := range map[string]string{"a.csv": text(30, "x"), "b.csv": text(29, "x") + "40,y\n", "register.csv": text(30, "x")} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(s), 0o600))
	}
	out, code := command(t, program, dir, nil, "compare", "a.csv", "b.csv", "--key", "k", "--missing", "delete")
	require.Zero(t, code, out)
	deletes := false
	out, code = guided(t, dir, func(asked string) string {
		deletes = deletes || strings.Contains(asked, "1 delete is open")
		if strings.Contains(asked, "Carry it out?") || strings.Contains(asked, "Where do the records live?") {
			return "q"
		}
		return ""
	}, "-")
	require.Zero(t, code, out)
	assert.True(t, deletes, "%s", out)
	said, _ := command(t, program, dir, nil, "show", "1", "--decision", "approve", "--json")
	assert.Contains(t, said, `"act":"add"`)
	assert.NotContains(t, said, `"act":"delete"`)
}

// From two files to the proof, left twice on the way.
func TestGuideLeadsToTheProof(t *testing.T) {
	dir := harbourFiles(t)
	out, code := guided(t, dir, func(string) string { return "q" }, "aids.csv", "autumn-round.csv")
	require.Zero(t, code, out)
	out, code = guided(t, dir, func(asked string) string {
		switch {
		case strings.Contains(asked, "of this kind"):
			return "r"
		case strings.Contains(asked, "are open"):
			return "a"
		}
		return "q"
	}, "-")
	require.Zero(t, code, out)
	assert.Contains(t, out, "$ paletwin reject 0001 --finding fill-overrun")
	tried := false
	out, code = guided(t, dir, func(asked string) string {
		switch {
		case strings.Contains(asked, "Where do the records live?"):
			return "register.csv"
		case strings.Contains(asked, "Carry it out?") && !tried:
			tried = true
			return "t"
		case strings.Contains(asked, "Carry it out?"):
			return "a"
		case strings.Contains(asked, "[y/N]"):
			return "y"
		}
		return ""
	}, "-")
	require.Zero(t, code, out)
	assert.Contains(t, out, "$ paletwin apply 0001 --to register.csv --first 5")
	assert.Contains(t, out, "$ paletwin apply 0001\n")
	assert.Contains(t, out, "$ paletwin verify 0001")
	assert.Contains(t, out, "done. paletwin rollback 0001 undoes it")
	_, code = command(t, program, dir, nil, "verify", "1")
	assert.Zero(t, code)
}

// Where nothing differs there is nothing to lead through, and an older dossier is not taken for it.
func TestGuideOfNothing(t *testing.T) {
	dir := harbourFiles(t)
	out, code := guided(t, dir, func(string) string { return "q" }, "aids.csv", "autumn-round.csv")
	require.Zero(t, code, out)
	out, code = guided(t, dir, func(string) string { return "a" }, "aids.csv", "aids.csv", "--to", "register.csv")
	require.Zero(t, code, out)
	assert.Contains(t, out, "nothing changes, and no dossier is made of that")
	assert.NotContains(t, out, "$ paletwin approve")
}

// In a script nobody is led.
func TestGuideIsNeverInAScript(t *testing.T) {
	dir := harbourFiles(t)
	out, code := command(t, program, dir, nil, "guide", "aids.csv", "autumn-round.csv")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "guide leads a person at a terminal")
	out, code = command(t, program, dir, nil, "guide", "-", "--json")
	assert.Equal(t, 2, code, out)
	assert.NoDirExists(t, filepath.Join(dir, "dossiers"))
}
