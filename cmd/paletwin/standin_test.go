package main

import (
	"bufio"
	"bytes"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// served makes the folder register in dir with the demo's tables, and serves it with the built program.
func served(t *testing.T, dir string, args ...string) (c *exec.Cmd, url string, out *bytes.Buffer) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "register", "layouts"), 0o755))
	for _, f := range []string{"aids.csv", "depots.csv", "staff.csv", "visits.csv", "layouts/aids.yaml", "layouts/depots.yaml", "layouts/staff.yaml", "layouts/visits.yaml"} {
		b, err := os.ReadFile(filepath.Join("../../internal/demo/data", f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "register", f), b, 0o644))
	}
	c = exec.Command(program, append([]string{"standin", "register", "--with", "listen=127.0.0.1:0"}, args...)...)
	c.Dir = dir
	c.Env = append(os.Environ(), "NO_COLOR=1")
	c.Stderr = os.Stderr
	stdout, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill() })
	r := bufio.NewReader(stdout)
	first, err := r.ReadString('\n')
	require.NoError(t, err)
	url = regexp.MustCompile(`http://[0-9.:]+/`).FindString(first)
	require.NotEmpty(t, url, first)
	out = bytes.NewBufferString(first)
	go func() { _, _ = io.Copy(out, r) }() // which ends with the program, before out is read
	return c, url, out
}

// ended interrupts the program, and returns what it printed.
func ended(t *testing.T, c *exec.Cmd, out *bytes.Buffer) string {
	t.Helper()
	require.NoError(t, c.Process.Signal(syscall.SIGINT))
	require.NoError(t, c.Wait())
	return out.String()
}

// The stand-in says what it serves and what it was asked, ends with 0 when it is interrupted, and has
// what was written the next time.
func TestStandin(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no interrupts to send")
	}
	dir := t.TempDir()
	for i, want := range []string{"What is written is kept in register/standin.sqlite.", "What was written before is there again"} {
		c, url, out := served(t, dir, "--with", "mood=slow,set=depots,wait=1ms")
		r, err := http.Get(url + "depots('D01')/phone/$value")
		require.NoError(t, err)
		b, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		require.Equal(t, i == 1, string(b) == "1", "%s", b)
		req, err := http.NewRequest("PATCH", url+"depots('D01')", strings.NewReader(`{"phone":"1"}`))
		require.NoError(t, err)
		r, err = http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.Equal(t, 204, r.StatusCode)
		busy := exec.Command(program, "standin", "register")
		busy.Dir = dir
		said, err := busy.CombinedOutput()
		require.Error(t, err)
		require.Contains(t, string(said), "another stand-in serves register")
		time.Sleep(150 * time.Millisecond) // it prints a little later
		text := ended(t, c, out)
		assert.Contains(t, text, want)
		assert.Contains(t, text, "aids        240  aid_no        depots by depot, staff by keeper  its layout")
		assert.Contains(t, text, "Mood: slow,set=depots,wait=1ms")
		assert.Regexp(t, `\d\d:\d\d:\d\d  PATCH  204  /depots\('D01'\)  \[slow\]`, text)
		left, err := filepath.Glob(filepath.Join(dir, "register", "*"))
		require.NoError(t, err)
		require.Len(t, left, 6, "%s", left)
	}
}

// The commands of docs/standin.md do what it says, as they stand there.
func TestStandinGuide(t *testing.T) {
	for _, need := range []string{"bash", "curl"} {
		if _, err := exec.LookPath(need); err != nil {
			if os.Getenv("PALETWIN_TEST_TOOLS") == "required" {
				t.Fatal(need + " is not there")
			}
			t.Skip(need + " is not there")
		}
	}
	guide, err := os.ReadFile(filepath.Join(docs, "standin.md"))
	require.NoError(t, err)
	dir := t.TempDir()
	_, url, _ := served(t, dir, "--with", "mood=busy,method=PATCH,every=31", "--with", "mood=refuses,field=service_fee,key=00124")
	require.NoError(t, os.CopyFS(filepath.Join(dir, "layouts"), os.DirFS("../../internal/demo/data/layouts")))
	for _, f := range []string{"depots.csv", "staff.csv"} {
		b, err := os.ReadFile(filepath.Join("../../internal/demo/data", f))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), b, 0o644))
	}
	script := ""
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(guide), -1) {
		script += block[1]
	}
	script = strings.ReplaceAll(script, "http://127.0.0.1:8099/", url)
	cmd := exec.Command("bash", "-c", script)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "NO_COLOR=1")
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit, "one was refused: %s", out)
	require.Equal(t, 3, exit.ExitCode(), "%s", out)
	require.Contains(t, string(out), "warn  61 records as meant", "%s", out)
}
