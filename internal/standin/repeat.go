package standin

import (
	"encoding/hex"
	"encoding/json"
	"sync"

	"github.com/zeebo/xxh3"

	"paletwin/internal/odata"
)

// answers are those to repeatable requests (OASIS Repeatable Requests 1.0) where nothing is kept
// in a file.
type answers struct {
	mu  sync.Mutex
	all map[string]remembered
}

// remembered is what was answered to which request.
type remembered struct {
	request string
	answer  []byte
}

// stored is an answer as it is kept.
type stored struct {
	Status int           `json:"status"`
	Header odata.Headers `json:"header"`
	Body   []byte        `json:"body"`
}

const (
	repeatID     = "Repeatability-Request-Id"
	repeatFirst  = "Repeatability-First-Sent"
	repeatClient = "Repeatability-Client-Id"
	repeatResult = "Repeatability-Result"
)

// once does what a call asks unless that was done before, under the same id: then
// the answer is the one that it got. It runs in the call's transaction, so that what was done and that it
// was are kept together.
func (s *Service) once(c *call, do func() (*answer, error)) (*answer, error) {
	id := c.header.Get(repeatID)
	if id == "" || s.hasMood("no-repeats") {
		return do()
	}
	if c.header.Get(repeatFirst) == "" {
		return nil, badRequest("a %s needs a Repeatability-First-Sent beside it", "Repeatability-Request-ID").with(repeatResult, "rejected")
	}
	id = c.header.Get(repeatClient) + "\x00" + id
	sum := xxh3.Hash128(c.body).Bytes()
	request := c.method + " " + c.url + " " + hex.EncodeToString(sum[:])
	before, b, err := s.recall(c, id)
	if err != nil {
		return nil, internal(err)
	}
	if b != nil {
		if before != request {
			return nil, badRequest("the same Repeatability-Request-ID came with another request before").with(repeatResult, "rejected")
		}
		var st stored
		if err := json.Unmarshal(b, &st); err != nil {
			return nil, internal(err)
		}
		c.deed.repeats()
		return &answer{status: st.Status, header: st.Header, body: st.Body}, nil
	}
	a, err := do()
	if err != nil {
		return nil, err
	}
	a.set(repeatResult, "accepted")
	if b, err = json.Marshal(stored{a.status, a.header, a.body}); err == nil {
		err = s.remember(c, id, request, b)
	}
	if err != nil {
		return nil, internal(err)
	}
	return a, nil
}

func (s *Service) recall(c *call, id string) (string, []byte, error) {
	if s.st.keep != nil {
		return s.st.keep.answer(c.tx.ctx, id)
	}
	s.answers.mu.Lock()
	defer s.answers.mu.Unlock()
	r := s.answers.all[id]
	return r.request, r.answer, nil
}

func (s *Service) remember(c *call, id, request string, b []byte) error {
	if s.st.keep != nil {
		return s.st.keep.remember(c.tx.ctx, id, request, b)
	}
	s.answers.mu.Lock()
	defer s.answers.mu.Unlock()
	if s.answers.all == nil {
		s.answers.all = map[string]remembered{}
	}
	s.answers.all[id] = remembered{request, b}
	c.tx.done = append(c.tx.done, done{undo: func() {
		s.answers.mu.Lock()
		defer s.answers.mu.Unlock()
		delete(s.answers.all, id)
	}})
	return nil
}
