package standin

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"

	textjson "paletwin/core/jsontext"
	"paletwin/internal/odata"
)

// item is a request of a batch, whatever form that has.
type item struct {
	id, group string
	after     []string // dependsOn
	method    string
	url       string
	header    odata.Headers
	body      []byte
	wrong     *refusal // why it cannot be read

	answer *answer // nil where it was not come to
	made   string  // the URL of what it made or changed, once it is done

	// What was made of it ahead of its turn, where nothing before it could change that.
	call  *call
	place *place
	err   error
}

// batch answers a $batch: JSON in JSON, multipart in multipart, unless Accept says otherwise.
func (s *Service) batch(c *call) (*answer, error) {
	t := c.header.Get("Content-Type")
	m, _, _ := mime.ParseMediaType(t)
	asJSON := m == "application/json"
	b := s.newBatch(c, asJSON)
	defer b.ahead.end()
	var err error
	switch {
	case asJSON:
		err = b.readJSON(c.body)
	case strings.HasPrefix(strings.ToLower(strings.TrimSpace(t)), "multipart/mixed"):
		err = b.readMultipart(c.body, t)
	default:
		err = refuse(http.StatusUnsupportedMediaType, "UnsupportedMediaType", "a batch is to come as multipart/mixed or application/json, not as %q", t)
	}
	close(b.ahead.in)
	if err != nil {
		return nil, err
	}
	items := b.items
	if r := s.overBatch(c, len(items)); r != nil {
		return nil, r
	}
	var r *refusal
	if b.byID, r = orderly(items); r != nil {
		return nil, r
	}
	if m := s.meets(c, "half-batch", about{}); m != nil {
		b.limit = len(items) / 2
	}
	b.run()
	b.say()
	if b.limit >= 0 {
		return nil, refuse(http.StatusInternalServerError, "Internal", "something went wrong in the middle of the batch")
	}
	if err := c.ctx.Err(); err != nil {
		return nil, refuse(499, "Cancelled", "nobody waits for it any more")
	}
	if m := c.batchForm(asJSON); m == "application/json" {
		return c.batchJSON(items), nil
	}
	return s.batchMultipart(c, items), nil
}

// batchForm is the form of the answer to a batch: that of the request, or as Accept says. Clients of 4.0, which has no
// batches in JSON, send Accept: application/json with multipart batches and mean the answers within.
func (c *call) batchForm(asJSON bool) string {
	switch {
	case asJSON:
		return c.wants("application/json", "multipart/mixed")
	case c.short:
		return c.wants("multipart/mixed", "application/json")
	}
	return "multipart/mixed"
}

// orderly refuses batches whose ids or groups say nothing: ids twice, groups that are
// taken up again, requests that depend on later ones.
func orderly(items []*item) (byID map[string]*item, r *refusal) {
	byID = make(map[string]*item, len(items))
	closed := map[string]bool{}
	group := ""
	for _, x := range items {
		if x.group != group {
			closed[group] = true
			if group = x.group; group != "" && (closed[group] || byID[group] != nil) {
				return nil, badRequest("the requests of the group %s are not next to each other", group)
			}
			for _, on := range x.after {
				if on == group && group != "" {
					return nil, badRequest("the request %s depends on its own group", x.id)
				}
			}
		}
		for _, on := range x.after {
			if byID[on] == nil && !closed[on] {
				return nil, badRequest("the request %s depends on %s, which does not come before it", x.id, on)
			}
		}
		if x.id == "" {
			continue
		}
		if byID[x.id] != nil {
			return nil, badRequest("two requests of the batch have the id %s", x.id)
		}
		byID[x.id] = x
	}
	return byID, nil
}

// batchRun carries out a batch.
type batchRun struct {
	s      *Service
	c      *call
	items  []*item
	byID   map[string]*item
	failed map[string]bool // requests and groups
	limit  int             // how many are done at most; -1 is all
	done   int
	stop   bool
	all    odata.Headers // of the batch, that are for its requests, too
	ahead  *ahead
}

func (s *Service) newBatch(c *call, asJSON bool) *batchRun {
	b := &batchRun{s: s, c: c, failed: map[string]bool{}, limit: -1}
	for _, name := range []string{"Accept", "OData-MaxVersion"} {
		if v := c.header.Get(name); v != "" && (name != "Accept" || asJSON) {
			b.all = append(b.all, odata.Header{Name: name, Value: v})
		}
	}
	b.ahead = b.prepare()
	return b
}

// take takes a request that was read.
func (b *batchRun) take(x *item) {
	b.items = append(b.items, x)
	b.ahead.in <- x
}

func (b *batchRun) run() {
	for i := 0; i < len(b.items) && !b.stop && b.c.ctx.Err() == nil; {
		n := 1
		for g := b.items[i].group; g != "" && i+n < len(b.items) && b.items[i+n].group == g; {
			n++
		}
		members := b.items[i : i+n]
		i += n
		b.ahead.wait(i)
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

// say notes what became of the batch's requests.
func (b *batchRun) say() {
	refused := 0
	for _, x := range b.items {
		if x.answer != nil && x.answer.status >= 400 {
			refused++
		}
	}
	text := itoa(len(b.items)) + " requests"
	if len(b.items) == 1 {
		text = "1 request"
	}
	if refused > 0 {
		text += ", " + itoa(refused) + " refused"
	}
	b.c.deed.said(text)
}

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

// callOf makes a call of a request of the batch, whose turn it is.
func (b *batchRun) callOf(x *item) (*call, *place, error) {
	c, p, err := x.call, x.place, x.err
	if c == nil {
		c = b.blank(x)
	}
	c.refs = b.byID
	c.deed = b.s.ledger.add(&Deed{Batch: b.c.deed.Number, Group: x.group, ID: x.id, Method: c.method, URL: x.url})
	switch {
	case x.wrong != nil:
		return c, nil, x.wrong
	case x.call == nil:
		if err = b.s.address(c, x.url); err == nil {
			err = c.negotiate()
		}
		if err == nil {
			p, err = b.s.locate(c)
		}
	}
	if err == nil && (p.kind == atLedger || p.kind == atStatus) {
		err = badRequest("%s is not for a batch", c.url)
	}
	return c, p, err
}

// single carries out a request that is in no group.
func (b *batchRun) single(x *item) bool {
	c, p, err := b.callOf(x)
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
	c.deed.ended(x.answer, true)
	if x.id == "" || x.answer.status >= 400 {
		return
	}
	x.made = c.url
	if l := x.answer.header.Get("Location"); l != "" {
		x.made = strings.TrimPrefix(l, c.base)
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
		return b.failGroup(members, nil, 0, internal(err).answer())
	}
	defer t.abandon()
	calls := make([]*call, 0, len(members))
	for _, x := range members {
		if b.limit >= 0 && b.done >= b.limit { // half of it, whatever was promised
			break
		}
		c, p, err := b.callOf(x)
		calls = append(calls, c)
		if err == nil {
			c.tx = t
			x.answer, err = s.dispatch(c, p)
			c.tx = nil
		}
		if err != nil {
			t.rollback()
			x.answer = s.wordless(c, answerOf(err))
			b.finish(x, c)
			return b.failGroup(members, calls, len(calls)-1, x.answer)
		}
		b.finish(x, c)
	}
	var r *refusal
	if r = t.check(); r == nil && b.c.ctx.Err() != nil {
		r = refuse(499, "Cancelled", "nobody waits for it any more")
	}
	if r != nil {
		t.rollback()
		last := len(calls) - 1
		return b.failGroup(members, calls, last, s.wordless(calls[last], r.answer()))
	}
	if err := t.commit(); err != nil {
		return b.failGroup(members, calls, len(calls)-1, internal(err).answer())
	}
	return true
}

// failGroup answers the members of a group that was taken back: which of them says why. calls are those that
// were begun.
func (b *batchRun) failGroup(members []*item, calls []*call, which int, a *answer) bool {
	hollow := b.s.hasMood("hollow-group")
	for _, x := range members {
		x.made = ""
		if hollow && x.answer != nil {
			b.c.deed.met("hollow-group")
			continue
		}
		x.answer = refuse(http.StatusFailedDependency, "GroupFailed", "another request of its group failed, and nothing of the group was done").answer()
	}
	members[which].answer = a
	for i, c := range calls {
		c.deed.undone()
		c.deed.ended(members[i].answer, true)
	}
	return false
}

// colleagues lets somebody edit the records that a group is about to write.
func (b *batchRun) colleagues(members []*item) {
	for _, x := range members {
		if x.wrong != nil || x.method == "GET" || x.method == "POST" {
			continue
		}
		c := &call{ctx: b.c.ctx, method: x.method, header: x.header, base: b.c.base, inner: true, refs: b.byID, deed: b.c.deed}
		if b.s.address(c, x.url) != nil {
			continue
		}
		if p, err := b.s.locate(c); err == nil {
			b.s.meanwhile(c, p)
		}
	}
}

// readMultipart reads the requests of a multipart batch.
func (b *batchRun) readMultipart(body []byte, contentType string) error {
	err := odata.ReadParts(body, contentType, func(p odata.Part) {
		group := ""
		if p.Group > 0 {
			group = "group-" + itoa(p.Group)
		}
		b.take(readPart(p, group))
	})
	if err != nil {
		return badRequest("%v", err)
	}
	return nil
}

func readPart(p odata.Part, group string) *item {
	x := &item{id: p.ID, group: group}
	m, err := odata.ReadRequest(p.Body)
	if err != nil {
		x.wrong = badRequest("a part of the batch is no request: %v", err)
		return x
	}
	if x.id == "" { // where some clients put it
		x.id = strings.Trim(m.Header.Get("Content-ID"), "<>")
	}
	x.method, x.url, x.header, x.body = m.Method, m.URL, m.Header, m.Body
	return x
}

// readJSON reads the requests of a batch in JSON (JSON Format 19).
func (b *batchRun) readJSON(body []byte) error {
	d, done := decoder(body, jsontext.AllowDuplicateNames(true)) // the last counts; those of records are looked at
	defer done()
	there := false
	err := members(d, func(name string) error {
		if name != "requests" {
			return d.SkipValue()
		}
		there = true
		return elements(d, func() error {
			x, err := readItem(d, body)
			if err == nil {
				b.take(x)
			}
			return err
		})
	})
	if err == nil && !there {
		err = errors.New("it has none")
	}
	if err != nil {
		return badRequest(`the batch is no JSON object with "requests": %v`, err)
	}
	return nil
}

var decoders = sync.Pool{New: func() any { return &bufferedDecoder{} }}

type bufferedDecoder struct {
	b bytes.Buffer
	d jsontext.Decoder
}

// decoder reads JSON; done is to be called when what it gave is not needed any more.
func decoder(body []byte, o ...jsontext.Options) (d *jsontext.Decoder, done func()) {
	x := decoders.Get().(*bufferedDecoder)
	x.b = *bytes.NewBuffer(body)
	x.d.Reset(&x.b, o...)
	return &x.d, func() {
		x.b = bytes.Buffer{}
		x.d.Reset(&x.b)
		decoders.Put(x)
	}
}

// members reads a JSON object; each is given a member's name and reads its value.
func members(d *jsontext.Decoder, each func(name string) error) error {
	if t, err := d.ReadToken(); err != nil || t.Kind() != '{' {
		return orElse(err, "an object is expected")
	}
	for d.PeekKind() != '}' {
		v, err := d.ReadValue()
		if err != nil {
			return err
		}
		if err := each(unquoted(v)); err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

// unquoted is the text of a JSON string.
func unquoted(v jsontext.Value) string {
	if len(v) > 2 && bytes.IndexByte(v, '\\') < 0 {
		inner := v[1 : len(v)-1]
		if s, ok := common[string(inner)]; ok {
			return s
		}
		return string(inner)
	}
	b, err := jsontext.AppendUnquote(nil, v)
	if err != nil {
		return ""
	}
	return string(b)
}

// elements reads a JSON array; each reads an element.
func elements(d *jsontext.Decoder, each func() error) error {
	if t, err := d.ReadToken(); err != nil || t.Kind() != '[' {
		return orElse(err, "a list is expected")
	}
	for d.PeekKind() != ']' {
		if err := each(); err != nil {
			return err
		}
	}
	_, err := d.ReadToken()
	return err
}

func orElse(err error, text string) error {
	if err == nil {
		err = errors.New(text)
	}
	return err
}

// readItem reads a request of a batch in JSON.
func readItem(d *jsontext.Decoder, whole []byte) (*item, error) {
	x := &item{}
	err := members(d, func(name string) (err error) {
		switch name {
		case "id":
			x.id, err = plain(d)
		case "atomicityGroup":
			x.group, err = plain(d)
		case "method":
			x.method, err = plain(d)
		case "url":
			x.url, err = plain(d)
		case "dependsOn":
			err = elements(d, func() error {
				on, err := plain(d)
				x.after = append(x.after, on)
				return err
			})
		case "headers":
			err = members(d, func(name string) error {
				v, err := plain(d)
				x.header = append(x.header, odata.Header{Name: name, Value: v})
				return err
			})
		case "body":
			var v jsontext.Value
			v, err = d.ReadValue()
			end := d.InputOffset()
			x.body = whole[end-int64(len(v)) : end]
		default:
			err = d.SkipValue()
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	x.method = strings.ToUpper(x.method)
	if x.method == "" || x.url == "" {
		x.wrong = badRequest("a request of the batch needs a method and a url")
	}
	if t := x.header.Get("Content-Type"); len(x.body) > 0 && x.body[0] == '"' && t != "" && !strings.Contains(t, "json") {
		x.unwrap(t)
	}
	return x, nil
}

// unwrap reads a body that is no JSON: a text as a JSON string, anything else in base64url.
func (x *item) unwrap(contentType string) {
	var s string
	_ = json.Unmarshal(x.body, &s) // which was read as JSON already
	x.body = []byte(s)
	if strings.HasPrefix(contentType, "text/") {
		return
	}
	b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
	if err != nil {
		x.wrong = badRequest("the body of request %s is no base64url", x.id)
	}
	x.body = b
}

// common are texts of which batches have many.
var common = func() map[string]string {
	all := map[string]string{}
	for _, s := range []string{"id", "atomicityGroup", "method", "url", "dependsOn", "headers", "body", "GET", "POST", "PATCH", "PUT", "DELETE", "Content-Type", "content-type", "application/json",
		"If-Match", "if-match", "*", "Accept", "accept"} {
		all[s] = s
	}
	return all
}()

// plain reads a JSON string's text, and a number or another word as it stands.
func plain(d *jsontext.Decoder) (string, error) {
	if d.PeekKind() == '"' {
		v, err := d.ReadValue()
		return unquoted(v), err
	}
	t, err := d.ReadToken()
	if err != nil {
		return "", err
	}
	switch t.Kind() {
	case '{', '[':
		return "", errors.New("a text is expected, not an object or a list")
	}
	return t.String(), nil
}

// batchJSON is the answer in JSON: one to each request.
func (c *call) batchJSON(items []*item) *answer {
	b := make([]byte, 0, 64+256*len(items))
	b = append(b, `{"responses":[`...)
	first := true
	for _, x := range items {
		if x.answer == nil {
			continue
		}
		if !first {
			b = append(b, ',')
		}
		first = false
		b = x.appendJSON(b)
	}
	a := newAnswer(http.StatusOK)
	a.body = append(b, "]}"...)
	a.set("Content-Type", "application/json")
	c.applied(a)
	return a
}

// appendJSON appends what a request of the batch got.
func (x *item) appendJSON(b []byte) []byte {
	b = append(b, '{')
	b = appendMember(b, "id", x.id)
	if x.group != "" {
		b = append(b, ',')
		b = appendMember(b, "atomicityGroup", x.group)
	}
	b = append(b, `,"status":`...)
	b = strconv.AppendInt(b, int64(x.answer.status), 10)
	if len(x.answer.header) > 0 {
		b = append(b, `,"headers":{`...)
		for i, h := range x.answer.header {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendMember(b, strings.ToLower(h.Name), h.Value)
		}
		b = append(b, '}')
	}
	if len(x.answer.body) > 0 {
		b = append(b, `,"body":`...)
		if strings.Contains(x.answer.header.Get("Content-Type"), "json") {
			b = append(b, x.answer.body...)
		} else {
			b = textjson.AppendString(b, string(x.answer.body))
		}
	}
	return append(b, '}')
}

// applied says that the batch went on behind errors, if it was asked to.
func (c *call) applied(a *answer) {
	if c.prefer.Said {
		a.set("Preference-Applied", "continue-on-error="+strconv.FormatBool(c.prefer.ContinueOnError))
	}
}

// batchMultipart is the answer in parts: what was not come to has none, and a group that failed
// has one for all its members.
func (s *Service) batchMultipart(c *call, items []*item) *answer {
	w := &parts{boundary: "batchresponse_" + random(), lower: s.hasMood("lower-headers")}
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
	t := "multipart/mixed; boundary=" + w.boundary
	if s.hasMood("quoted-boundary") {
		t = `multipart/mixed; boundary="` + w.boundary + `"`
	}
	a.set("Content-Type", t)
	c.applied(a)
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
	if failed > 0 && members[0].answer != nil && members[0].answer.status < 400 { // hollow
		members, failed = members[:failed+1], -1
	}
	if failed >= 0 {
		if x := members[failed]; x.answer != nil && x.answer != notReached {
			w.part(x.id, x.answer)
		}
		return
	}
	inner := &parts{boundary: "changesetresponse_" + random(), // by which some clients know them
		lower: w.lower}
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
