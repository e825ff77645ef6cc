package standin

import (
	"mime"
	"net/http"
	"strings"

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
