package standin

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
)

// BenchmarkBatch is 500 amends in a group of a batch, kept in SQLite. docs/performance.md has the ratio
// that `go run ./bench -standin` measures.
func BenchmarkBatch(b *testing.B) {
	s := open(b, harbour(b), filepath.Join(b.TempDir(), KeptName), Options{})
	var bodies [][]byte
	for round := range 2 {
		var body bytes.Buffer
		body.WriteString(`{"requests":[`)
		for i := range 500 {
			if i > 0 {
				body.WriteByte(',')
			}
			fmt.Fprintf(&body, `{"id":"%d","atomicityGroup":"g","method":"PATCH","url":"depots('D0%d')","headers":{"content-type":"application/json","if-match":"*"},"body":{"phone":"%d"}}`, i, i%8+1, i*2+round)
		}
		body.WriteString("]}")
		bodies = append(bodies, body.Bytes())
	}
	for i := 0; b.Loop(); i++ {
		r := httptest.NewRequest("POST", "/$batch", bytes.NewReader(bodies[i%2]))
		r.Header.Set("Content-Type", "application/json")
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if w.Code != http.StatusOK || bytes.Count(w.Body.Bytes(), []byte(`"status":204`)) != 500 {
			b.Fatalf("%d %.300s", w.Code, w.Body)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/500, "ns/amend")
}

// BenchmarkKeyedRead is a record read by its key, without the wire.
func BenchmarkKeyedRead(b *testing.B) {
	s := open(b, harbour(b), "", Options{})
	r := httptest.NewRequest("GET", "/aids('00107')", nil)
	for b.Loop() {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if w.Code != http.StatusOK {
			b.Fatal(w.Body)
		}
	}
}
