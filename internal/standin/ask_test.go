package standin

import (
	"bufio"
	"context"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/internal/disk"
)

// read reads an answer; an error is that the connection was cut.
func read(c net.Conn, method string) (reply, error) {
	r, err := http.ReadResponse(bufio.NewReader(c), &http.Request{Method: method})
	if err != nil {
		return reply{}, err
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	return reply{r.StatusCode, r.Header, string(b)}, err
}

// rapidDir is a folder of one case.
func rapidDir(t *rapid.T) string {
	dir, err := os.MkdirTemp("", "standin-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// openFor opens a service in a case of a property.
func openFor(t *rapid.T, dir, kept string, o Options) *Service {
	w, err := Load(context.Background(), disk.OS{}, dir, nil)
	require.NoError(t, err)
	o.Now = func() time.Time { return start }
	s, _, err := Open(context.Background(), w, kept, false, o)
	require.NoError(t, err)
	return s
}

func newServer(s *Service) *httptest.Server {
	server := httptest.NewUnstartedServer(s)
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	server.Start()
	return server
}
