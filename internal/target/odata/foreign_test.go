package odata_test

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/internal/disk"
	"paletwin/internal/run"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
	"paletwin/internal/target/targettest"
)

// foreign is a service by a library that has nothing of ours.
type foreign struct{ url string }

// foreignService serves a CSV text by odata-v4-server. PALETWIN_ODATA_SERVER names the folder of node_modules into which npm installed it.
func foreignService(t *testing.T, register string) *foreign {
	t.Helper()
	modules := os.Getenv("PALETWIN_ODATA_SERVER")
	if modules == "" {
		if os.Getenv("PALETWIN_TEST_TOOLS") == "required" {
			t.Fatal("PALETWIN_ODATA_SERVER must name a folder node_modules with odata-v4-server")
		}
		t.Skip("PALETWIN_ODATA_SERVER names no node_modules")
	}
	rows, err := csv.NewReader(strings.NewReader(register)).ReadAll()
	require.NoError(t, err)
	records := []map[string]any{}
	for _, row := range rows[1:] {
		r := map[string]any{}
		for i, h := range rows[0] {
			if r[h] = row[i]; row[i] == "" {
				r[h] = nil
			}
		}
		records = append(records, r)
	}
	b, err := json.Marshal([]any{rows[0], records})
	require.NoError(t, err)
	c := exec.Command("node", "testdata/server.js", string(b))
	c.Env = append(os.Environ(), "NODE_PATH="+modules)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	port, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return &foreign{"http://127.0.0.1:" + strings.TrimSpace(port) + "/odata"}
}

func (f *foreign) Open(t *testing.T) target.Target {
	t.Helper()
	s, err := odata.Open(t.Context(), disk.OS{}, f.url+"/aids", odata.Options{Key: []string{"k"}, Dir: t.TempDir()})
	require.NoError(t, err)
	return s
}

func (f *foreign) Set(t *testing.T, key, field, value string) {
	t.Helper()
	body, err := json.Marshal(map[string]string{field: value})
	require.NoError(t, err)
	r, err := http.NewRequest("PATCH", f.url+"/aids("+quote(key)+")", bytes.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	a, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	_, _ = io.Copy(io.Discard, a.Body)
	require.NoError(t, a.Body.Close())
	require.Less(t, a.StatusCode, 300)
}

// A service by another library, which gives no ETags, takes no batches and ends with 500 where one comes, and gives
// every answer an ETag of HTTP that guards no record: all of a run comes out as it is said.
func TestForeignService(t *testing.T) {
	snapshot := "k,v,w,hours,lit,due\n1,a,x,,,\n2,b,x,,,\n3,c,x,,,\n4,d,x,,,\n5,e,x,,,\n"
	f := foreignService(t, snapshot)
	before := targettest.Content(t, f.Open(t))
	edited := "k,v,w,hours,lit,due\n1,A,x,7,true,2026-11-30\n2,b,no,,,\n3,C,x,,,\n4,d,\"é,\"\"ü\",,false,\n6,f,y,,,\n"
	u := targettest.NewUpdate(t, snapshot, edited)
	tgt := f.Open(t)
	defer tgt.Close()
	f.Set(t, "3", "v", "colleague")
	rep, err := u.Apply(tgt, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 4, Refused: 1, Conflict: 1}, rep.Steps)
	for _, s := range rep.Attempted {
		if s.Outcome == run.Refused {
			assert.Equal(t, "the service says 400: w cannot be no", s.Reason)
		}
	}
	assert.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
	assert.Equal(t, "k,v,w,hours,lit,due\n1,A,x,7,true,2026-11-30\n2,b,x,,,\n3,colleague,x,,,\n4,d,é,\"ü,,false,\n6,f,y,,,", targettest.Content(t, tgt))
	f.Set(t, "3", "v", "c")
	rep, err = u.Rollback(tgt).Apply(tgt, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
	assert.Equal(t, before, targettest.Content(t, tgt))
}

// The suite of targets runs on it, too.
func TestForeignServiceIsATarget(t *testing.T) {
	targettest.Run(t, func(t *testing.T) targettest.Place { return foreignService(t, targettest.Register) })
}
