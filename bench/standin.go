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
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"paletwin/internal/disk"
	"paletwin/internal/standin"
	"paletwin/internal/target/sqldb/lite"
)

// standin measures the simulated record service of 100,000 records: reads by key against a
// bare handler that gives the same bytes, and batches of amends against the same rows
// in SQLite, in the same transactions.
func (b *bench) standin() {
	debug.SetGCPercent(400) // as the program has it
	dir := b.path("standin")
	must(os.RemoveAll(dir))
	must(os.MkdirAll(dir, 0o755))
	register(dir, 100_000)
	ctx := context.Background()
	loading := time.Now()
	w, err := standin.Load(ctx, disk.OS{}, dir, nil)
	must(err)
	s, _, err := standin.Open(ctx, w, filepath.Join(dir, standin.KeptName), false, standin.Options{})
	must(err)
	fmt.Printf("loaded the first time in %.1f s\n\n| figure | ratio | median | floor |\n| --- | --- | --- | --- |\n", time.Since(loading).Seconds())
	server := httptest.NewServer(s)
	b.keyedReads(server)
	b.batches(server, dir, "in JSON", jsonBatch)
	b.batches(server, dir, "multipart", multipartBatch)
	server.Close()
	s.Close()
	again := time.Now()
	w, err = standin.Load(ctx, disk.OS{}, dir, nil)
	must(err)
	s, _, err = standin.Open(ctx, w, filepath.Join(dir, standin.KeptName), false, standin.Options{})
	must(err)
	fmt.Printf("\nloaded again in %.1f s\n", time.Since(again).Seconds())
	server = httptest.NewServer(s)
	for _, q := range []string{"aids?$filter=fee gt 1000 and contains(name,'77')&$count=true&$top=1", "aids?$orderby=fee desc&$top=100", "aids?$top=1000"} {
		var times []time.Duration
		for range b.runs {
			at := time.Now()
			fetch(server.URL + "/" + strings.ReplaceAll(q, " ", "%20"))
			times = append(times, time.Since(at))
		}
		fmt.Printf("%s: %.1f ms\n", q, median(times).Seconds()*1000)
	}
	server.Close()
	s.Close()
}

// register writes the table and its layout.
func register(dir string, n int) {
	must(os.MkdirAll(filepath.Join(dir, "layouts"), 0o755))
	must(os.WriteFile(filepath.Join(dir, "layouts", "aids.yaml"), []byte(`record_set: aids
key: aid_no
fields:
  aid_no: text
  name: {kind: text, length: ..60}
  zone: {kind: choice, values: [inner, outer, estuary, roads]}
  latitude: {kind: decimal, scale: 5}
  installed: date
  fee: {kind: decimal, scale: 2}
  seasonal: boolean
  remarks: text
`), 0o644))
	var out bytes.Buffer
	out.WriteString("aid_no,name,zone,latitude,installed,fee,seasonal,remarks\n")
	zones := []string{"inner", "outer", "estuary", "roads"}
	for i := range n {
		fmt.Fprintf(&out, "%06d,Aid %d,%s,57.%05d,20%02d-03-11,%d.50,%t,seen to in week %d\n", i, i, zones[i%4], i*7%100000, i%25, 100+i%1900, i%3 == 0, i%52)
	}
	must(os.WriteFile(filepath.Join(dir, "aids.csv"), out.Bytes(), 0o644))
}

func fetch(url string) ([]byte, http.Header) {
	r, err := http.Get(url)
	must(err)
	body, err := io.ReadAll(r.Body)
	must(err)
	must(r.Body.Close())
	if r.StatusCode != http.StatusOK {
		must(fmt.Errorf("%s: %s %s", url, r.Status, body))
	}
	return body, r.Header
}

// keyedReads asks the service and the bare handler in turn, 1000 reads at a time.
func (b *bench) keyedReads(server *httptest.Server) {
	body, header := fetch(server.URL + "/aids('050000')")
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for _, k := range []string{"Content-Type", "OData-Version", "ETag"} {
			w.Header()[k] = header[http.CanonicalHeaderKey(k)]
		}
		_, _ = w.Write(body)
	}))
	defer bare.Close()
	var ratios []float64
	var ours, floor []time.Duration
	reads := func(url string) time.Duration {
		at := time.Now()
		for i := range 1000 {
			fetch(fmt.Sprintf("%s/aids('%06d')", url, i*97%100_000))
		}
		return time.Since(at)
	}
	reads(server.URL)
	reads(bare.URL)
	for range 3 * b.runs {
		o, f := reads(server.URL), reads(bare.URL)
		ours, floor, ratios = append(ours, o), append(floor, f), append(ratios, o.Seconds()/f.Seconds())
	}
	fmt.Printf("| 1000 reads by key, against a bare handler of the same bytes | %.2f | %.0f ms | %.0f ms |\n", median(ratios), median(ours).Seconds()*1000, median(floor).Seconds()*1000)
}

const (
	amends    = 10_000
	batchSize = 500
)

// batches sends 10,000 amends in batches of 500, each an atomicity group, and writes the same rows to a
// table of the same shape in SQLite, in the same transactions.
func (b *bench) batches(server *httptest.Server, dir, form string, write func(round, from int) (contentType string, body []byte)) {
	var ratios []float64
	var ours, floor []time.Duration
	for round := range b.runs {
		var o time.Duration
		for from := 0; from < amends; from += batchSize {
			t, body := write(round, from)
			at := time.Now()
			r, err := http.Post(server.URL+"/$batch", t, bytes.NewReader(body))
			must(err)
			answer, err := io.ReadAll(r.Body)
			must(err)
			must(r.Body.Close())
			o += time.Since(at)
			if n := bytes.Count(answer, []byte("204 No Content")) + bytes.Count(answer, []byte(`"status":204`)); n != batchSize {
				must(fmt.Errorf("%d of %d amends were done: %.400s", n, batchSize, answer))
			}
		}
		f := sqlite(dir, round)
		ours, floor, ratios = append(ours, o), append(floor, f), append(ratios, o.Seconds()/f.Seconds())
	}
	fmt.Printf("| 10,000 PATCHes in batches of 500 %s, against the rows in SQLite | %.2f | %.0f ms | %.0f ms |\n", form, median(ratios), median(ours).Seconds()*1000, median(floor).Seconds()*1000)
}

func key(i int) string { return fmt.Sprintf("%06d", i*7%100_000) }

func fee(round, i int) string { return fmt.Sprintf("%d.%02d", 100+i%1000, round+1) }

func jsonBatch(round, from int) (string, []byte) {
	type request struct {
		ID      string            `json:"id"`
		Group   string            `json:"atomicityGroup"`
		Method  string            `json:"method"`
		URL     string            `json:"url"`
		Headers map[string]string `json:"headers"`
		Body    map[string]any    `json:"body"`
	}
	var all []request
	for i := from; i < from+batchSize; i++ {
		all = append(all, request{fmt.Sprint(i), "g", "PATCH", "aids('" + key(i) + "')", map[string]string{"content-type": "application/json", "if-match": "*"}, map[string]any{"fee": json.Number(fee(round, i))}})
	}
	b, err := json.Marshal(map[string]any{"requests": all})
	must(err)
	return "application/json", b
}

func multipartBatch(round, from int) (string, []byte) {
	var b bytes.Buffer
	b.WriteString("--outer\r\nContent-Type: multipart/mixed; boundary=inner\r\n\r\n")
	for i := from; i < from+batchSize; i++ {
		fmt.Fprintf(&b, "--inner\r\nContent-Type: application/http\r\nContent-Transfer-Encoding: binary\r\nContent-ID: %d\r\n\r\nPATCH aids('%s') HTTP/1.1\r\nContent-Type: application/json\r\nIf-Match: *\r\n\r\n{\"fee\":%s}\r\n", i, key(i), fee(round+50, i))
	}
	b.WriteString("--inner--\r\n--outer--\r\n")
	return "multipart/mixed; boundary=outer", b.Bytes()
}

// sqlite updates the rows in a copy of the table.
func sqlite(dir string, round int) time.Duration {
	ctx := context.Background()
	path := filepath.Join(dir, "floor.sqlite")
	if _, err := os.Stat(path); err != nil {
		must(os.WriteFile(path, nil, 0o600))
		db, err := lite.Open(path, 0)
		must(err)
		exec := func(sql string) { must(db.Query(ctx, sql, nil, nil), sql) }
		exec("PRAGMA journal_mode = WAL")
		exec("ATTACH '" + filepath.Join(dir, standin.KeptName) + "' AS kept")
		exec("CREATE TABLE aids (aid_no TEXT, name TEXT, zone TEXT, latitude TEXT, installed TEXT, fee TEXT, seasonal TEXT, remarks TEXT, PRIMARY KEY (aid_no)) WITHOUT ROWID")
		exec("INSERT INTO aids SELECT * FROM kept.aids")
		db.Close()
	}
	db, err := lite.Open(path, 0)
	must(err)
	defer db.Close()
	must(db.Query(ctx, "PRAGMA synchronous = FULL", nil, nil))
	text := func(s string) lite.Value { return lite.Value{Class: lite.Text, Bytes: []byte(s)} }
	at := time.Now()
	for from := 0; from < amends; from += batchSize {
		must(db.Query(ctx, "BEGIN IMMEDIATE", nil, nil))
		for i := from; i < from+batchSize; i++ {
			_, err := db.Exec(ctx, "UPDATE aids SET fee = ? WHERE aid_no = ?", text(fee(round, i)), text(key(i)))
			must(err)
		}
		must(db.Query(ctx, "COMMIT", nil, nil))
	}
	return time.Since(at)
}
