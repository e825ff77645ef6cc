package standin

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

// FuzzURL asks for anything: the answer is never an error of the stand-in's own, and what a nextLink
// leads to is there.
func FuzzURL(f *testing.F) {
	s := open(f, harbour(f), "", Options{Page: 3})
	for _, url := range []string{"aids('00107')?$select=name", "visits(aid_no='00102',due=2025-04-20)/aid_no_record/depot_record", "aids?$filter=not (service_fee mul 2 gt 5e2) and contains(name,'O''N')&$orderby=zone desc,length(name)&$top=9&$count=true",
		"aids/$count?$filter=year(installed) in (1999,2001) or keeper eq null", "depots?$expand=*($select=name)&@p='x'&$filter=code eq @p", "aids?$skiptoken=eyJrIjpbIicwMDEwNyciXSwibCI6LTF9", "%27/%2F('", "$metadata?$format=json", "aids('x'y'')/name/$value", "aids?$filter=-(1)"} {
		f.Add(url)
	}
	f.Fuzz(func(t *testing.T, url string) {
		if strings.ContainsAny(url, " \r\n") || len(url) > 2000 {
			return
		}
		r, err := http.NewRequest("GET", "http://127.0.0.1/", nil)
		if err != nil {
			return
		}
		r.RequestURI = "/" + url
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if w.Code == 500 || w.Code == 0 || w.Code >= 400 && !strings.Contains(w.Body.String(), `"message":"`) {
			t.Fatalf("%s: %d %s", url, w.Code, w.Body)
		}
	})
}

// FuzzBatch sends anything as a batch, of either form: it is answered, and a group is never done in part.
func FuzzBatch(f *testing.F) {
	s := open(f, harbour(f), "", Options{})
	f.Add("--x\r\nContent-Type: application/http\r\nContent-ID: 1\r\n\r\nPATCH depots('D01') HTTP/1.1\r\nContent-Type: application/json\r\n\r\n{\"phone\":\"1\"}\r\n--x--", false)
	f.Add("--x\nContent-Type: multipart/mixed;boundary=y\n\n--y\n\nPOST depots\n\n{\"code\":\"E\",\"name\":\"e\"}\n--y\n\nDELETE $1\n--y--\n--x--", false)
	f.Add(`{"requests":[{"id":"1","atomicityGroup":"g","method":"patch","url":"/depots('D01')","body":{"phone":null}},{"id":"2","dependsOn":["g"],"method":"GET","url":"$1"}]}`, true)
	f.Fuzz(func(t *testing.T, body string, asJSON bool) {
		r := httptest.NewRequest("POST", "http://127.0.0.1/$batch", strings.NewReader(body))
		r.Header.Set("Content-Type", "multipart/mixed; boundary=x")
		if asJSON {
			r.Header.Set("Content-Type", "application/json")
		}
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		if w.Code != 200 && w.Code != 400 {
			t.Fatalf("%d %s", w.Code, w.Body)
		}
		if !s.st.mu.TryLock() { // which a transaction that was forgotten holds
			t.Fatal("a transaction did not end")
		}
		s.st.mu.Unlock()
	})
}
