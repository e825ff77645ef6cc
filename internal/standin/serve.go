package standin

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"paletwin/internal/odata"
)

// namespace is that of the service's types.
const namespace = "Standin"

// Options say how a service is to be.
type Options struct {
	Page    int // records on a page at most; 0 is 1000
	Moods   []*Mood
	Tokens  *Tokens          // nil lets everybody in
	Now     func() time.Time // nil is the clock
	Told    func(*Deed)      // what was asked, and what became of it; it may be nil
	MaxBody int64            // bytes; 0 is 64 MB
}

// Service is a record service. It is an http.Handler for the root of a host.
type Service struct {
	world    *World
	st       *store
	moods    *moods
	ledger   *ledger
	tokens   *Tokens
	now      func() time.Time
	told     func(*Deed)
	pageSize int
	maxBody  int64
	jobs     jobs
	answers  answers
	meta     metadata
}

// Open makes a service of a world. What is written is kept in the SQLite file of a path; "" keeps
// nothing. afresh drops what that holds. kept says whether it held anything.
func Open(ctx context.Context, w *World, path string, afresh bool, o Options) (s *Service, kept bool, err error) {
	if err := w.check(o.Moods); err != nil {
		return nil, false, err
	}
	var k *keep
	if path != "" {
		if k, kept, err = openKeep(ctx, path, w, afresh); err != nil {
			return nil, false, err
		}
	}
	s = &Service{world: w, st: newStore(w), moods: newMoods(o.Moods), ledger: &ledger{}, tokens: o.Tokens, now: o.Now, told: o.Told, pageSize: o.Page, maxBody: o.MaxBody}
	s.st.keep = k
	if s.now == nil {
		s.now = time.Now
	}
	if s.pageSize <= 0 {
		s.pageSize = 1000
	}
	if s.maxBody <= 0 {
		s.maxBody = 64 << 20
	}
	return s, kept, nil
}

// Close ends what goes on in the background, and closes the file. No request may come any more.
func (s *Service) Close() {
	s.jobs.end()
	s.st.mu.Lock()
	defer s.st.mu.Unlock()
	s.st.keep.close()
}

// Counts lists how many records each set has, in the order of World.Sets.
func (s *Service) Counts() []int {
	s.st.mu.RLock()
	defer s.st.mu.RUnlock()
	all := make([]int, len(s.world.Sets))
	for i, set := range s.world.Sets {
		all[i] = len(s.st.registers[set].order)
	}
	return all
}

// ServeHTTP answers a request.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c, err := s.newCall(r)
	if err != nil {
		s.send(w, c, answerOf(err))
		return
	}
	if refused := s.foreign(r); refused != nil {
		s.send(w, c, refused.answer())
		return
	}
	if len(c.path) == 1 && c.path[0] == "$moods" {
		s.send(w, c, s.tellLedger(c))
		return
	}
	if refused := s.admit(c); refused != nil {
		s.send(w, c, refused.answer())
		return
	}
	a := s.arrive(c)
	if a == nil {
		a = s.run(c)
		if s.cutAfter(c) {
			c.deed.ended(a, false)
			a = cutAnswer
		}
	}
	if a == cutAnswer {
		s.tell(c)
		panic(http.ErrAbortHandler) // which is how net/http lets a handler cut the connection
	}
	s.send(w, c, a)
}

// newCall makes a call of a request. The call is there even where there is an error.
func (s *Service) newCall(r *http.Request) (*call, error) {
	scheme := "http"
	if r.TLS != nil {
		scheme = "https"
	}
	c := &call{ctx: r.Context(), method: strings.ToUpper(r.Method), header: headersOf(r.Header), base: scheme + "://" + r.Host + "/"}
	if tunnel := r.Header.Get("X-HTTP-Method"); tunnel != "" && c.method == "POST" {
		c.method = strings.ToUpper(tunnel)
	}
	if c.method == "MERGE" {
		c.method = "PATCH"
	}
	c.deed = &Deed{Method: c.method, URL: strings.TrimPrefix(r.RequestURI, "/")}
	if err := s.address(c, r.RequestURI); err != nil {
		s.ledger.add(c.deed)
		return c, err
	}
	if len(c.path) != 1 || c.path[0] != "$moods" {
		s.ledger.add(c.deed)
	}
	if r.ContentLength == 0 {
		return c, nil
	}
	var b bytes.Buffer
	if r.ContentLength > 0 {
		b.Grow(int(min(r.ContentLength+bytes.MinRead, s.maxBody)))
	}
	if _, err := b.ReadFrom(http.MaxBytesReader(nil, r.Body, s.maxBody)); err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return c, refuse(http.StatusRequestEntityTooLarge, "ContentTooLarge", "the body is larger than %d bytes", large.Limit)
		}
		return c, badRequest("the body was cut off")
	}
	c.body = b.Bytes()
	return c, nil
}

// headersOf are the headers of a request.
func headersOf(h http.Header) odata.Headers {
	all := make(odata.Headers, 0, len(h)+2)
	for name, values := range h {
		for _, v := range values {
			all = append(all, odata.Header{Name: name, Value: v})
		}
	}
	return all
}

// address says where a call goes: link is a URL, absolute, from the root on, or relative to
// the service.
func (s *Service) address(c *call, link string) error {
	link = c.referred(strings.TrimSpace(link))
	lower := strings.ToLower(link)
	switch {
	case strings.HasPrefix(lower, "http://"), strings.HasPrefix(lower, "https://"):
		rest := link[strings.Index(link, "://")+3:]
		host, path, _ := strings.Cut(rest, "/")
		if c.base != "" && !strings.HasSuffix(strings.ToLower(strings.TrimSuffix(c.base, "/")), "://"+strings.ToLower(host)) {
			return badRequest("%s is at another service", short(link))
		}
		link = path
	case strings.HasPrefix(link, "/"):
		link = strings.TrimLeft(link, "/")
	}
	c.url = link
	path, query := cutQuery(link)
	segments, err := odata.SplitPath(path)
	if err != nil {
		return badRequest("%v", err)
	}
	c.path = segments
	if len(segments) == 0 {
		c.path = nil
	}
	c.options, err = parseQuery(query)
	return err
}

// referred puts what an earlier request of the batch made in the place of $ID.
func (c *call) referred(link string) string {
	if !strings.HasPrefix(link, "$") || len(c.refs) == 0 {
		return link
	}
	n := strings.IndexAny(link, "/?")
	if n < 0 {
		n = len(link)
	}
	if x := c.refs[link[1:n]]; x != nil && x.made != "" {
		return x.made + link[n:]
	}
	return link
}

// cutQuery cuts a URL at the question mark that is in no text in quotes, if the quotes
// come in pairs, and at the first one else.
func cutQuery(link string) (path, query string) {
	inText := false
	for i := 0; i < len(link); i++ {
		switch {
		case link[i] == '\'', strings.HasPrefix(link[i:], "%27"):
			inText = !inText
		case link[i] == '?' && !inText:
			return link[:i], link[i+1:]
		}
	}
	path, query, _ = strings.Cut(link, "?")
	return path, query
}

// run does what is asked, now or in the background.
func (s *Service) run(c *call) *answer {
	if err := c.negotiate(); err != nil {
		return s.wordless(c, answerOf(err))
	}
	p, err := s.locate(c)
	if err != nil {
		return s.wordless(c, answerOf(err))
	}
	if p.kind == atStatus {
		return s.wordless(c, s.poll(c, p.by))
	}
	if c.prefer.RespondAsync && !s.hasMood("no-jobs") && p.kind != atRoot && p.kind != atMetadata {
		return s.inBackground(c, p)
	}
	s.slow(c)
	return s.do(c, p)
}

// do does what is asked.
func (s *Service) do(c *call, p *place) *answer {
	if err := c.ctx.Err(); err != nil {
		return refuse(499, "Cancelled", "nobody waits for it any more").answer()
	}
	a, err := s.dispatch(c, p)
	if err != nil {
		a = answerOf(err)
	}
	return s.wordless(c, a)
}

func (s *Service) dispatch(c *call, p *place) (*answer, error) {
	reads := c.method == "GET" || c.method == "HEAD"
	switch p.kind {
	case atRoot, atMetadata:
		if !reads {
			return nil, refuse(http.StatusMethodNotAllowed, "MethodNotAllowed", "%s is not for %s", c.method, "/"+c.url).with("Allow", "GET, HEAD")
		}
		return s.describe(c, p)
	case atBatch:
		if s.hasMood("no-batches") {
			c.deed.met("no-batches")
			return nil, notFound("there is no $batch here")
		}
		if c.method != "POST" || c.inner {
			return nil, refuse(http.StatusMethodNotAllowed, "MethodNotAllowed", "a batch is sent by POST, and by itself").with("Allow", "POST")
		}
		return s.batch(c)
	case atQuery:
		if c.method == "POST" {
			o, err := parseQuery(strings.TrimSpace(string(c.body)))
			if err != nil {
				return nil, err
			}
			c.options, c.url = o, p.set.Name
			return s.collection(c, p.set)
		}
	}
	switch c.method {
	case "GET", "HEAD":
		if !c.accepts("application/json", "text/plain") && p.kind != atRaw {
			return nil, refuse(http.StatusNotAcceptable, "NotAcceptable", "there is application/json, and not %s", c.header.Get("Accept"))
		}
		return s.read(c, p)
	case "POST", "PATCH", "PUT", "DELETE":
		return s.write(c, p)
	}
	return nil, refuse(http.StatusNotImplemented, "NotImplemented", "there is no method %s here", c.method)
}

// send gives an answer.
func (s *Service) send(w http.ResponseWriter, c *call, a *answer) {
	h := w.Header()
	for _, x := range a.header {
		h[x.Name] = []string{x.Value}
	}
	version := c.version
	if version == "" {
		version = "4.01"
	}
	h["OData-Version"] = []string{version}
	if len(a.body) > 0 || a.status == http.StatusOK {
		h["Content-Length"] = []string{itoa(len(a.body))}
	}
	c.deed.ended(a, true)
	w.WriteHeader(a.status)
	if c.method != "HEAD" && a.status != http.StatusNoContent && a.status != http.StatusNotModified {
		_, _ = w.Write(a.body) // who asked may be gone
	}
	s.tell(c)
}

// tell says what was asked.
func (s *Service) tell(c *call) {
	if s.told == nil || c.deed.Number == 0 {
		return
	}
	c.deed.lock()
	d := *c.deed
	d.Moods = slices.Clone(d.Moods)
	c.deed.unlock()
	s.told(&d)
}

// tellLedger answers GET /$moods.
func (s *Service) tellLedger(c *call) *answer {
	if c.method != "GET" && c.method != "HEAD" {
		return refuse(http.StatusMethodNotAllowed, "MethodNotAllowed", "$moods is only read").with("Allow", "GET, HEAD").answer()
	}
	if refused := s.tokens.admit(c.header, 0); refused != nil {
		return refused.answer()
	}
	from, err := c.options.number("skip")
	if err != nil {
		return answerOf(err)
	}
	b, err := s.ledger.list(from+1, s.moods.counts())
	if err != nil {
		return internal(err).answer()
	}
	a := newAnswer(200)
	a.set("Content-Type", "application/json")
	a.body = b
	return a
}
