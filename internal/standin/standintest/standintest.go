// Package standintest serves a folder's tables as a record service, for tests of those who ask one.
package standintest

import (
	"context"
	"io"
	"log"
	"net/http"
	"net/http/httptest"

	"paletwin/internal/disk"
	"paletwin/internal/standin"
)

// Open makes a service of a folder, in some moods, that keeps nothing. The caller closes it.
func Open(dir string, o standin.Options, moods ...string) (*standin.Service, error) {
	w, err := standin.Load(context.Background(), disk.OS{}, dir, nil)
	if err != nil {
		return nil, err
	}
	for _, text := range moods {
		m, err := standin.ParseMood(text)
		if err != nil {
			return nil, err
		}
		o.Moods = append(o.Moods, m)
	}
	s, _, err := standin.Open(context.Background(), w, "", false, o)
	return s, err
}

// Serve serves it, and says nothing of connections that are cut on purpose. The caller closes the server.
func Serve(h http.Handler) *httptest.Server {
	server := httptest.NewUnstartedServer(h)
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	server.Start()
	return server
}
