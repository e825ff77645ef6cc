package odata

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"paletwin/internal/disk"
	"paletwin/internal/odata"
	"paletwin/internal/target"
)

// Code says in what way a service could not be used.
type Code string

const (
	Lost      Code = "lost"      // the answer is cut off, or does not come
	Absent    Code = "absent"    // nothing is there
	Untrusted Code = "untrusted" // its certificate does not say that it is what it is called
	Denied    Code = "denied"    // it does not let us in
	NotThere  Code = "not-there" // there is no such set
	Elsewhere Code = "elsewhere" // a link or redirect leads to another origin
	Foreign   Code = "foreign"   // what it answers is no OData
	Refused   Code = "refused"   // it says no, in words
	Busy      Code = "busy"      // it asks to come back later than we wait
	Moving    Code = "moving"    // its records change faster than they can be read
	TooLarge  Code = "too-large" // it takes no request of that size
	ReadOnly  Code = "read-only" // it is not written
	Failed    Code = "failed"    // it failed, and what became of the request it does not say
	OtherKey  Code = "other-key" // its records have another key
)

// Error is a service that could not be used: which, how, and what it says.
type Error struct {
	Name string
	Code Code
	Text string

	cause cause // of Failed: what was answered
}

func (e *Error) Error() string { return e.Name + ": " + e.Text }

// client asks one service.
type client struct {
	name  string // of the set, for messages
	root  *url.URL
	http  *http.Client
	login string // the Authorization header; "" is none
	user  string
	ask   func(who string) (string, error)
	sleep func(ctx context.Context, d time.Duration) error

	batches batching
	waits   waits
}

// waits count how often, and how long, was waited since the service was busy.
type waits struct{ times, in atomic.Int64 }

func (w *waits) note(d time.Duration) {
	w.times.Add(1)
	w.in.Add(int64(d))
}

// acceptJSON is the form in which answers are asked for.
const acceptJSON = "application/json;odata.metadata=minimal;IEEE754Compatible=true"

const (
	maxAnswer  = 1 << 30 // bytes
	maxWait    = time.Minute
	maxWaiting = 10 * time.Minute // in all, for one answer
	maxTries   = 20
	maxAbsent  = 3 // tries, where nothing listens: it may just begin
)

// newClient makes a client, with what the environment says of who asks: a token, or a password for the address's user.
func newClient(fsys disk.FS, at *target.Service, o Options) (*client, error) {
	transport := http.DefaultTransport.(*http.Transport).Clone() // with the environment's proxies, and TLS verified
	transport.ResponseHeaderTimeout = 5 * time.Minute
	c := &client{name: at.String(), root: at.Root, user: at.User, ask: o.Secret, sleep: o.Sleep}
	if c.sleep == nil {
		c.sleep = target.Sleep
	}
	c.http = &http.Client{Transport: transport, CheckRedirect: c.redirected}
	token, err := disk.Secret(fsys, o.Env, "PALETWIN_TOKEN", true)
	if err != nil {
		return nil, err
	}
	password, err := disk.Secret(fsys, o.Env, "PALETWIN_PASSWORD", true)
	if err != nil {
		return nil, err
	}
	switch {
	case at.User != "" && password != "":
		c.login = basic(at.User, password)
	case at.User == "" && token != "":
		c.login = "Bearer " + token
	}
	return c, c.private()
}

// private refuses to send who we are where everybody on the way could read it.
func (c *client) private() error {
	host := c.root.Hostname()
	ip := net.ParseIP(host)
	if c.login == "" || c.root.Scheme == "https" || host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return &Error{Name: c.name, Code: Denied, Text: "a token or password is not sent over http, where others could read it; the service's address should begin with https"}
}

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

// redirected lets a redirect be followed that stays at the service's origin.
func (c *client) redirected(r *http.Request, via []*http.Request) error {
	if !c.ours(r.URL) {
		return &Error{Name: c.name, Code: Elsewhere, Text: "the service sends us to " + r.URL.Scheme + "://" + r.URL.Host + ", which is another place; name that one if it is meant"}
	}
	if r.Method != via[0].Method { // a change would become a question, whose answer is none
		return &Error{Name: c.name, Code: Foreign, Text: "the service answers a " + via[0].Method + " with a redirect that drops it; name the address that it leads to: " + r.URL.Redacted()}
	}
	if len(via) >= 10 {
		return &Error{Name: c.name, Code: Foreign, Text: "the service sends us in a circle"}
	}
	return nil
}

// ours reports whether a URL is at the service's origin.
func (c *client) ours(u *url.URL) bool {
	return u.Scheme == c.root.Scheme && strings.EqualFold(withPort(u), withPort(c.root)) && u.User == nil
}

func withPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return u.Hostname() + ":" + port
}

// resolve is a link of an answer as a URL at the service; from is what was asked.
func (c *client) resolve(link string, from *url.URL) (*url.URL, error) {
	u, err := from.Parse(link)
	if err != nil {
		return nil, &Error{Name: c.name, Code: Foreign, Text: fmt.Sprintf("the service gives a link that is no URL: %q", link)}
	}
	if !c.ours(u) {
		return nil, &Error{Name: c.name, Code: Elsewhere, Text: "the service gives a link to " + u.Scheme + "://" + u.Host + ", which is another place; nothing is sent there"}
	}
	return u, nil
}

// reply is what a request got.
type reply struct {
	status int
	header http.Header
	body   []byte
}

// get asks for something that can be asked again without harm: what is lost on the way is, and where the service says
// to come back later, that is waited for.
func (c *client) get(ctx context.Context, u *url.URL, header ...odata.Header) (*reply, error) {
	var w waiting
	for {
		r, err := c.once(ctx, "GET", u, nil, header)
		switch {
		case err == nil && r.status == http.StatusUnauthorized && c.unlock():
			continue
		case err == nil && !busy(r.status):
			return r, c.refused(r)
		case err != nil && !w.lost(err):
			return nil, err
		}
		if werr := c.wait(ctx, &w, r, err); werr != nil {
			return nil, werr
		}
	}
}

// busy reports whether a status asks to come back later.
func busy(status int) bool {
	return status == http.StatusTooManyRequests || status == http.StatusServiceUnavailable
}

// waiting is how long, and how often, was waited for one thing.
type waiting struct {
	in    time.Duration
	tries int
}

// lost reports whether an error says that an answer was lost which may come the next time.
func (w *waiting) lost(err error) bool {
	var e *Error
	return errors.As(err, &e) && (e.Code == Lost || e.Code == Absent && w.tries < maxAbsent-1)
}

// wait waits after an answer that asks for it, or after an error. When it has waited long enough it is told so: by that error, or by
// one of its own.
func (c *client) wait(ctx context.Context, w *waiting, r *reply, err error) error {
	pause := min(time.Duration(1<<min(w.tries, 6))*100*time.Millisecond, 5*time.Second)
	if r != nil {
		pause = later(r.header.Get("Retry-After"), pause)
	}
	w.tries++
	if w.in += pause; pause <= maxWait && w.in <= maxWaiting && w.tries < maxTries {
		if r != nil && busy(r.status) {
			c.waits.note(pause)
		}
		return c.sleep(ctx, pause)
	}
	if err == nil {
		err = &Error{Name: c.name, Code: Busy, Text: fmt.Sprintf("the service is busy (%d) and asks to come back in %s", r.status, pause)}
	}
	return err
}

// later is what Retry-After says: seconds, or a time.
func later(text string, otherwise time.Duration) time.Duration {
	text = strings.TrimSpace(text)
	if n, err := strconv.Atoi(text); err == nil && n >= 0 && n < 1e6 {
		return time.Duration(n) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	return otherwise
}

// unlock asks a person for the password, once.
func (c *client) unlock() bool {
	if c.ask == nil || c.login != "" || c.user == "" {
		return false
	}
	password, err := c.ask(c.name)
	c.ask = nil
	if err != nil || password == "" {
		return false
	}
	c.login = basic(c.user, password)
	return c.private() == nil
}

// once sends one request.
func (c *client) once(ctx context.Context, method string, u *url.URL, body []byte, header []odata.Header) (*reply, error) {
	r, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", acceptJSON)
	r.Header.Set("OData-MaxVersion", "4.01")
	r.Header.Set("User-Agent", "paletwin")
	for _, h := range header {
		r.Header.Set(h.Name, h.Value)
	}
	if c.login != "" {
		r.Header.Set("Authorization", c.login)
	}
	got, err := c.http.Do(r)
	if err != nil {
		return nil, c.lost(ctx, err)
	}
	defer got.Body.Close()
	b, err := io.ReadAll(io.LimitReader(got.Body, maxAnswer+1))
	if err != nil {
		return nil, c.lost(ctx, err)
	}
	if len(b) > maxAnswer {
		return nil, &Error{Name: c.name, Code: Foreign, Text: "the service answers with more than a gigabyte at once"}
	}
	return &reply{got.StatusCode, got.Header, b}, nil
}

// lost is a connection that could not be made or kept, in words.
func (c *client) lost(ctx context.Context, err error) error {
	var ours *Error
	if errors.As(err, &ours) {
		return ours
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	code, text := why(err)
	return &Error{Name: c.name, Code: code, Text: text}
}

// why says why there is no answer.
func why(err error) (Code, string) {
	var (
		outer   *url.Error
		dns     *net.DNSError
		cert    *tls.CertificateVerificationError
		timeout net.Error
	)
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET):
		return Lost, "the connection was cut before the whole answer was there"
	case errors.Is(err, syscall.ECONNREFUSED):
		return Absent, "nothing listens there"
	case errors.As(err, &dns):
		return Absent, "there is no host " + dns.Name
	case errors.As(err, &cert):
		return Untrusted, "its certificate is not to be trusted: " + before(cert.Err.Error(), " (possibly")
	case errors.As(err, &timeout) && timeout.Timeout():
		return Lost, "it does not answer in time"
	case errors.As(err, &outer):
		return Lost, outer.Err.Error()
	}
	return Lost, err.Error()
}

// refused is an answer that says no, as an error in the service's words; nil is one that does not.
func (c *client) refused(r *reply) error {
	switch {
	case r.status < 300:
		return nil
	case r.status == http.StatusUnauthorized:
		return &Error{Name: c.name, Code: Denied, Text: "the service does not let us in (401)" + c.says(r)}
	case r.status == http.StatusForbidden:
		return &Error{Name: c.name, Code: Denied, Text: "the service refuses it (403)" + c.says(r)}
	case r.status == http.StatusNotFound:
		return &Error{Name: c.name, Code: NotThere, Text: "the service has no such thing (404)" + c.says(r)}
	}
	return &Error{Name: c.name, Code: Refused, Text: fmt.Sprintf("the service refuses it (%d)", r.status) + c.says(r)}
}

// says is what an answer says in words, behind a colon; "" is nothing.
func (c *client) says(r *reply) string {
	return colon(words(r.body, r.header.Get("Content-Type")))
}

// wordsOf is what an answer to a request of a batch says in words.
func (c *client) wordsOf(a *answer) string { return words(a.body, a.header.Get("Content-Type")) }

// words are those of an error: the standard's message with its target and details, or plain text.
func words(body []byte, contentType string) string {
	var e struct {
		Error struct {
			Message string
			Target  string
			Details []struct{ Message, Target string }
			Inner   struct{ Message string } `json:"innererror"`
		}
	}
	if json.Unmarshal(body, &e) == nil && e.Error.Message != "" {
		text := e.Error.Message
		for _, d := range e.Error.Details {
			if d.Message != "" && !strings.Contains(text, d.Message) {
				text += "; " + d.Message
			}
		}
		if e.Error.Target != "" && !strings.Contains(text, e.Error.Target) {
			text = e.Error.Target + ": " + text
		}
		if in := e.Error.Inner.Message; in != "" && !strings.Contains(text, in) {
			text += " (" + in + ")"
		}
		return short(text)
	}
	if t, _, err := mime.ParseMediaType(contentType); err == nil && t == "text/plain" {
		return short(strings.Join(strings.Fields(string(body)), " "))
	}
	return ""
}

func before(text, sep string) string {
	text, _, _ = strings.Cut(text, sep)
	return text
}

func short(text string) string {
	if r := []rune(text); len(r) > 500 {
		return string(r[:499]) + "…"
	}
	return text
}

func (c *client) close() { c.http.CloseIdleConnections() }
