package standin

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"mime"
	"net/http"
	"slices"
	"strings"

	"paletwin/internal/odata"
)

// item is a request of a batch, whatever form that has.
type item struct {
	id, group string
	after     []string // dependsOn
	method    string
	url       string
	header    http.Header
	body      []byte
	wrong     *refusal // why it cannot be read

	answer *answer // nil where it was not come to
}

// batch answers a $batch: JSON in JSON, multipart in multipart, unless Accept says otherwise.
func (s *Service) batch(c *call) (*answer, error) {
	t := c.header.Get("Content-Type")
	m, _, _ := mime.ParseMediaType(t)
	var items []*item
	var err error
	asJSON := m == "application/json"
	switch {
	case asJSON:
		items, err = readJSONBatch(c.body)
	case strings.HasPrefix(strings.ToLower(strings.TrimSpace(t)), "multipart/mixed"):
		items, err = readMultipart(c.body, t)
	default:
		return nil, refuse(http.StatusUnsupportedMediaType, "UnsupportedMediaType", "a batch is to come as multipart/mixed or application/json, not as %q", t)
	}
	if err != nil {
		return nil, badRequest("%v", err)
	}
	if r := s.overBatch(c, len(items)); r != nil {
		return nil, r
	}
	if r := orderly(items); r != nil {
		return nil, r
	}
	b := &batchRun{s: s, c: c, items: items, urls: map[string]string{}, failed: map[string]bool{}, limit: -1, asJSON: asJSON}
	if m := s.meets(c, "half-batch", about{}); m != nil {
		b.limit = len(items) / 2
	}
	b.run()
	if b.limit >= 0 {
		return nil, refuse(http.StatusInternalServerError, "Internal", "something went wrong in the middle of the batch")
	}
	if err := c.ctx.Err(); err != nil {
		return nil, refuse(499, "Cancelled", "nobody waits for it any more")
	}
	if c.wants(m, other(asJSON)) == "application/json" {
		return c.batchJSON(items), nil
	}
	return s.batchMultipart(c, items), nil
}

func other(asJSON bool) string {
	if asJSON {
		return "multipart/mixed"
	}
	return "application/json"
}

// orderly refuses batches whose ids or groups say nothing: ids twice, groups that are
// taken up again, requests that depend on later ones.
func orderly(items []*item) *refusal {
	seen, closed := map[string]bool{}, map[string]bool{}
	group := ""
	for _, x := range items {
		if x.group != group {
			closed[group] = true
			if group = x.group; group != "" && (closed[group] || seen[group]) {
				return badRequest("the requests of the group %s are not next to each other", group)
			}
			for _, on := range x.after {
				if on == group && group != "" {
					return badRequest("the request %s depends on its own group", x.id)
				}
			}
		}
		for _, on := range x.after {
			if !seen[on] && !closed[on] {
				return badRequest("the request %s depends on %s, which does not come before it", x.id, on)
			}
		}
		if x.id == "" {
			continue
		}
		if seen[x.id] {
			return badRequest("two requests of the batch have the id %s", x.id)
		}
		seen[x.id] = true
	}
	return nil
}

// batchRun carries out a batch.
type batchRun struct {
	s      *Service
	c      *call
	items  []*item
	urls   map[string]string // of what requests made or changed, by their ids
	failed map[string]bool   // requests and groups
	limit  int               // how many are done at most; -1 is all
	done   int
	stop   bool
	asJSON bool
}

func (b *batchRun) run() {
	for i := 0; i < len(b.items) && !b.stop && b.c.ctx.Err() == nil; {
		n := 1
		for g := b.items[i].group; g != "" && i+n < len(b.items) && b.items[i+n].group == g; {
			n++
		}
		members := b.items[i : i+n]
		i += n
		if b.limit >= 0 && b.done >= b.limit {
			return
		}
		if on := b.waitsFor(members); on != "" {
			for _, x := range members {
				x.answer = refuse(http.StatusFailedDependency, "FailedDependency", "%s, which it depends on, failed", on).answer()
			}
			b.fail(members)
			continue
		}
		var ok bool
		if members[0].group == "" {
			ok = b.single(members[0])
		} else {
			ok = b.group(members)
		}
		if !ok {
			b.fail(members)
			b.stop = !b.c.prefer.ContinueOnError
		}
	}
	if b.stop && b.limit < 0 {
		for _, x := range b.items {
			if x.answer == nil {
				x.answer = notReached
			}
		}
	}
}

// notReached stands for the answer to a request behind one that failed.
var notReached = refuse(http.StatusFailedDependency, "NotReached", "it was not come to: a request before it failed, and the batch does not say continue-on-error").answer()

// waitsFor is what failed of what some requests depend on; "" is nothing.
func (b *batchRun) waitsFor(members []*item) string {
	for _, x := range members {
		for _, on := range x.after {
			if b.failed[on] {
				return on
			}
		}
	}
	return ""
}

func (b *batchRun) fail(members []*item) {
	for _, x := range members {
		if x.id != "" {
			b.failed[x.id] = true
		}
		if x.group != "" {
			b.failed[x.group] = true
		}
	}
}

// call makes a call of a request of the batch.
func (b *batchRun) call(x *item) (*call, *place, error) {
	c := &call{ctx: b.c.ctx, method: x.method, header: x.header, body: x.body, base: b.c.base, inner: true, refs: b.urls}
	if t := x.header.Get("X-Http-Method"); t != "" && c.method == "POST" {
		c.method = strings.ToUpper(t)
	}
	if c.method == "MERGE" {
		c.method = "PATCH"
	}
	for _, name := range []string{"Accept", "Odata-Maxversion"} { // those of the batch are for all
		if len(c.header[name]) == 0 && (name != "Accept" || b.asJSON) && len(b.c.header[name]) > 0 {
			c.header[name] = b.c.header[name]
		}
	}
	c.deed = b.s.ledger.add(&Deed{Batch: b.c.deed.Number, Group: x.group, ID: x.id, Method: c.method, URL: x.url})
	if x.wrong != nil {
		return c, nil, x.wrong
	}
	if err := b.s.address(c, x.url); err != nil {
		return c, nil, err
	}
	if err := c.negotiate(); err != nil {
		return c, nil, err
	}
	p, err := b.s.locate(c)
	if err == nil && (p.kind == atLedger || p.kind == atStatus) {
		err = badRequest("%s is not for a batch", c.url)
	}
	return c, p, err
}

// single carries out a request that is in no group.
func (b *batchRun) single(x *item) bool {
	c, p, err := b.call(x)
	if err != nil {
		x.answer = b.s.wordless(c, answerOf(err))
	} else {
		x.answer = b.s.do(c, p)
	}
	b.finish(x, c)
	return x.answer.status < 400
}

// finish notes what became of a request.
func (b *batchRun) finish(x *item, c *call) {
	b.done++
	c.deed.ended(x.answer.status, true)
	if x.id == "" || x.answer.status >= 400 {
		return
	}
	b.urls[x.id] = c.url
	if l := x.answer.header["Location"]; len(l) > 0 {
		b.urls[x.id] = strings.TrimPrefix(l[0], c.base)
	}
}

// group carries out requests of which all are done or none.
func (b *batchRun) group(members []*item) bool {
	s := b.s
	if s.hasMood("colleague") {
		b.colleagues(members)
	}
	t, err := s.st.begin(b.c.ctx)
	if err != nil {
		return b.failGroup(members, members[0], internal(err).answer())
	}
	calls := make([]*call, 0, len(members))
	for _, x := range members {
		if b.limit >= 0 && b.done >= b.limit { // half of it, whatever was promised
			break
		}
		c, p, err := b.call(x)
		calls = append(calls, c)
		if err == nil {
			c.tx = t
			x.answer, err = s.dispatch(c, p)
			c.tx = nil
		}
		if err != nil {
			t.rollback()
			undone(calls)
			x.answer = s.wordless(c, answerOf(err))
			b.finish(x, c)
			return b.failGroup(members, x, x.answer)
		}
		b.finish(x, c)
	}
	var r *refusal
	if r = t.check(); r == nil && b.c.ctx.Err() != nil {
		r = refuse(499, "Cancelled", "nobody waits for it any more")
	}
	if r != nil {
		t.rollback()
		undone(calls)
		c := calls[len(calls)-1]
		return b.failGroup(members, members[len(calls)-1], s.wordless(c, r.answer()))
	}
	if err := t.commit(); err != nil {
		undone(calls)
		return b.failGroup(members, members[len(calls)-1], internal(err).answer())
	}
	return true
}

func undone(calls []*call) {
	for _, c := range calls {
		c.deed.undone()
	}
}

// failGroup answers the members of a group that was taken back: one says why.
func (b *batchRun) failGroup(members []*item, which *item, a *answer) bool {
	for _, x := range members {
		delete(b.urls, x.id)
		x.answer = refuse(http.StatusFailedDependency, "GroupFailed", "another request of its group failed, and nothing of the group was done").answer()
	}
	which.answer = a
	return false
}

// colleagues lets somebody edit the records that a group is about to write.
func (b *batchRun) colleagues(members []*item) {
	for _, x := range members {
		if x.wrong != nil || x.method == "GET" || x.method == "POST" {
			continue
		}
		c := &call{ctx: b.c.ctx, method: x.method, header: x.header, base: b.c.base, inner: true, refs: b.urls, deed: b.c.deed}
		if b.s.address(c, x.url) != nil {
			continue
		}
		if p, err := b.s.locate(c); err == nil {
			b.s.meanwhile(c, p)
		}
	}
}

// readMultipart reads the requests of a multipart batch.
func readMultipart(body []byte, contentType string) ([]*item, error) {
	parts, err := odata.ReadParts(body, contentType)
	if err != nil {
		return nil, err
	}
	var all []*item
	groups := 0
	for _, p := range parts {
		if !p.Group {
			all = append(all, readPart(p, ""))
			continue
		}
		groups++
		for _, m := range p.Parts {
			all = append(all, readPart(m, "group-"+itoa(groups)))
		}
	}
	return all, nil
}

func readPart(p odata.Part, group string) *item {
	x := &item{id: p.ID, group: group, header: http.Header{}}
	m, err := odata.ReadRequest(p.Body)
	if err != nil {
		x.wrong = badRequest("a part of the batch is no request: %v", err)
		return x
	}
	if x.id == "" { // where some clients put it
		x.id = strings.Trim(m.Header.Get("Content-Id"), "<>")
	}
	x.method, x.url, x.header, x.body = m.Method, m.URL, m.Header, m.Body
	return x
}

// readJSONBatch reads the requests of a batch in JSON (JSON Format 19).
func readJSONBatch(body []byte) ([]*item, error) {
	var in struct {
		Requests []struct {
			ID      json.RawMessage            `json:"id"`
			Group   string                     `json:"atomicityGroup"`
			After   []string                   `json:"dependsOn"`
			Method  string                     `json:"method"`
			URL     string                     `json:"url"`
			Headers map[string]json.RawMessage `json:"headers"`
			Body    json.RawMessage            `json:"body"`
		} `json:"requests"`
	}
	if err := json.Unmarshal(body, &in); err != nil {
		return nil, badRequest(`the batch is no JSON object with "requests": %v`, err)
	}
	all := make([]*item, len(in.Requests))
	for i, r := range in.Requests {
		x := &item{id: plainText(r.ID), group: r.Group, after: r.After, method: strings.ToUpper(r.Method), url: r.URL, header: make(http.Header, len(r.Headers)+2)}
		all[i] = x
		for k, v := range r.Headers {
			x.header.Set(k, plainText(v))
		}
		switch {
		case x.method == "" || x.url == "":
			x.wrong = badRequest("a request of the batch needs a method and a url")
		case len(r.Body) > 0 && r.Body[0] == '"' && !strings.Contains(x.header.Get("Content-Type"), "json") && x.header.Get("Content-Type") != "":
			x.body = []byte(plainText(r.Body))
			if !strings.HasPrefix(x.header.Get("Content-Type"), "text/") {
				b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(string(x.body), "="))
				if err != nil {
					x.wrong = badRequest("the body of request %s is no base64url", x.id)
				}
				x.body = b
			}
		default:
			x.body = r.Body
		}
	}
	return all, nil
}

// plainText is a JSON string's text, and anything else as it stands.
func plainText(raw json.RawMessage) string {
	var s string
	if json.Unmarshal(raw, &s) == nil {
		return s
	}
	return string(raw)
}

// batchJSON is the answer in JSON: one to each request.
func (c *call) batchJSON(items []*item) *answer {
	type response struct {
		ID      string            `json:"id"`
		Group   string            `json:"atomicityGroup,omitempty"`
		Status  int               `json:"status"`
		Headers map[string]string `json:"headers,omitempty"`
		Body    json.RawMessage   `json:"body,omitempty"`
	}
	all := make([]response, 0, len(items))
	for _, x := range items {
		if x.answer == nil {
			continue
		}
		r := response{ID: x.id, Group: x.group, Status: x.answer.status, Headers: make(map[string]string, len(x.answer.header)+1)}
		for k, v := range x.answer.header {
			r.Headers[strings.ToLower(k)] = v[0]
		}
		if b := x.answer.body; len(b) > 0 {
			r.Body = b
			if !strings.Contains(r.Headers["content-type"], "json") {
				r.Body, _ = json.Marshal(string(b))
			}
		}
		all = append(all, r)
	}
	a := newAnswer(http.StatusOK)
	a.body, _ = json.Marshal(map[string]any{"responses": all})
	a.set("Content-Type", "application/json")
	if c.prefer.Said {
		a.set("Preference-Applied", "continue-on-error="+map[bool]string{true: "true", false: "false"}[c.prefer.ContinueOnError])
	}
	return a
}

// batchMultipart is the answer in parts: what was not come to has none, and a group that failed
// has one for all its members.
func (s *Service) batchMultipart(c *call, items []*item) *answer {
	w := &parts{boundary: "batch_" + random(), lower: s.hasMood("lower-headers")}
	if s.hasMood("bare-boundary") {
		w.boundary = "batch:" + random() + "=?" // signs that would have to be in quotes
	}
	for i := 0; i < len(items); {
		x := items[i]
		if x.group == "" {
			if x.answer != nil && x.answer != notReached {
				w.part(x.id, x.answer)
			}
			i++
			continue
		}
		n := 1
		for i+n < len(items) && items[i+n].group == x.group {
			n++
		}
		w.group(items[i : i+n])
		i += n
	}
	w.end()
	a := newAnswer(http.StatusOK)
	a.body = w.b
	t := `multipart/mixed; boundary="` + w.boundary + `"`
	if s.hasMood("bare-boundary") {
		t = "multipart/mixed; boundary=" + w.boundary
	}
	a.set("Content-Type", t)
	if c.prefer.Said {
		a.set("Preference-Applied", "continue-on-error="+map[bool]string{true: "true", false: "false"}[c.prefer.ContinueOnError])
	}
	return a
}

func random() string {
	var b [9]byte
	_, _ = rand.Read(b[:]) // which never fails
	return hex.EncodeToString(b[:])
}

// parts writes a multipart body.
type parts struct {
	b        []byte
	boundary string
	lower    bool // headers of parts in small letters
}

func (w *parts) header(name, value string) {
	if w.lower {
		name = strings.ToLower(name)
	}
	w.b = append(w.b, name+": "+value+"\r\n"...)
}

func (w *parts) begin() { w.b = append(w.b, "--"+w.boundary+"\r\n"...) }

func (w *parts) part(id string, a *answer) {
	w.begin()
	w.header("Content-Type", "application/http")
	w.header("Content-Transfer-Encoding", "binary")
	if id != "" {
		w.header("Content-ID", id)
	}
	w.b = append(w.b, "\r\n"...)
	w.b = odata.AppendResponse(w.b, a.status, a.header, a.body)
	w.b = append(w.b, "\r\n"...)
}

func (w *parts) group(members []*item) {
	failed := slices.IndexFunc(members, func(x *item) bool {
		return x.answer == nil || x.answer.status >= 400 && (x.answer.failed == nil || x.answer.failed.code != "GroupFailed")
	})
	if failed >= 0 {
		if x := members[failed]; x.answer != nil && x.answer != notReached {
			w.part(x.id, x.answer)
		}
		return
	}
	inner := &parts{boundary: "group_" + random(), lower: w.lower}
	for _, x := range members {
		inner.part(x.id, x.answer)
	}
	inner.end()
	w.begin()
	w.header("Content-Type", "multipart/mixed; boundary="+inner.boundary)
	w.b = append(w.b, "\r\n"...)
	w.b = append(append(w.b, inner.b...), "\r\n"...)
}

func (w *parts) end() { w.b = append(w.b, "--"+w.boundary+"--\r\n"...) }
