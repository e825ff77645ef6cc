package standin

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"paletwin/internal/disk"
	"paletwin/internal/odata"
)

// Tokens are who may ask: the lines of a file, each a bearer token, or NAME:PASSWORD. The file is
// read again when it has changed, so that a token can be replaced while the service runs.
type Tokens struct {
	path string

	mu   sync.Mutex
	read time.Time // the file's time of change
	size int64
	used map[[32]byte]int // how often each was used, by its digest
}

// OpenTokens reads a token file. It is refused if others than its owner may read it.
func OpenTokens(path string) (*Tokens, error) {
	t := &Tokens{path: path}
	if err := t.refresh(); err != nil {
		return nil, err
	}
	if len(t.used) == 0 {
		return nil, fmt.Errorf("%s has no token; put one on each line", path)
	}
	return t, nil
}

// refresh reads the file if it has changed.
func (t *Tokens) refresh() error {
	info, err := os.Stat(t.path)
	if err != nil {
		return err
	}
	if info.ModTime().Equal(t.read) && info.Size() == t.size {
		return nil
	}
	if disk.OthersCanRead(info) {
		return fmt.Errorf("%s can be read by others; make it yours alone: chmod 600 %s", t.path, t.path)
	}
	b, err := os.ReadFile(t.path)
	if err != nil {
		return err
	}
	used := map[[32]byte]int{}
	for _, line := range strings.Split(string(b), "\n") {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			d := sha256.Sum256([]byte(line))
			used[d] = t.used[d]
		}
	}
	t.used, t.read, t.size = used, info.ModTime(), info.Size()
	return nil
}

// admit refuses who has none of the tokens, or one that was used more than uses times; 0 is
// any. It does not count where uses is 0. A nil *Tokens lets everybody in.
func (t *Tokens) admit(h odata.Headers, uses int) *refusal {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := t.refresh(); err != nil {
		return internal(err)
	}
	scheme, given, _ := strings.Cut(strings.TrimSpace(h.Get("Authorization")), " ")
	given = strings.TrimSpace(given)
	if strings.EqualFold(scheme, "Basic") {
		b, _ := base64.StdEncoding.DecodeString(given)
		given = string(b)
	}
	d := sha256.Sum256([]byte(given))
	for known := range t.used {
		if subtle.ConstantTimeCompare(known[:], d[:]) != 1 {
			continue
		}
		if uses > 0 {
			if t.used[known]++; t.used[known] > uses {
				return refuse(http.StatusUnauthorized, "TokenExpired", "the token has expired").with("WWW-Authenticate", `Bearer error="invalid_token", error_description="the token has expired"`)
			}
		}
		return nil
	}
	return refuse(http.StatusUnauthorized, "Unauthorized", "a token is needed: Authorization: Bearer …, or a name and a password").with("WWW-Authenticate", `Bearer realm="standin", Basic realm="standin"`)
}

// local reports whether a host, with a port or without one, is this machine by its own names.
func local(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return strings.EqualFold(host, "localhost") || ip != nil && ip.IsLoopback()
}

// foreign refuses requests that a page from elsewhere makes in a browser of this machine, where no token
// keeps them out: those that name the service by another name, or say so.
func (s *Service) foreign(r *http.Request) *refusal {
	if s.tokens != nil {
		return nil
	}
	origin := r.Header.Get("Origin")
	_, from, _ := strings.Cut(origin, "://")
	if local(r.Host) && (origin == "" || local(from)) {
		return nil
	}
	return refuse(http.StatusForbidden, "Forbidden", "without a file of tokens this stand-in is for this machine alone, by the name 127.0.0.1 or localhost")
}

// admit refuses who may not ask.
func (s *Service) admit(c *call) *refusal {
	uses := 0
	for _, m := range s.moods.all {
		if m.Name == "expires" {
			uses = m.Uses
		}
	}
	r := s.tokens.admit(c.header, uses)
	if r != nil && r.code == "TokenExpired" {
		c.deed.met("expires")
	}
	return r
}
