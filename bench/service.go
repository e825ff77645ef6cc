package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"time"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/disk"
	"paletwin/internal/standin"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
)

// This file measures amends of a service: what they cost beside a client written by hand that reads keys and ETags by page, and sends
// one PATCH a record in batches of the same size. Of both, what the service itself costs is taken away: what each of them sent is
// given to the service once more, without a connection.

// sent is what a client sent.
type sent struct {
	method, url string
	header      http.Header
	body        []byte
}

// recorder keeps what is sent to a service.
type recorder struct {
	s   http.Handler
	mu  sync.Mutex
	all []sent
}

func (r *recorder) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	body, err := io.ReadAll(q.Body)
	must(err)
	r.mu.Lock()
	r.all = append(r.all, sent{q.Method, q.URL.String(), q.Header.Clone(), body})
	r.mu.Unlock()
	q.Body = io.NopCloser(bytes.NewReader(body))
	r.s.ServeHTTP(w, q)
}

// nobody takes an answer.
type nobody struct{ h http.Header }

func (n *nobody) Header() http.Header         { return n.h }
func (n *nobody) Write(b []byte) (int, error) { return len(b), nil }
func (n *nobody) WriteHeader(int)             {}

// service measures the two in turn.
func (b *bench) service() {
	dir := b.path("service")
	must(os.RemoveAll(dir))
	must(os.MkdirAll(dir, 0o755))
	register(dir, 100_000)
	open := func() *standin.Service {
		w, err := standin.Load(context.Background(), disk.OS{}, dir, nil)
		must(err)
		s, _, err := standin.Open(context.Background(), w, "", false, standin.Options{Page: 5000})
		must(err)
		return s
	}
	measure := func(client func(url string)) (cpu, wall time.Duration, requests int) {
		s := open()
		r := &recorder{s: s}
		server := httptest.NewServer(r)
		from, at := used(), time.Now()
		client(server.URL)
		cpu, wall = used()-from, time.Since(at)
		server.Close()
		s.Close()
		s = open()
		defer s.Close()
		from = used()
		for _, x := range r.all {
			q := httptest.NewRequest(x.method, x.url, bytes.NewReader(x.body))
			q.Header = x.header
			s.ServeHTTP(&nobody{http.Header{}}, q)
		}
		return cpu - (used() - from), wall, len(r.all)
	}
	fmt.Printf("| 10,000 amends of 100,000 records | ratio | ours | by hand | requests, ours | by hand | wall time, ours | by hand |\n| --- | --- | --- | --- | --- | --- | --- | --- |\n")
	for _, form := range []string{"json", "multipart"} {
		var ratios []float64
		var ours, hand, oursWall, handWall []time.Duration
		var n, m int
		for round := range b.runs {
			o, ow, on := measure(func(url string) { amendOurs(url, form, round) })
			h, hw, hn := measure(func(url string) { amendByHand(url, form, round) })
			ours, hand, ratios, n, m = append(ours, o), append(hand, h), append(ratios, o.Seconds()/h.Seconds()), on, hn
			oursWall, handWall = append(oursWall, ow), append(handWall, hw)
		}
		fmt.Printf("| %s | %.2f | %.2f s | %.2f s | %d | %d | %.2f s | %.2f s |\n", form, median(ratios), median(ours).Seconds(), median(hand).Seconds(), n, m, median(oursWall).Seconds(), median(handWall).Seconds())
	}
}

func amendOurs(url, form string, round int) {
	ctx := context.Background()
	s, err := odata.Open(ctx, disk.OS{}, url+"/aids", odata.Options{Batch: batchSize, Form: form})
	must(err)
	defer s.Close()
	var keys []record.Key
	for i := range amends {
		keys = append(keys, record.NewKey(fmt.Sprintf("%06d", i*7)))
	}
	states, err := s.Current(ctx, keys)
	must(err)
	var steps []target.Step
	for i, k := range keys {
		fee, _ := states[i].Record.Get("fee")
		steps = append(steps, target.Step{ID: changeset.MakeID("aids", k, changeset.Amend), Act: changeset.Amend, Key: k,
			Fields: []changeset.Edit{{Field: "fee", From: fee, To: record.Text(fmt.Sprintf("%d.25", 100+round))}}})
	}
	size := s.Traits().Batch
	for from := 0; from < len(steps); from += size {
		results, err := s.Request(ctx, steps[from:min(from+size, len(steps))], func(json.RawMessage) error { return nil })
		must(err)
		for _, r := range results {
			if r.Fate != target.Done {
				must(fmt.Errorf("%s", r.Reason))
			}
		}
	}
}

// amendByHand is what somebody would write who knows the service.
func amendByHand(url, form string, round int) {
	type aid struct {
		No   string `json:"aid_no"`
		ETag string `json:"@odata.etag"`
	}
	etags := map[string]string{}
	for next := url + "/aids"; next != ""; {
		body, _ := fetch(next)
		var page struct {
			Value []aid  `json:"value"`
			Next  string `json:"@odata.nextLink"`
		}
		must(json.Unmarshal(body, &page))
		for _, a := range page.Value {
			etags[a.No] = a.ETag
		}
		next = page.Next
	}
	slots := make(chan struct{}, 4)
	var wg sync.WaitGroup
	for from := 0; from < amends; from += batchSize {
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if form == "json" {
				handJSON(url, etags, from, round)
			} else {
				handParts(url, etags, from, round)
			}
		})
	}
	wg.Wait()
}

func handJSON(url string, etags map[string]string, from, round int) {
	type request struct {
		ID      string            `json:"id"`
		Method  string            `json:"method"`
		URL     string            `json:"url"`
		Headers map[string]string `json:"headers"`
		Body    map[string]any    `json:"body"`
	}
	var batch struct {
		Requests []request `json:"requests"`
	}
	for i := from; i < from+batchSize; i++ {
		no := fmt.Sprintf("%06d", i*7)
		batch.Requests = append(batch.Requests, request{fmt.Sprint(i), "patch", "aids('" + no + "')", map[string]string{"content-type": "application/json", "if-match": etags[no], "prefer": "return=representation"},
			map[string]any{"fee": json.RawMessage(fmt.Sprintf("%d.25", 100+round))}})
	}
	body, err := json.Marshal(batch)
	must(err)
	q, err := http.NewRequest("POST", url+"/$batch", bytes.NewReader(body))
	must(err)
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set("Prefer", "continue-on-error")
	r, err := http.DefaultClient.Do(q)
	must(err)
	defer r.Body.Close()
	var answer struct {
		Responses []struct {
			ID     string         `json:"id"`
			Status int            `json:"status"`
			Body   map[string]any `json:"body"`
		} `json:"responses"`
	}
	must(json.NewDecoder(r.Body).Decode(&answer))
	if len(answer.Responses) != batchSize {
		must(fmt.Errorf("%d responses", len(answer.Responses)))
	}
	for _, x := range answer.Responses {
		if x.Status != 200 {
			must(fmt.Errorf("%d", x.Status))
		}
	}
}

func handParts(url string, etags map[string]string, from, round int) {
	var body bytes.Buffer
	for i := from; i < from+batchSize; i++ {
		no := fmt.Sprintf("%06d", i*7)
		fmt.Fprintf(&body, "--b\r\nContent-Type: application/http\r\nContent-Transfer-Encoding: binary\r\n\r\nPATCH aids('%s') HTTP/1.1\r\nContent-Type: application/json\r\nIf-Match: %s\r\nPrefer: return=representation\r\n\r\n{\"fee\":%d.25}\r\n", no, etags[no], 100+round)
	}
	body.WriteString("--b--\r\n")
	q, err := http.NewRequest("POST", url+"/$batch", &body)
	must(err)
	q.Header.Set("Content-Type", "multipart/mixed;boundary=b")
	q.Header.Set("Prefer", "odata.continue-on-error")
	r, err := http.DefaultClient.Do(q)
	must(err)
	defer r.Body.Close()
	answer, err := io.ReadAll(r.Body)
	must(err)
	boundary := strings.TrimPrefix(r.Header.Get("Content-Type"), "multipart/mixed; boundary=")
	n := 0
	for _, part := range strings.Split(string(answer), "--"+boundary) {
		_, rest, _ := strings.Cut(part, "\r\n\r\n")
		if !strings.HasPrefix(rest, "HTTP/1.1 200") {
			continue
		}
		_, text, _ := strings.Cut(rest, "\r\n\r\n")
		var a map[string]any
		must(json.Unmarshal([]byte(text), &a))
		n++
	}
	if n != batchSize {
		must(fmt.Errorf("%d done", n))
	}
}
