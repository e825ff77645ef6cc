package odata_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/disk"
	"paletwin/internal/standin"
	"paletwin/internal/standin/standintest"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
)

// harbour serves the demo's tables, in some moods.
func harbour(t testing.TB, page int, moods ...string) *httptest.Server {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../demo/data")))
	for _, f := range []string{"register.csv", "autumn-round.csv"} {
		require.NoError(t, os.Remove(filepath.Join(dir, f)))
	}
	s, err := standintest.Open(dir, standin.Options{Page: page}, moods...)
	require.NoError(t, err)
	server := standintest.Serve(s)
	t.Cleanup(func() { server.Close(); s.Close() })
	return server
}

func rowsOf(t testing.TB, b []byte) [][]string {
	t.Helper()
	rows, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
	require.NoError(t, err)
	return rows
}

func file(t testing.TB, name string) [][]string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("../../demo/data", name))
	require.NoError(t, err)
	return rowsOf(t, b)
}

func taken(t testing.TB, url string, o odata.Options) ([]byte, error) {
	t.Helper()
	o.Sleep = func(context.Context, time.Duration) error { return nil }
	s, err := odata.Open(t.Context(), disk.OS{}, url, o)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	var b bytes.Buffer
	_, err = s.Take(t.Context(), &b)
	return b.Bytes(), err
}

// In whatever mood the service is, what is taken of it is what it has.
func TestTakenInEveryMood(t *testing.T) {
	moods := []string{"slow,wait=1ms", "busy,every=3,wait=1ms", "away,every=4", "cut-before,every=3", "cut-after,every=4", "no-etags", "offset-paging", "empty-last-page", "relative-links", "errors,as=none"}
	for i := range moods {
		for _, other := range moods[i:] {
			t.Run(moods[i]+" and "+other, func(t *testing.T) {
				t.Parallel()
				server := harbour(t, 100, moods[i], other)
				for _, name := range []string{"depots", "visits"} {
					b, err := taken(t, server.URL+"/"+name, odata.Options{})
					require.NoError(t, err)
					want := file(t, name+".csv")
					slices.SortStableFunc(want[1:], func(a, b []string) int { return strings.Compare(a[0]+"\x00"+a[1], b[0]+"\x00"+b[1]) })
					require.Equal(t, want, rowsOf(t, b))
				}
			})
		}
	}
}

// What is read is a target as others are: types, key, records, backup.
func TestReader(t *testing.T) {
	server := harbour(t, 100)
	s, err := odata.Open(t.Context(), disk.OS{}, server.URL+"/aids", odata.Options{Dir: t.TempDir(), Of: schema.New([]string{"aid_no"}, schema.KeyForm{Zeros: 5}, nil)})
	require.NoError(t, err)
	require.Equal(t, server.URL+"/aids", s.Name())
	require.Equal(t, []string{"aid_no"}, s.Key())
	require.Equal(t, "Edm.Decimal(scale 2)", s.Types()["service_fee"])
	require.Equal(t, "Edm.String(60) not null", s.Types()["name"])
	states, err := s.Current(t.Context(), []record.Key{record.NewKey("107"), record.NewKey("99999")})
	require.NoError(t, err)
	require.Equal(t, 1, states[0].Count)
	v, _ := states[0].Record.Get("service_fee")
	require.Equal(t, record.Text("252.30"), v)
	v, _ = states[0].Record.Get("remarks")
	require.True(t, v.IsNull())
	require.Equal(t, 0, states[1].Count)
	var b bytes.Buffer
	require.NoError(t, s.Backup(t.Context(), &b))
	r, err := http.NewRequest("PATCH", server.URL+"/aids('00107')", strings.NewReader(`{"remarks":""}`))
	require.NoError(t, err)
	got, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.Equal(t, 204, got.StatusCode)
	img, release, err := s.Table(t.Context())
	require.NoError(t, err)
	require.Equal(t, b.Bytes(), img.Data, "one state until Refresh")
	require.NoError(t, release())
	require.NoError(t, s.Refresh(t.Context()))
	states, err = s.Current(t.Context(), []record.Key{record.NewKey("00107")})
	require.NoError(t, err)
	v, _ = states[0].Record.Get("remarks")
	require.Equal(t, record.Text(""), v, "the empty text is not null")
	require.NoError(t, s.Close())
}

// Records that come and go while a service is paged by places are neither lost nor there twice: it is read again. Here one goes behind the
// first page, and two come.
func TestReadWhileOthersWrite(t *testing.T) {
	server := harbour(t, 50, "offset-paging")
	var pages atomic.Int32
	between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.RawQuery, "skiptoken") && pages.Add(1) == 1 {
			for _, do := range [][3]string{{"DELETE", "/visits(aid_no='00102',due=2025-04-20)", ""}, {"POST", "/visits", `{"aid_no":"00102","due":"2024-01-01"}`}, {"POST", "/visits", `{"aid_no":"00102","due":"2024-01-02"}`}} {
				q, err := http.NewRequest(do[0], server.URL+do[1], strings.NewReader(do[2]))
				require.NoError(t, err)
				got, err := http.DefaultClient.Do(q)
				require.NoError(t, err)
				require.Less(t, got.StatusCode, 300)
			}
		}
		got, err := http.Get(server.URL + r.URL.RequestURI())
		require.NoError(t, err)
		b, err := io.ReadAll(got.Body)
		require.NoError(t, err)
		_, _ = w.Write(bytes.ReplaceAll(b, []byte(server.URL), []byte("http://"+r.Host)))
	}))
	defer between.Close()
	b, err := taken(t, between.URL+"/visits", odata.Options{})
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, r := range rowsOf(t, b)[1:] {
		require.False(t, seen[r[0]+r[1]])
		seen[r[0]+r[1]] = true
	}
	want := file(t, "visits.csv")[1:]
	require.Len(t, seen, len(want)+1)
	for _, r := range want {
		require.True(t, seen[r[0]+r[1]] || r[0] == "00102" && r[1] == "2025-04-20", "%v was lost", r)
	}
	require.Greater(t, pages.Load(), int32(20), "it was read again")
}

const metadata = `<?xml version="1.0"?><edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices>
<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="Base.Types" Alias="B">
 <EntityType Name="Thing" Abstract="true"><Key><PropertyRef Name="ID"/></Key><Property Name="ID" Type="Edm.Guid" Nullable="false"/></EntityType>
 <EnumType Name="Colour"><Member Name="Red"/></EnumType><TypeDefinition Name="Money" UnderlyingType="Edm.Decimal"/>
</Schema>
<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="N">
 <EntityType Name="Aid" BaseType="B.Thing"><Property Name="Colour" Type="B.Colour"/><Property Name="Fee" Type="B.Money" Scale="2"/><Property Name="Tags" Type="Collection(Edm.String)"/>
 <Property Name="Photo" Type="Edm.Stream"/><Property Name="At" Type="N.Place"/><Property Name="Made" Type="Edm.DateTimeOffset"><Annotation Term="Org.OData.Core.V1.Computed"/></Property></EntityType>
 <ComplexType Name="Place"/><EntityContainer Name="C"><EntitySet Name="Aids" EntityType="N.Aid"/></EntityContainer>
</Schema></edmx:DataServices></edmx:Edmx>`

// strange serves metadata, and pages that a function makes.
func strange(t *testing.T, pages func(w http.ResponseWriter, r *http.Request)) *httptest.Server {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/$metadata") {
			_, _ = io.WriteString(w, metadata)
			return
		}
		pages(w, r)
	}))
	t.Cleanup(server.Close)
	return server
}

// Services of another make: derived types, enumerations, lists and complex values; no counts; numbers that stand bare.
func TestOtherServices(t *testing.T) {
	server := strange(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Has("$count") {
			http.Error(w, "no counting here", http.StatusNotImplemented)
			return
		}
		_, _ = io.WriteString(w, `{"@odata.context":"x","value":[{"@odata.etag":"e","Unknown":{"a":[1]},"ID":"b","Colour":"Red","Fee":1.50,"Tags":["x", "y"],"At":{"Lat": 57.1},"Made":"2026-01-01T00:00:00Z"},{"ID":"a","Fee":"12345678901234567890.10","Colour":""}]}`)
	})
	s, err := odata.Open(t.Context(), disk.OS{}, server.URL+"/svc/Aids", odata.Options{})
	require.NoError(t, err)
	defer s.Close()
	require.Equal(t, []string{"ID", "Colour", "Fee", "Tags", "At", "Made"}, s.Fields())
	require.Equal(t, []string{"ID"}, s.Key())
	require.Equal(t, "Collection(Edm.String)", s.Types()["Tags"])
	var b bytes.Buffer
	n, err := s.Take(t.Context(), &b)
	require.NoError(t, err)
	require.EqualValues(t, 2, n)
	require.Equal(t, "ID,Colour,Fee,Tags,At,Made\na,\"\",12345678901234567890.10,,,\nb,Red,1.50,\"[\"\"x\"\",\"\"y\"\"]\",\"{\"\"Lat\"\":57.1}\",2026-01-01T00:00:00Z\n", b.String())
}

// Where a service has no key, or one that is a part of something, that is no fault of the reader.
func TestKeysOfServices(t *testing.T) {
	for _, key := range []string{"", `<Key><PropertyRef Name="At/Lat" Alias="Lat"/></Key>`} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "/$metadata") {
				_, _ = io.WriteString(w, strings.Replace(metadata, `<Key><PropertyRef Name="ID"/></Key>`, key, 1))
				return
			}
			_, _ = io.WriteString(w, `{"value":[{"ID":"b"},{"ID":"a"},{"ID":"b"}]}`)
		}))
		defer server.Close()
		s, err := odata.Open(t.Context(), disk.OS{}, server.URL+"/svc/Aids", odata.Options{})
		if key != "" {
			var missing *target.MissingColumn
			require.ErrorAs(t, err, &missing)
			continue
		}
		require.NoError(t, err)
		require.Empty(t, s.Key())
		var b bytes.Buffer
		n, err := s.Take(t.Context(), &b)
		require.NoError(t, err)
		require.EqualValues(t, 3, n)
		require.NoError(t, s.Close())
	}
}

// What is wrong with a service is said, and nothing is sent to another place.
func TestStrangeServices(t *testing.T) {
	var asked atomic.Int32
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		_, _ = io.WriteString(w, `{"value":[]}`)
	}))
	defer elsewhere.Close()
	for name, x := range map[string]struct {
		pages func(w http.ResponseWriter, r *http.Request)
		code  odata.Code
		says  string
	}{
		"a link elsewhere": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"value":[],"@odata.nextLink":"%s/Aids"}`, elsewhere.URL)
		}, odata.Elsewhere, "another place"},
		"a redirect elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL+"/Aids", http.StatusTemporaryRedirect)
		}, odata.Elsewhere, "another place"},
		"a circle": {func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `{"value":[],"@odata.nextLink":"Aids?x=1"}`)
		}, odata.Foreign, "circle"},
		"no page":     {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `<html>`) }, odata.Foreign, "no page of records"},
		"no value":    {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{}`) }, odata.Foreign, "no value"},
		"half a page": {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"value":[{"ID":"a"}`) }, odata.Foreign, "no page of records"},
		"a NUL":       {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"value":[{"ID":"a\u0000"}]}`) }, odata.Foreign, "NUL"},
		"one twice":   {func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, `{"value":[{"ID":"a"},{"ID":"a"}]}`) }, odata.Moving, "the record a is on two pages"},
		"fewer than it counts": {func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprint(w, `{"@odata.count":"2","value":[{"ID":"a"}]}`)
		}, odata.Moving, "counts 2 records, and its pages have 1"},
		"refused in words": {func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(400)
			fmt.Fprint(w, `{"error":{"code":"x","message":"closed on Sundays","details":[{"message":"and Mondays"}]}}`)
		}, odata.Refused, "closed on Sundays; and Mondays"},
		"not let in": {func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(401) }, odata.Denied, "401"},
		"busy for hours": {func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Retry-After", "7200")
			w.WriteHeader(429)
		}, odata.Busy, "come back in 2h"},
	} {
		t.Run(name, func(t *testing.T) {
			server := strange(t, x.pages)
			_, err := taken(t, server.URL+"/svc/Aids", odata.Options{Env: func(n string) string { return map[string]string{"PALETWIN_TOKEN": "sesame"}[n] }})
			var e *odata.Error
			require.ErrorAs(t, err, &e)
			require.Equal(t, x.code, e.Code, err)
			require.ErrorContains(t, err, x.says)
			require.NotContains(t, err.Error(), "sesame")
		})
	}
	require.Zero(t, asked.Load(), "something was sent to another place")
	_, err := taken(t, elsewhere.URL+"/Aids", odata.Options{})
	require.ErrorContains(t, err, "no metadata")
	server := strange(t, nil)
	_, err = taken(t, server.URL+"/svc/Aid", odata.Options{})
	require.ErrorContains(t, err, "has no set Aid; it has Aids")
	server.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err = odata.Open(ctx, disk.OS{}, server.URL+"/svc/Aids", odata.Options{Sleep: func(context.Context, time.Duration) error { return nil }})
	require.ErrorContains(t, err, "nothing listens there")
}

// Who asks is said by a token or a password, of the environment or of a file that is nobody else's, and never
// where others could read it.
func TestLogin(t *testing.T) {
	var seen atomic.Value
	server := strange(t, func(w http.ResponseWriter, r *http.Request) {
		seen.Store(r.Header.Get("Authorization"))
		_, _ = io.WriteString(w, `{"value":[]}`)
	})
	path := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(path, []byte("from-file\n"), 0o644))
	env := map[string]string{}
	o := odata.Options{Env: func(n string) string { return env[n] }}
	host := strings.TrimPrefix(server.URL, "http://")
	env["PALETWIN_TOKEN_FILE"] = path
	_, err := taken(t, server.URL+"/s/Aids", o)
	require.ErrorContains(t, err, "chmod 600")
	require.NoError(t, os.Chmod(path, 0o600))
	_, err = taken(t, server.URL+"/s/Aids", o)
	require.NoError(t, err)
	require.Equal(t, "Bearer from-file", seen.Load())
	env["PALETWIN_TOKEN"] = "sesame"
	env["PALETWIN_PASSWORD"] = "pass:word"
	_, err = taken(t, server.URL+"/s/Aids", o)
	require.NoError(t, err)
	require.Equal(t, "Bearer sesame", seen.Load())
	_, err = taken(t, "http://registrar@"+host+"/s/Aids", o)
	require.NoError(t, err)
	require.Equal(t, "Basic cmVnaXN0cmFyOnBhc3M6d29yZA==", seen.Load())
	_, err = taken(t, "http://register.example/s/Aids", o)
	require.ErrorContains(t, err, "not sent over http")

	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	secure.Config.ErrorLog = log.New(io.Discard, "", 0)
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	_, err = odata.Open(ctx, disk.OS{}, secure.URL+"/s/Aids", o)
	var e *odata.Error
	require.ErrorAs(t, err, &e, "a certificate that nobody vouches for")
	require.Equal(t, odata.Untrusted, e.Code, "and it is not asked again")
}
