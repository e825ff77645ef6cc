package odata

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	textjson "paletwin/core/jsontext"
	"paletwin/internal/odata"
	"paletwin/internal/target"
)

// This file sends requests together, and finds the answer to each: as a batch in JSON (JSON Format 19) or in multipart (Protocol 11.7),
// or alone.

// request is a request for one record.
type request struct {
	method string
	path   string // from the service's root
	header odata.Headers
	body   []byte
	group  string // requests with the same stand next to each other, and are done all or none; "" is alone
}

// answer is what a request got.
type answer struct {
	status int
	header odata.Headers
	body   []byte
}

// form is how requests go together.
type form int32

const (
	inJSON form = iota
	inParts
	alone // which they do not
)

// batching is what is known of a service's batches.
type batching struct {
	form   form
	proven bool         // a batch of that form was answered
	most   atomic.Int32 // requests of one; 0 is not known
	async  bool         // it is asked to answer later where it takes longer than wait
	wait   time.Duration
	drop   bool // what it is at is dropped where nobody waits any more
}

// prove finds out in which form the service takes batches, by one that asks for something and changes nothing: what a
// service that takes none makes of a batch is not always a plain no.
func (c *client) prove(ctx context.Context, path string) error {
	var w waiting
	for !c.batches.proven && c.batches.form != alone {
		r, err := c.dispatch(ctx, []request{{method: "GET", path: path}}, false, c.batches.form, sending{safe: true})
		switch {
		case err != nil && !w.lost(err):
			return err
		case err != nil || busy(r.status):
			if err := c.wait(ctx, &w, r, err); err != nil {
				return err
			}
			continue
		case r.status == http.StatusUnauthorized:
			return c.refused(r)
		}
		var answers [1]*answer
		if r.status < 300 && c.readBatch([]request{{}}, r, answers[:]) == nil && answers[0] != nil {
			c.batches.proven = true
		} else {
			c.batches.form++
		}
	}
	return nil
}

// sending is how requests are sent.
type sending struct {
	safe bool // they change nothing, and are sent again where an answer is lost
	// job is told where an answer will be that is not there yet, before it is asked for; nil asks the service to answer at once.
	job func(*job) error
}

// exchanged is what was answered.
type exchanged struct {
	answers []*answer // nil where there is none: it was left out, and not come to
	// again says that an earlier sending was answered in a way that does not say that nothing of it was done.
	again bool
}

// exchange sends requests, and returns what each was answered. An error is an *Error, of which all codes but Lost and Failed say that
// nothing was done, a *target.Unwritten, or that of ctx.
func (c *client) exchange(ctx context.Context, reqs []request, how sending) (*exchanged, error) {
	x := &exchanged{answers: make([]*answer, len(reqs))}
	single := len(reqs) == 1 && reqs[0].group == ""
	var w waiting
	for {
		r, err := c.dispatch(ctx, reqs, single, c.batches.form, how)
		switch {
		case err != nil && (!how.safe || !w.lost(err)):
			var e *Error // what leads elsewhere was answered, and may have been done
			x.again = x.again || errors.As(err, &e) && (e.Code == Elsewhere || e.Code == Foreign)
			return x, err
		case err == nil && r.status == http.StatusUnauthorized:
			return x, c.refused(r)
		case err == nil && !busy(r.status):
			if single {
				x.answers[0] = r.answer()
				return x, nil
			}
			err := c.batchAnswer(reqs, r, x)
			if err == nil || !how.safe || !w.lost(err) {
				return x, err
			}
			if werr := c.wait(ctx, &w, nil, err); werr != nil {
				return x, werr
			}
			continue
		}
		x.again = x.again || err != nil || r.status != http.StatusTooManyRequests
		if werr := c.wait(ctx, &w, r, err); werr != nil {
			return x, werr
		}
	}
}

// dispatch sends requests once, alone or as a batch.
func (c *client) dispatch(ctx context.Context, reqs []request, single bool, f form, how sending) (*reply, error) {
	method, path, header, body := "POST", "$batch", odata.Headers(nil), []byte(nil)
	var prefer string
	if single {
		method, path, header, body = reqs[0].method, reqs[0].path, slices.Clone(reqs[0].header), reqs[0].body
		prefer = header.Get("Prefer")
	} else {
		header, body = appendBatch(reqs, f)
		prefer = "odata.continue-on-error, continue-on-error"
	}
	if how.job != nil && c.batches.async {
		if prefer != "" {
			prefer += ", "
		}
		prefer += "respond-async"
		if c.batches.wait > 0 {
			prefer += ", wait=" + strconv.Itoa(int(c.batches.wait/time.Second))
		}
	}
	if prefer != "" {
		header.Set("Prefer", prefer)
	}
	u, err := c.resolve("./"+path, c.root) // else a colon in a key would end a scheme
	if err != nil {
		return nil, err
	}
	if err := ctx.Err(); err != nil {
		return nil, &target.Unwritten{Err: err}
	}
	patient, done := ctx, func() {}
	if !how.safe { // whoever ends us does not end it: it is waited for
		patient, done = patiently(ctx)
	}
	r, err := c.once(patient, method, u, body, header)
	done()
	if err != nil || r.status != http.StatusAccepted || r.header.Get("Location") == "" || how.job == nil {
		return r, err
	}
	j, err := c.jobAt(r.header.Get("Location"), u, reqs)
	if err != nil {
		return nil, err
	}
	if err := how.job(j); err != nil {
		return nil, err
	}
	return c.await(ctx, j, r)
}

// Patience is how long the answer to what was sent is waited for once nobody wants to go on.
var Patience = 30 * time.Second

// patiently is a context that is done some time after another one.
func patiently(ctx context.Context) (context.Context, func()) {
	out, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(Patience, cancel) })
	return out, func() { stop(); cancel() }
}

// answer is the reply as one to a request.
func (r *reply) answer() *answer {
	a := &answer{status: r.status, body: r.body}
	for name, values := range r.header {
		for _, v := range values {
			a.header = append(a.header, odata.Header{Name: name, Value: v})
		}
	}
	return a
}

// batchAnswer takes in the answer to a batch. What a service refuses as a whole may be too large for it.
func (c *client) batchAnswer(reqs []request, r *reply, x *exchanged) error {
	switch {
	case r.status < 300:
		if err := c.readBatch(reqs, r, x.answers); err != nil {
			clear(x.answers)
			return &Error{Name: c.name, Code: Lost, Text: "what the service answers to a batch cannot be read: " + err.Error()}
		}
		return nil
	case r.status == http.StatusForbidden:
		return c.refused(r)
	case r.status >= 500 && r.status != http.StatusNotImplemented:
		return &Error{Name: c.name, Code: Failed, Text: fmt.Sprintf("the service failed (%d)", r.status) + c.says(r), cause: cause{r.status, words(r.body, r.header.Get("Content-Type"))}}
	}
	return &Error{Name: c.name, Code: TooLarge, Text: fmt.Sprintf("the service refuses the batch (%d)", r.status) + c.says(r)}
}

// appendBatch writes a batch.
func appendBatch(reqs []request, f form) (odata.Headers, []byte) {
	if f == inParts {
		boundary := "batch_" + mark()
		b := appendParts(nil, reqs, boundary)
		return odata.Headers{{Name: "Content-Type", Value: "multipart/mixed;boundary=" + boundary}, {Name: "Accept", Value: "multipart/mixed"}}, b
	}
	b := []byte(`{"requests":[`)
	for i := range reqs {
		r := &reqs[i]
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"id":"`...)
		b = strconv.AppendInt(b, int64(i), 10)
		if r.group != "" {
			b = append(b, `","atomicityGroup":"`...)
			b = append(b, r.group...)
		}
		b = append(b, `","method":"`...)
		b = append(b, strings.ToLower(r.method)...)
		b = append(b, `","url":`...)
		b = textjson.AppendString(b, r.path)
		b = append(b, `,"headers":{"accept":"`+acceptJSON+`"`...)
		for _, h := range r.header {
			b = append(b, ',')
			b = textjson.AppendString(b, strings.ToLower(h.Name))
			b = append(b, ':')
			b = textjson.AppendString(b, h.Value)
		}
		b = append(b, '}')
		if len(r.body) > 0 {
			b = append(append(b, `,"body":`...), r.body...)
		}
		b = append(b, '}')
	}
	return odata.Headers{{Name: "Content-Type", Value: "application/json"}, {Name: "Accept", Value: "application/json"}}, append(b, "]}"...)
}

func mark() string {
	var m [9]byte
	_, _ = rand.Read(m[:]) // which never fails
	return hex.EncodeToString(m[:])
}

// appendParts writes a multipart batch: groups as change sets.
func appendParts(b []byte, reqs []request, boundary string) []byte {
	for i := 0; i < len(reqs); {
		n := groupLen(reqs, i)
		b = append(append(append(b, "--"...), boundary...), "\r\n"...)
		if reqs[i].group == "" {
			b = appendPart(b, &reqs[i], i)
		} else {
			inner := "changeset_" + mark()
			b = append(append(append(b, "Content-Type: multipart/mixed;boundary="...), inner...), "\r\n\r\n"...)
			for k := i; k < i+n; k++ {
				b = append(append(append(b, "--"...), inner...), "\r\n"...)
				b = appendPart(b, &reqs[k], k)
			}
			b = append(append(append(b, "--"...), inner...), "--\r\n"...)
		}
		i += n
	}
	return append(append(append(b, "--"...), boundary...), "--\r\n"...)
}

// groupLen is how many requests from one on are done together.
func groupLen(reqs []request, i int) int {
	n := 1
	for reqs[i].group != "" && i+n < len(reqs) && reqs[i+n].group == reqs[i].group {
		n++
	}
	return n
}

func appendPart(b []byte, r *request, id int) []byte {
	b = append(b, "Content-Type: application/http\r\nContent-Transfer-Encoding: binary\r\nContent-ID: "...)
	b = strconv.AppendInt(b, int64(id)+1, 10)
	b = append(b, "\r\n\r\n"...)
	b = odata.AppendRequest(b, r.method, r.path, append(odata.Headers{{Name: "Accept", Value: acceptJSON}}, r.header...), r.body)
	return append(b, "\r\n"...)
}

// readBatch finds the answer to each request in that to a batch, in whatever form it comes.
func (c *client) readBatch(reqs []request, r *reply, answers []*answer) error {
	t := r.header.Get("Content-Type")
	if m, _, _ := mime.ParseMediaType(t); m == "application/json" {
		return readResponses(r.body, answers)
	}
	return readParts(reqs, r.body, t, answers)
}

// readResponses reads the answer to a batch in JSON.
func readResponses(body []byte, answers []*answer) error {
	d := jsontext.NewDecoder(bytes.NewBuffer(body))
	there := false
	err := odata.Members(d, func(name string) error {
		if name != "responses" {
			return d.SkipValue()
		}
		there = true
		return odata.Elements(d, func() error {
			id, a, err := readResponse(d, body)
			if err == nil && id >= 0 && id < len(answers) {
				answers[id] = a
			}
			return err
		})
	})
	if err == nil && !there {
		err = errors.New("it has no responses")
	}
	return err
}

func readResponse(d *jsontext.Decoder, whole []byte) (id int, a *answer, err error) {
	id, a = -1, &answer{}
	err = odata.Members(d, func(name string) error {
		switch name {
		case "headers":
			return odata.Members(d, func(name string) error {
				v, err := d.ReadToken()
				a.header = append(a.header, odata.Header{Name: name, Value: v.String()})
				return err
			})
		case "id", "status":
			v, err := d.ReadToken()
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(v.String())
			if name == "id" && err == nil {
				id = n
			} else if name == "status" {
				a.status = n
			}
			return nil
		}
		v, err := d.ReadValue()
		if err == nil && name == "body" {
			if a.body = whole[d.InputOffset()-int64(len(v)) : d.InputOffset()]; v.Kind() == '"' { // a body that is no JSON
				a.body = []byte(odata.Unquoted(v))
			}
		}
		return err
	})
	if err == nil && a.status == 0 {
		err = fmt.Errorf("the response %d has no status", id)
	}
	return id, a, err
}

// readParts reads the answer to a multipart batch: by order, since not all give Content-IDs back. A group that failed has one answer, which is that of all, or those
// up to the one that failed.
func readParts(reqs []request, body []byte, contentType string, answers []*answer) error {
	var units []odata.Part // those that are alone, and of each group the first
	groups := map[int][]odata.Part{}
	err := odata.ReadParts(body, contentType, func(p odata.Part) {
		if p.Group > 0 {
			if groups[p.Group] = append(groups[p.Group], p); len(groups[p.Group]) > 1 {
				return
			}
		}
		units = append(units, p)
	})
	if err != nil {
		return err
	}
	for i := 0; i < len(reqs) && len(units) > 0; {
		n, p := groupLen(reqs, i), units[0]
		units = units[1:]
		members := groups[p.Group]
		if p.Group == 0 {
			members = []odata.Part{p}
		}
		if len(members) > n {
			return errors.New("it has answers to more requests than a group has")
		}
		for k, m := range members {
			r, err := odata.ReadResponse(m.Body)
			if err != nil {
				return err
			}
			at := i + k
			if id, err := strconv.Atoi(m.ID); err == nil && id-1 >= i && id-1 < i+n {
				at = id - 1
			}
			answers[at] = &answer{r.Status, r.Header, r.Body}
		}
		i += n
	}
	return nil
}
