package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/internal/disk"
)

// start is when tests begin; no time passes in them.
var start = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

// harbour makes a folder with the demo's tables, all of them or those that are named.
func harbour(t testing.TB, names ...string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../demo/data")))
	for _, f := range []string{"register.csv", "autumn-round.csv"} {
		require.NoError(t, os.Remove(filepath.Join(dir, f)))
	}
	return dir
}

// open serves a folder. What is written is kept in the file of a path, if there is one.
func open(t testing.TB, dir, kept string, o Options) *Service {
	t.Helper()
	w, err := Load(context.Background(), disk.OS{}, dir, nil)
	require.NoError(t, err)
	if o.Now == nil {
		o.Now = func() time.Time { return start }
	}
	s, _, err := Open(context.Background(), w, kept, false, o)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func serve(t testing.TB, s *Service) *httptest.Server {
	t.Helper()
	server := httptest.NewUnstartedServer(s)
	server.Config.ErrorLog = nil
	server.Start()
	t.Cleanup(server.Close)
	return server
}

// reply is what came back.
type reply struct {
	status int
	header http.Header
	body   string
}

// ask sends a request as its lines stand: METHOD URL, headers, an empty line, a body.
func ask(t testing.TB, host string, lines ...string) reply {
	t.Helper()
	r, err := try(host, lines...)
	require.NoError(t, err)
	return r
}

func try(host string, lines ...string) (reply, error) {
	head, body := lines, ""
	for i, l := range lines {
		if l == "" {
			head, body = lines[:i], strings.Join(lines[i+1:], "\n")
			break
		}
	}
	c, err := net.Dial("tcp", host)
	if err != nil {
		return reply{}, err
	}
	defer c.Close()
	method, url, _ := strings.Cut(head[0], " ")
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n", method, strings.ReplaceAll(url, " ", "%20"), host)
	for _, h := range head[1:] {
		b.WriteString(h + "\r\n")
	}
	fmt.Fprintf(&b, "Content-Length: %d\r\n\r\n%s", len(body), body)
	if _, err := io.WriteString(c, b.String()); err != nil {
		return reply{}, err
	}
	return read(c, method)
}

// rows reads the table of conformance: what each row asks and what it gets.
type row struct {
	name     string
	requests []exchange
}

type exchange struct {
	ask         []string
	want        []string // status and headers
	has, hasNot []string
	line        int
}

func conformance(t *testing.T) (rows []*row) {
	b, err := os.ReadFile("testdata/conformance.txt")
	require.NoError(t, err)
	var last byte
	for i, line := range strings.Split(string(b), "\n") {
		mark, text, _ := strings.Cut(line, " ")
		if len(mark) != 1 || !strings.Contains("=><~!", mark) || len(rows) == 0 && mark != "=" {
			continue
		}
		if mark == "=" {
			rows = append(rows, &row{name: text})
			last = '='
			continue
		}
		r := rows[len(rows)-1]
		if mark == ">" && last != '>' {
			r.requests = append(r.requests, exchange{line: i + 1})
		}
		last = mark[0]
		x := &r.requests[len(r.requests)-1]
		switch mark {
		case ">":
			x.ask = append(x.ask, text)
		case "<":
			x.want = append(x.want, text)
		case "~":
			x.has = append(x.has, text)
		case "!":
			x.hasNot = append(x.hasNot, text)
		}
	}
	return rows
}

// Each row of the conformance table is asked, of a service that keeps nothing and of one that
// keeps all; and no error is without words.
func TestConformance(t *testing.T) {
	dir := harbour(t)
	rows := conformance(t)
	require.Greater(t, len(rows), 30)
	for i, r := range rows {
		t.Run(r.name, func(t *testing.T) {
			kept := ""
			if i%2 == 1 {
				kept = filepath.Join(t.TempDir(), KeptName)
			}
			server := serve(t, open(t, dir, kept, Options{}))
			host := strings.TrimPrefix(server.URL, "http://")
			for _, x := range r.requests {
				got := ask(t, host, x.ask...)
				where := fmt.Sprintf("conformance.txt:%d: %s\n%s", x.line, strings.Join(x.ask, "\n"), got.body)
				require.Equal(t, x.want[0], fmt.Sprint(got.status), where)
				for _, h := range x.want[1:] {
					name, want, _ := strings.Cut(strings.ReplaceAll(h, "HOST", host), ": ")
					if prefix, ok := strings.CutSuffix(want, "*"); ok {
						require.True(t, strings.HasPrefix(got.header.Get(name), prefix), "%s: %s, not %s", where, name, got.header.Get(name))
						continue
					}
					require.Equal(t, want, got.header.Get(name), "%s: %s", where, name)
				}
				for _, text := range x.has {
					require.Contains(t, got.body, strings.ReplaceAll(text, "HOST", host), where)
				}
				for _, text := range x.hasNot {
					require.NotContains(t, got.body, text, where)
				}
				require.NotEmpty(t, got.header.Get("OData-Version"), where)
				if got.status >= 400 && !strings.HasPrefix(x.ask[0], "HEAD") {
					var e struct {
						Error struct{ Code, Message string }
					}
					require.NoError(t, json.Unmarshal([]byte(got.body), &e), where)
					require.NotEmpty(t, e.Error.Code, where)
					require.NotEmpty(t, e.Error.Message, where)
				}
			}
		})
	}
}
