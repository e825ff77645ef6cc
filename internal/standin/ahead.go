package standin

import (
	"bytes"
	"math"
	"strings"
	"sync"
	"sync/atomic"
)

// ahead reads what requests of a batch ask, and the bodies of writes, while the batch itself is still read and
// while those before them are carried out.
type ahead struct {
	in    chan *item
	mu    sync.Mutex
	more  sync.Cond
	ready int
	stop  atomic.Bool
	done  sync.WaitGroup
}

// aheadChunk is how many requests are read before whoever waits for them is told.
const aheadChunk = 32

// prepare begins to read the requests that in is given, until that is closed.
func (b *batchRun) prepare() *ahead {
	a := &ahead{in: make(chan *item, 4*aheadChunk)}
	a.more.L = &a.mu
	tell := func(n int) {
		a.mu.Lock()
		a.ready = n
		a.mu.Unlock()
		a.more.Signal()
	}
	a.done.Go(func() {
		n := 0
		for x := range a.in {
			if !a.stop.Load() {
				b.read(x)
			}
			if n++; n%aheadChunk == 0 {
				tell(n)
			}
		}
		tell(math.MaxInt)
	})
	return a
}

// wait waits until so many requests are read.
func (a *ahead) wait(n int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for a.ready < n {
		a.more.Wait()
	}
}

// end ends the reading; no request is read any more when it returns.
func (a *ahead) end() {
	a.stop.Store(true)
	a.done.Wait()
}

// read makes a call of a request, unless what it asks depends on what those before it make.
func (b *batchRun) read(x *item) {
	if strings.HasPrefix(x.url, "$") || x.wrong != nil {
		return
	}
	defer func() {
		if recover() != nil { // in its turn it is read again, where a fault ends the batch alone
			x.call = nil
		}
	}()
	c := b.blank(x)
	x.call = c
	if x.err = b.s.address(c, x.url); x.err != nil {
		return
	}
	if x.err = c.negotiate(); x.err != nil {
		return
	}
	x.place, x.err = b.s.locate(c)
	if x.err == nil && len(x.body) > 0 && (x.place.kind == atSet || x.place.kind == atEntity) && !bytes.Contains(x.body, []byte("@")) {
		if in, err := b.s.readBody(c, x.place.last()); err == nil { // what is wrong with it is said in its turn
			c.input = in
		}
	}
}

// blank is the call of a request before its URL is read.
func (b *batchRun) blank(x *item) *call {
	c := &call{ctx: b.c.ctx, method: x.method, header: x.header, body: x.body, base: b.c.base, inner: true}
	if t := x.header.Get("X-HTTP-Method"); t != "" && c.method == "POST" {
		c.method = strings.ToUpper(t)
	}
	if c.method == "MERGE" {
		c.method = "PATCH"
	}
	for _, h := range b.all { // those of the batch are for all
		if c.header.Get(h.Name) == "" {
			c.header = append(c.header, h)
		}
	}
	return c
}
