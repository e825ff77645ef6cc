//go:build unix

package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/standin"
	"paletwin/internal/standin/standintest"
	"paletwin/internal/thorough"
)

// killer serves a stand-in, and kills who asks at the n-th request: before anything is done, after all is done and before it is answered, or before
// what is done once another process has asked some more.
type killer struct {
	s     *standin.Service
	mu    sync.Mutex
	at, n int
	how   string
	cmd   *exec.Cmd
	late  func() // what is done late
	in    int    // requests until then
}

func (k *killer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return
	}
	r = r.Clone(context.WithoutCancel(r.Context()))
	r.Body = io.NopCloser(bytes.NewReader(body))
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.n++; k.late != nil {
		if k.in--; k.in <= 0 {
			k.late()
			k.late = nil
		}
	}
	if k.n != k.at {
		k.s.ServeHTTP(w, r)
		return
	}
	switch k.how {
	case "after":
		k.s.ServeHTTP(httptest.NewRecorder(), r)
	case "late":
		k.late, k.in = func() { k.s.ServeHTTP(httptest.NewRecorder(), r) }, 5
	}
	_ = k.cmd.Process.Kill()
	_, _ = k.cmd.Process.Wait()
	panic(http.ErrAbortHandler)
}

// TestKilledAtEveryRequest kills the real program (SIGKILL) at its first, second, third … request to a service. The next apply finds
// out what became of it and completes; nothing is done twice, nothing that was not done is said to be, and the rollback gives the records of before.
func TestKilledAtEveryRequest(t *testing.T) {
	t.Parallel()
	start, world := served9(t)
	for _, mood := range []string{"", "no-repeats", "no-etags", "no-jobs", "no-batches"} {
		for _, how := range []string{"before", "after", "late"} {
			t.Run(mood+" "+how, func(t *testing.T) {
				t.Parallel()
				killed := 0
				first, step := thorough.Every(t, 3)
				for at := first; ; at += step {
					if !killedAt(t, start, world, mood, how, at) {
						break
					}
					killed++
				}
				assert.Greater(t, killed*step, 6)
			})
		}
	}
}

// TestServiceRunKilledAtEveryOperation kills it before its first, second, third … file operation.
func TestServiceRunKilledAtEveryOperation(t *testing.T) {
	t.Parallel()
	bin := faultyProgram(t)
	start, world := served9(t)
	killed := 0
	first, step := thorough.Every(t, 5)
	for n := first; ; n += step {
		k, url := newKiller(t, world, "")
		dir := deskOf(t, start)
		out, code := command(t, bin, dir, []string{fmt.Sprintf("PALETWIN_KILL_AT=%d", n)}, "apply", "1", "--to", url+"/aids", "--yes", "--with", "batch=3")
		if code == 0 {
			break
		}
		require.Equal(t, -1, code, out) // by a signal
		killed++
		goesOn(t, k, dir, url, fmt.Sprint("operation ", n))
	}
	t.Logf("killed at %d points", killed)
	assert.Greater(t, killed*step, 60)
}

// The register of the kills, and what is made of it: nine changes.
const before9 = "k,v,w\n1,a,x\n2,b,x\n3,c,x\n4,d,x\n5,e,x\n6,f,x\n7,g,x\n8,h,x\n9,i,x\n"

// served9 makes a desk with these changes approved, and the folder of a stand-in.
func served9(t *testing.T) (start, world string) {
	t.Helper()
	const after = "k,v,w\n1,A,x\n2,b,x\n3,C,x\n4,D,y\n5,e,x\n6,F,x\n8,H,x\nX,new,x\nY,new,y\n"
	start = t.TempDir()
	for name, text := range map[string]string{"aids.csv": before9, "edited.csv": after} {
		require.NoError(t, os.WriteFile(filepath.Join(start, name), []byte(text), 0o644))
	}
	for _, args := range [][]string{{"compare", "aids.csv", "edited.csv", "--key", "k"}, {"approve", "1", "--all", "--held"}} {
		out, code := command(t, program, start, nil, args...)
		require.Zero(t, code, out)
	}
	world = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(world, "aids.csv"), []byte(before9), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(world, "layouts"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(world, "layouts", "aids.yaml"), []byte("record_set: aids\nkey: k\nfields: {k: text, v: text, w: text}\n"), 0o644))
	return start, world
}

// newKiller serves a folder in a mood.
func newKiller(t *testing.T, world, mood string) (*killer, string) {
	t.Helper()
	k := &killer{}
	var moods []string
	if mood != "" {
		moods = append(moods, mood)
	}
	var err error
	k.s, err = standintest.Open(world, standin.Options{}, moods...)
	require.NoError(t, err)
	server := standintest.Serve(k)
	t.Cleanup(func() { server.Close(); k.s.Close() })
	return k, server.URL
}

// deskOf is a desk of one's own.
func deskOf(t *testing.T, start string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(start)))
	require.NoError(t, os.Chmod(filepath.Join(dir, "desk.yaml"), 0o600))
	return dir
}

// killedAt kills an apply at a request, and proves what comes after; false is that it did not come to that request.
func killedAt(t *testing.T, start, world, mood, how string, at int) bool {
	k, url := newKiller(t, world, mood)
	k.at, k.how = at, how
	dir := deskOf(t, start)
	apply := []string{"apply", "1", "--to", url + "/aids", "--yes", "--with", "batch=3"}
	var said bytes.Buffer
	k.cmd = exec.Command(program, apply...)
	k.cmd.Dir, k.cmd.Stdout, k.cmd.Stderr = dir, &said, &said
	k.mu.Lock()
	require.NoError(t, k.cmd.Start())
	k.mu.Unlock()
	err := k.cmd.Wait()
	k.mu.Lock()
	reached := k.n >= at
	k.mu.Unlock()
	if !reached {
		require.NoError(t, err, said.String())
		return false
	}
	goesOn(t, k, dir, url, fmt.Sprint(how, " at ", at))
	return true
}

// goesOn applies again after a kill: every outcome is true, and the rollback gives the records of before.
func goesOn(t *testing.T, k *killer, dir, url, when string) {
	t.Helper()
	out, code := command(t, program, dir, nil, "apply", "1", "--to", url+"/aids", "--yes", "--with", "batch=3")
	require.Contains(t, []int{0, 3}, code, "%s: %s", when, out)
	outcomes := map[string]string{}
	files, err := filepath.Glob(filepath.Join(dir, "dossiers/0001-*/runs/*/outcome.csv"))
	require.NoError(t, err)
	for _, name := range files {
		b, err := os.ReadFile(name)
		require.NoError(t, err)
		rows, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
		require.NoError(t, err)
		for _, row := range rows[1:] {
			if o := outcomes[row[1]]; o == "" || row[3] == "done" || row[3] == "unknown" {
				outcomes[row[1]] = row[3]
			}
		}
	}
	require.Len(t, outcomes, 9, "%s: %s", when, out)
	wrote := map[string]int{}
	for _, d := range deeds(t, k.s) {
		if d.Turn > 0 && !d.Undone {
			wrote[d.Key[0]]++
		}
	}
	unknown := 0
	for key, o := range outcomes {
		switch o {
		case "done":
			assert.Equal(t, 1, wrote[key], "%s: %s: %s", when, key, out)
		case "unknown":
			unknown++
			assert.LessOrEqual(t, wrote[key], 1)
		default:
			assert.Zero(t, wrote[key], "%s: %s is %s: %s", when, key, o, out)
		}
	}
	assert.LessOrEqual(t, unknown, 1, "%s: %s", when, out)
	if unknown > 0 {
		return
	}
	out, code = command(t, program, dir, nil, "rollback", "1", "--apply", "--yes")
	require.Zero(t, code, "%s: %s", when, out)
	out, code = command(t, program, dir, nil, "take", url+"/aids", "-o", "now.csv")
	require.Zero(t, code, out)
	b, err := os.ReadFile(filepath.Join(dir, "now.csv"))
	require.NoError(t, err)
	require.Equal(t, before9, string(b), "%s", when)
}

// deeds is a stand-in's ledger.
func deeds(t *testing.T, s *standin.Service) []*standin.Deed {
	t.Helper()
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest("GET", "http://127.0.0.1/$moods", nil))
	var all struct {
		Requests []*standin.Deed `json:"requests"`
	}
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &all), w.Body.String())
	return all.Requests
}
