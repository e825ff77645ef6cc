//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/thorough"
)

// place is where a text stands in a line of JSON, its quotes included.
type place struct{ line, from, to int }

// texts finds the values that are texts, not the names of members.
func texts(t *testing.T, lines [][]byte) (all []place) {
	t.Helper()
	for n, line := range lines {
		d := jsontext.NewDecoder(bytes.NewReader(line))
		for {
			kind := d.PeekKind()
			if kind == 0 {
				break
			}
			before := d.InputOffset()
			_, err := d.ReadToken()
			require.NoError(t, err)
			in, length := d.StackIndex(d.StackDepth())
			if kind != '"' || in == '{' && length%2 == 1 {
				continue
			}
			to := int(d.InputOffset())
			from := int(before) + bytes.IndexByte(line[before:to], '"')
			all = append(all, place{n, from, to})
		}
	}
	return all
}

var previous = regexp.MustCompile(`"previous":"[^"]*"`)

// rechain writes a chain, in which each line from one on has the digest of the line before it, and its head in head.json.
func rechain(t *testing.T, dossier, name string, lines [][]byte, from int) {
	t.Helper()
	last := ""
	var b []byte
	for n, line := range lines {
		if n >= from {
			line = previous.ReplaceAllLiteral(line, []byte(`"previous":"`+last+`"`))
		}
		b = append(append(b, line...), '\n')
		last = desk.LineDigest(line)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dossier, name), b, 0o600))
	file := filepath.Join(dossier, "head.json")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	var h struct {
		Form    string                    `json:"paletwin"`
		Version int                       `json:"version"`
		Dossier string                    `json:"dossier,omitempty"`
		Chains  map[string]map[string]any `json:"chains"`
		Digest  string                    `json:"digest"`
	}
	require.NoError(t, json.Unmarshal(raw, &h))
	type end struct {
		Size  int    `json:"size"`
		First string `json:"first,omitempty"`
		Last  string `json:"last"`
	}
	chains := map[string]end{}
	for name, c := range h.Chains {
		first, _ := c["first"].(string)
		chains[name] = end{int(c["size"].(float64)), first, c["last"].(string)}
	}
	chains[filepath.ToSlash(name)] = end{len(b), desk.LineDigest(lines[0]), last}
	sealed := func(digest string) []byte {
		out, err := json.Marshal(struct {
			Form    string         `json:"paletwin"`
			Version int            `json:"version"`
			Dossier string         `json:"dossier,omitempty"`
			Chains  map[string]end `json:"chains"`
			Digest  string         `json:"digest"`
		}{h.Form, h.Version, h.Dossier, chains, digest})
		require.NoError(t, err)
		return out
	}
	require.NoError(t, os.WriteFile(file, append(sealed(changeset.Checksum(sealed(""))), '\n'), 0o600))
}

// TestForgedJournals: whoever can write a dossier can write a journal, or decisions, whose chains fit. No command fails over them with a panic, and none
// writes anything outside the desk; a run that was interrupted is gone on with by its forged journal, too.
func TestForgedJournals(t *testing.T) {
	t.Parallel()
	outer := t.TempDir()
	whole, open := filepath.Join(outer, "whole"), filepath.Join(outer, "open")
	require.NoError(t, os.Mkdir(whole, 0o755))
	office(t, whole)
	out, code := command(t, program, whole, nil, "apply", "1", "--to", "register.csv", "--yes", "--leave-open")
	require.Zero(t, code, out)
	require.NoError(t, os.CopyFS(open, os.DirFS(whole)))
	require.NoError(t, os.Chmod(filepath.Join(open, "desk.yaml"), 0o600))
	dossiers, err := filepath.Glob(filepath.Join(open, "dossiers/0*"))
	require.NoError(t, err)
	read := func(desk, name string) [][]byte {
		b, err := os.ReadFile(filepath.Join(desk, "dossiers", filepath.Base(dossiers[0]), name))
		require.NoError(t, err)
		return bytes.Split(bytes.TrimSuffix(b, []byte("\n")), []byte("\n"))
	}
	const journal = "runs/1/journal.jsonl"
	rechain(t, dossiers[0], journal, read(open, journal)[:2], 1) // it ends behind what was intended
	require.NoError(t, os.WriteFile(filepath.Join(open, "register.csv"), []byte(oldRegister), 0o644))
	out, code = command(t, program, open, nil, "history", "--check")
	require.Zero(t, code, out)
	n, past, all := 0, 0, 0
	first, step := thorough.Every(t, 29)
	for _, x := range []struct{ desk, name string }{{whole, journal}, {open, journal}, {whole, "decisions.jsonl"}} {
		lines := read(x.desk, x.name)
		for _, p := range texts(t, lines) {
			for _, text := range append(forgeries, "undone", "done", "unknown", "amend", "delete") {
				if n++; (n-first)%step != 0 {
					continue
				}
				quoted, err := json.Marshal(text)
				require.NoError(t, err)
				forged := bytes.Clone(lines[p.line])
				was := string(forged[p.from:p.to])
				forged = append(append(forged[:p.from:p.from], quoted...), lines[p.line][p.to:]...)
				where := fmt.Sprintf("%s, line %d: %s is %s", x.name, p.line+1, was, quoted)
				play := filepath.Join(outer, fmt.Sprint("play", n))
				dir := filepath.Join(play, "a", "b", "desk")
				require.NoError(t, os.MkdirAll(filepath.Dir(dir), 0o755))
				require.NoError(t, os.CopyFS(dir, os.DirFS(x.desk)))
				require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
				require.NoError(t, os.WriteFile(filepath.Join(play, "outside"), []byte("mine"), 0o600))
				now := append(append([][]byte{}, lines[:p.line]...), forged)
				from := 1
				if x.name == "decisions.jsonl" {
					from = 0
				}
				rechain(t, filepath.Join(dir, "dossiers", filepath.Base(dossiers[0])), x.name, append(now, lines[p.line+1:]...), from)
				all++
				before := listing(t, play, dir)
				for i, line := range []string{"history --check", "history", "history --open", "desk", "show 1", "show 1 --json", "history 1", "history --record 1 --json", "verify 1", "approve 1 --all", "review sheet 1 -o sheet.xlsx", "handoff 1 --form sql", "apply 1 --yes", "history --check",
					"rollback 1 --apply --yes", "restore 1 --apply --yes", "history --check"} {
					out, code := command(t, program, dir, nil, strings.Fields(line)...)
					said := where + ": " + line + ": " + out
					if i == 0 && !regexp.MustCompile(`altered|does not follow|shorter than it was`).MatchString(out) {
						past++
					}
					require.NotContains(t, out, "panic:", said)
					require.NotContains(t, out, "fault of the program", said)
					require.NotContains(t, out, "goroutine ", said)
					require.Contains(t, []int{0, 1, 2, 3, 4}, code, said)
					require.NotContains(t, out, "\x1b", said)
					require.Equal(t, before, listing(t, play, dir), said)
				}
				require.NoError(t, os.RemoveAll(play))
			}
		}
	}
	t.Logf("%d forgeries, %d past the chains", all, past)
	assert.GreaterOrEqual(t, 2*past, all, "the chains of half of them fit")
}
