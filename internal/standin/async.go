package standin

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"paletwin/internal/odata"
)

// jobs are requests that are answered later (Protocol 11.6).
type jobs struct {
	mu  sync.Mutex
	all map[string]*job
	ids []string
	wg  sync.WaitGroup
}

// maxJobs is how many are kept for who asks later.
const maxJobs = 1000

type job struct {
	done   chan struct{}
	answer *answer
	cancel context.CancelFunc
}

// inBackground answers at once that it will be done, unless it is done within the time that the asker
// would wait.
func (s *Service) inBackground(c *call, p *place) *answer {
	ctx, cancel := context.WithCancel(context.WithoutCancel(c.ctx))
	own := *c
	own.ctx = ctx
	own.deed = &Deed{Batch: c.deed.Number, Method: c.method, URL: c.url}
	s.ledger.add(own.deed)
	j := &job{done: make(chan struct{}), cancel: cancel}
	id := s.jobs.add(j)
	s.jobs.wg.Go(func() {
		defer close(j.done)
		defer func() {
			if fault := recover(); fault != nil { // it is nobody else's end
				j.answer = internal(fmt.Errorf("%v", fault)).answer()
			}
		}()
		s.slow(&own)
		a := s.do(&own, p)
		own.deed.ended(a, true)
		j.answer = a
	})
	if c.prefer.Wait > 0 {
		select {
		case <-j.done:
			s.jobs.take(id)
			j.answer.set("Preference-Applied", "respond-async, wait="+itoa(int(c.prefer.Wait/time.Second)))
			return j.answer
		case <-time.After(c.prefer.Wait):
		case <-c.ctx.Done():
		}
	}
	return s.pending(c, id)
}

func (s *Service) pending(c *call, id string) *answer {
	a := newAnswer(http.StatusAccepted)
	a.set("Location", c.base+"$status/"+id)
	a.set("Retry-After", "1")
	if c.prefer.RespondAsync {
		a.set("Preference-Applied", "respond-async")
	}
	return a
}

func (j *jobs) add(x *job) string {
	var b [12]byte
	_, _ = rand.Read(b[:]) // which never fails
	id := hex.EncodeToString(b[:])
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.all == nil {
		j.all = map[string]*job{}
	}
	if len(j.ids) >= maxJobs {
		delete(j.all, j.ids[0])
		j.ids = j.ids[1:]
	}
	j.all[id], j.ids = x, append(j.ids, id)
	return id
}

func (j *jobs) get(id string) *job {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.all[id]
}

func (j *jobs) take(id string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.all, id)
}

// end cancels what still goes on, and waits for it.
func (j *jobs) end() {
	j.mu.Lock()
	for _, x := range j.all {
		x.cancel()
	}
	j.mu.Unlock()
	j.wg.Wait()
}

// poll answers at a status monitor. A DELETE cancels: what is not begun then is not done.
func (s *Service) poll(c *call, id string) *answer {
	j := s.jobs.get(id)
	if j == nil {
		return notFound("there is no status monitor %s; it was cancelled, or its answer was fetched long ago", id).answer()
	}
	switch c.method {
	case "DELETE":
		j.cancel()
		s.jobs.take(id)
		<-j.done
		return newAnswer(http.StatusNoContent)
	case "GET", "HEAD":
	default:
		return refuse(http.StatusMethodNotAllowed, "MethodNotAllowed", "a status monitor is asked by GET, and cancelled by DELETE").with("Allow", "GET, HEAD, DELETE").answer()
	}
	select {
	case <-j.done:
	default:
		return s.pending(c, id)
	}
	a := *j.answer
	older := c.version == "4.0" // which knows this form alone
	if older || strings.Contains(c.header.Get("Accept"), "application/http") {
		whole := newAnswer(http.StatusOK)
		whole.set("Content-Type", "application/http")
		whole.set("Content-Transfer-Encoding", "binary")
		whole.body = odata.AppendResponse(nil, a.status, a.header, a.body)
		return whole
	}
	h := append(odata.Headers{{Name: "AsyncResult", Value: itoa(a.status)}}, a.header...)
	a.header, a.status = h, http.StatusOK
	return &a
}
