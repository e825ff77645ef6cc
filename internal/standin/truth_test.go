package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/internal/disk"
	"paletwin/internal/odata"
)

// state is what a service has: JSON of each field, by URL.
type state map[string]map[string]string

// look reads all of some sets over the wire, following the service's own links.
func look(t require.TestingT, host string, sets ...string) state {
	all := state{}
	for _, set := range sets {
		keys := map[string][]string{"depots": {"code"}, "aids": {"aid_no"}, "visits": {"aid_no", "due"}}[set]
		for next := "/" + set + "?$top=100000"; next != ""; {
			r, err := try(host, "GET "+next, "Prefer: maxpagesize=100")
			require.NoError(t, err)
			require.Equal(t, 200, r.status, r.body)
			var page struct {
				Value []map[string]json.RawMessage
				Next  string `json:"@odata.nextLink"`
			}
			require.NoError(t, json.Unmarshal([]byte(r.body), &page))
			for _, rec := range page.Value {
				fields := map[string]string{}
				for k, v := range rec {
					if !strings.HasPrefix(k, "@") && k != "updated_at" {
						fields[k] = string(v)
					}
				}
				url := set + keyIn(fields, keys)
				require.NotContains(t, all, url, "a record is there twice")
				all[url] = fields
			}
			next = page.Next
			if i := strings.Index(next, "://"); i >= 0 {
				_, path, _ := strings.Cut(next[i+3:], "/")
				next = "/" + path
			} else if next != "" {
				next = "/" + next
			}
		}
	}
	return all
}

func keyIn(fields map[string]string, keys []string) string {
	var values []odata.Value
	for _, k := range keys {
		kind := odata.String
		if k == "due" {
			kind = odata.Date
		}
		v, _ := odata.ReadJSON([]byte(fields[k]), kind)
		values = append(values, v)
	}
	return string(odata.AppendKey(nil, keys, values))
}

// op is a write: what is asked, and what it makes of a state if it is done.
type op struct {
	method, url string
	body        map[string]string // JSON by field
	match       string
}

func (o op) json() string {
	var parts []string
	for k, v := range o.body {
		parts = append(parts, fmt.Sprintf("%q:%s", k, v))
	}
	slices.Sort(parts)
	return "{" + strings.Join(parts, ",") + "}"
}

var fieldsOf = map[string][]string{"depots": {"code", "name", "phone"}, "visits": {"aid_no", "due", "crew", "planned_hours", "audited_hours", "outcome"}}

// apply is the oracle: it knows nothing of rules, and what was refused is not given to it.
func (o op) apply(s state, made string) {
	url := o.url
	if o.method == "POST" {
		url = made
	}
	set, _, _ := strings.Cut(url, "(")
	switch {
	case o.method == "DELETE":
		delete(s, url)
		return
	case o.method == "PUT", s[url] == nil:
		fresh := map[string]string{}
		for _, f := range fieldsOf[set] {
			fresh[f] = "null"
		}
		_, key, _ := strings.Cut(url, "(")
		parts, _ := odata.ParseKey(strings.TrimSuffix(key, ")"))
		for i, p := range parts {
			v, _ := odata.ParseLiteral(p.Text)
			fresh[fieldsOf[set][i]] = string(v.AppendJSON(nil, false))
		}
		s[url] = fresh
	}
	for f, v := range o.body {
		if s[url] != nil && !slices.Contains([]string{"code", "aid_no", "due"}, f) {
			s[url][f] = v
		}
	}
}

// someOp draws a write of few records, so that writes meet.
func someOp(t *rapid.T) op {
	text := rapid.SampledFrom([]string{`"a"`, `"b c"`, `" padded "`, `"O'Neil"`, `"Zięba \"q\""`, "null", `""`, `"line\nbreak"`})
	o := op{method: rapid.SampledFrom([]string{"POST", "PATCH", "PATCH", "PATCH", "PUT", "DELETE"}).Draw(t, "method"), body: map[string]string{}}
	if rapid.IntRange(0, 9).Draw(t, "match") == 0 {
		o.match = rapid.SampledFrom([]string{"*", `W/"0000000000000000"`}).Draw(t, "tag")
	}
	if rapid.Bool().Draw(t, "depots") {
		code := fmt.Sprintf("D%02d", rapid.IntRange(1, 14).Draw(t, "code"))
		o.url = "depots('" + code + "')"
		if rapid.Bool().Draw(t, "name") || o.method == "POST" {
			o.body["name"] = text.Draw(t, "name")
		}
		o.body["phone"] = text.Draw(t, "phone")
		if o.method == "POST" {
			o.url, o.body["code"] = "depots", `"`+code+`"`
		}
	} else {
		aid, due := rapid.SampledFrom([]string{"00102", "00107", "99999"}).Draw(t, "aid"), rapid.SampledFrom([]string{"2025-04-20", "2025-09-27", "2027-01-01"}).Draw(t, "due")
		o.url = "visits(aid_no='" + aid + "',due=" + due + ")"
		o.body["outcome"] = text.Draw(t, "outcome")
		o.body["audited_hours"] = rapid.SampledFrom([]string{"1.5", "2", "0.0", "null", "99", "1.25", `"x"`}).Draw(t, "hours")
		if o.method == "POST" {
			o.url, o.body["aid_no"], o.body["due"] = "visits", `"`+aid+`"`, `"`+due+`"`
		}
	}
	if o.method == "DELETE" {
		o.body = nil
	}
	return o
}

// send asks for one write, and returns its status and, of a new record, its URL.
func (o op) send(host string) (reply, error) {
	lines := []string{o.method + " /" + o.url, "Content-Type: application/json"}
	if o.match != "" {
		lines = append(lines, "If-Match: "+o.match)
	}
	lines = append(lines, "")
	if o.method != "DELETE" {
		lines = append(lines, o.json())
	}
	return try(host, lines...)
}

// batchOf writes several as a batch, in JSON or multipart, with groups where group says one.
func batchOf(ops []op, groups []string, asJSON bool) []string {
	if asJSON {
		var parts []string
		for i, o := range ops {
			h := `{"Content-Type":"application/json"`
			if o.match != "" {
				m, _ := json.Marshal(o.match)
				h += `,"If-Match":` + string(m)
			}
			x := fmt.Sprintf(`{"id":"%d","method":%q,"url":%q,"headers":%s}`, i, o.method, o.url, h)
			if groups[i] != "" {
				x += fmt.Sprintf(`,"atomicityGroup":%q`, groups[i])
			}
			if o.method != "DELETE" {
				x += `,"body":` + o.json()
			}
			parts = append(parts, x+"}")
		}
		return []string{"POST /$batch", "Content-Type: application/json", "Prefer: continue-on-error", "", `{"requests":[` + strings.Join(parts, ",") + "]}"}
	}
	var b strings.Builder
	for i := 0; i < len(ops); {
		n := 1
		for groups[i] != "" && i+n < len(ops) && groups[i+n] == groups[i] {
			n++
		}
		b.WriteString("--outer\r\n")
		inner := "outer"
		if groups[i] != "" {
			inner = "inner"
			b.WriteString("Content-Type: multipart/mixed;boundary=inner\r\n\r\n--inner\r\n")
		}
		for k, o := range ops[i : i+n] {
			if k > 0 {
				b.WriteString("--" + inner + "\r\n")
			}
			fmt.Fprintf(&b, "Content-Type: application/http\r\nContent-ID: %d\r\n\r\n%s %s HTTP/1.1\r\nContent-Type: application/json\r\n", i+k, o.method, o.url)
			if o.match != "" {
				b.WriteString("If-Match: " + o.match + "\r\n")
			}
			b.WriteString("\r\n")
			if o.method != "DELETE" {
				b.WriteString(o.json())
			}
			b.WriteString("\r\n")
		}
		if inner == "inner" {
			b.WriteString("--inner--\r\n")
		}
		i += n
	}
	return []string{"POST /$batch", "Content-Type: multipart/mixed; boundary=outer", "Prefer: continue-on-error", "Accept: application/json", "OData-MaxVersion: 4.01", "", b.String() + "--outer--\r\n"}
}

// Whatever is asked, alone or in batches of both forms, with groups or without: what was
// answered with success was done, what was refused was not, and the file holds the same.
func TestAnswersAreTrue(t *testing.T) {
	dir := harbour(t)
	rapid.Check(t, func(t *rapid.T) {
		kept := filepath.Join(rapidDir(t), KeptName)
		s := openFor(t, dir, kept, Options{})
		server := newServer(s)
		defer server.Close()
		host := strings.TrimPrefix(server.URL, "http://")
		model := look(t, host, "depots", "visits")
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			if rapid.Bool().Draw(t, "alone") {
				o := someOp(t)
				r, err := o.send(host)
				require.NoError(t, err)
				if r.status < 400 {
					o.apply(model, r.header.Get("Location")[strings.LastIndex(r.header.Get("Location"), "/")+1:])
				}
				continue
			}
			var ops []op
			var groups []string
			for range rapid.IntRange(1, 6).Draw(t, "size") {
				ops = append(ops, someOp(t))
				g := rapid.SampledFrom([]string{"", "g", "h"}).Draw(t, "group")
				if slices.Contains(groups, g) && groups[len(groups)-1] != g {
					g = ""
				}
				groups = append(groups, g)
			}
			r, err := try(host, batchOf(ops, groups, rapid.Bool().Draw(t, "json"))...)
			require.NoError(t, err)
			require.Equal(t, 200, r.status, r.body)
			var out struct {
				Responses []struct {
					ID      string
					Status  int
					Headers map[string]string
				}
			}
			require.NoError(t, json.Unmarshal([]byte(r.body), &out), r.body)
			require.Len(t, out.Responses, len(ops))
			okay := map[string]bool{}
			for i, x := range out.Responses {
				require.Equal(t, fmt.Sprint(i), x.ID)
				if groups[i] != "" {
					before, said := okay[groups[i]]
					require.True(t, !said || before == (x.Status < 400), "a group is done in part: %s", r.body)
					okay[groups[i]] = x.Status < 400
				}
				if x.Status < 400 {
					made := x.Headers["location"]
					ops[i].apply(model, made[strings.LastIndex(made, "/")+1:])
				}
			}
		}
		now := look(t, host, "depots", "visits")
		require.Equal(t, model, now)
		server.Close()
		s.Close()
		again := openFor(t, dir, kept, Options{})
		defer again.Close()
		other := newServer(again)
		defer other.Close()
		require.Equal(t, model, look(t, strings.TrimPrefix(other.URL, "http://"), "depots", "visits"))
	})
}

// moodTexts are moods as a flag has them, one of each kind.
var moodTexts = []string{"slow,wait=1ms", "busy,every=3", "away,every=4,wait=1", "cut-before,every=3", "cut-after,every=3", "half-batch,every=2", "hollow-group", "trims", "rounds", "capitals,field=outcome+phone",
	"ignores,field=phone", "refuses,field=audited_hours,every=2", "locked,every=3,by=U-1007", "colleague,every=2", "limits,requests=4", "limits,bytes=600,chars=200", "no-etags", "asks-etags",
	"offset-paging", "empty-last-page", "relative-links", "bare-boundary", "quoted-boundary", "lower-headers", "errors,as=text", "errors,as=none"}

// Under each mood and any two together: the ledger tells what the service has, whatever was answered;
// and what was answered with success outside of a mood that bends values was done.
func TestLedgerIsTrueUnderMoods(t *testing.T) {
	dir := harbour(t)
	for i := range moodTexts {
		for k := i; k < len(moodTexts); k++ {
			t.Run(moodTexts[i]+" and "+moodTexts[k], func(t *testing.T) {
				t.Parallel()
				var moods []*Mood
				for _, text := range []string{moodTexts[i], moodTexts[k]} {
					m, err := ParseMood(text)
					require.NoError(t, err)
					moods = append(moods, m)
				}
				w, err := Load(context.Background(), disk.OS{}, dir, nil)
				require.NoError(t, err)
				s, _, err := Open(context.Background(), w, "", false, Options{Moods: moods})
				require.NoError(t, err)
				defer s.Close()
				server := newServer(s)
				defer server.Close()
				host := strings.TrimPrefix(server.URL, "http://")
				truth := s.whole()
				gen := rapid.Custom(func(t *rapid.T) []op {
					return rapid.SliceOfN(rapid.Custom(someOp), 60, 60).Draw(t, "ops")
				})
				ops := gen.Example(i*100 + k)
				for n := 0; n < len(ops); n += 6 {
					if n%12 == 0 {
						for _, o := range ops[n : n+6] {
							_, _ = o.send(host) // it may be cut
						}
						continue
					}
					_, _ = try(host, batchOf(ops[n:n+6], []string{"", "g", "g", "g", "", "h"}, n%24 == 6)...)
				}
				r := ask(t, host, "GET /$moods")
				require.Equal(t, 200, r.status)
				var told struct{ Requests []Deed }
				require.NoError(t, json.Unmarshal([]byte(r.body), &told))
				slices.SortStableFunc(told.Requests, func(a, b Deed) int { return a.Turn - b.Turn })
				for _, d := range told.Requests {
					hollow := moods[0].Name == "hollow-group" || moods[1].Name == "hollow-group"
					require.True(t, !d.Undone || d.Status >= 400 || hollow, "%+v", d)
					replay(t, truth, d)
				}
				require.Equal(t, truth, s.whole())
			})
		}
	}
}

// whole is all that the service has: texts of fields by set and key.
func (s *Service) whole() map[string]map[string]string {
	s.st.mu.RLock()
	defer s.st.mu.RUnlock()
	all := map[string]map[string]string{}
	for _, set := range s.world.Sets {
		for _, r := range s.st.registers[set].order {
			fields := map[string]string{}
			for i, f := range set.Fields {
				if !r.cells[i].IsNull() {
					fields[f.Name] = r.cells[i].Text
				}
			}
			all[set.Name+"/"+joined(set.keyValues(r.Record))] = fields
		}
	}
	return all
}

// replay does what a deed says, on top of what was there.
func replay(t *testing.T, all map[string]map[string]string, d Deed) {
	if d.Act == "" || d.Undone {
		return
	}
	at := d.Set + "/" + strings.Join(d.Key, ",")
	switch d.Act {
	case "delete":
		require.Contains(t, all, at)
		delete(all, at)
		return
	case "add":
		require.NotContains(t, all, at)
		all[at] = map[string]string{}
	}
	for _, w := range d.Wrote {
		if before, had := all[at][w.Field]; w.Before != nil {
			require.True(t, had, "%s of %s", w.Field, at)
			require.Equal(t, *w.Before, before)
		}
		if w.After == nil {
			delete(all[at], w.Field)
		} else {
			all[at][w.Field] = *w.After
		}
	}
}
