package odata_test

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
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/core/table"
	tablecsv "paletwin/core/table/csv"
	"paletwin/internal/disk"
	"paletwin/internal/standin"
	"paletwin/internal/standin/standintest"
	"paletwin/internal/target"
	"paletwin/internal/target/odata"
	"paletwin/internal/target/targettest"
)

// service is a stand-in with one set, and a colleague at work in it.
type service struct {
	server *httptest.Server
	key    []string
	o      odata.Options
}

// quote writes a key in a URL.
func quote(v string) string { return "'" + strings.ReplaceAll(v, "'", "''") + "'" }

// aids serves a CSV text whose fields are texts, or as kinds say.
func aids(t testing.TB, key []string, register string, kinds map[string]string, moods ...string) *service {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "aids.csv"), []byte(register), 0o600))
	heading, _, _ := strings.Cut(register, "\n")
	l := "record_set: aids\nkey: [" + strings.Join(key, ", ") + "]\nfields:\n"
	for _, f := range strings.Split(heading, ",") {
		kind := kinds[f]
		if kind == "" {
			kind = "text"
		}
		l += "  " + f + ": " + kind + "\n"
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "layouts"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "layouts", "aids.yaml"), []byte(l), 0o600))
	s, err := standintest.Open(dir, standin.Options{}, moods...)
	require.NoError(t, err)
	server := standintest.Serve(s)
	t.Cleanup(func() { server.Close(); s.Close() })
	return &service{server: server, key: key}
}

func (p *service) Open(t *testing.T) target.Target {
	t.Helper()
	return p.open(t, p.o)
}

func (p *service) open(t *testing.T, o odata.Options) *odata.Set {
	t.Helper()
	o.Key, o.Dir = p.key, t.TempDir()
	o.Sleep = func(context.Context, time.Duration) error { return nil }
	s, err := odata.Open(t.Context(), disk.OS{}, p.server.URL+"/aids", o)
	require.NoError(t, err)
	return s
}

// Set edits a record as a colleague, who tries until it is done.
func (p *service) Set(t *testing.T, key, field, value string) {
	t.Helper()
	body, err := json.Marshal(map[string]string{field: value})
	require.NoError(t, err)
	for range 20 {
		r, err := http.NewRequest("PATCH", p.server.URL+"/aids("+quote(key)+")", bytes.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("If-Match", "*")
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			continue
		}
		answer.Body.Close()
		if answer.StatusCode < 300 {
			return
		}
	}
	t.Fatal("the colleague cannot write")
}

// deeds is the service's ledger.
func (p *service) deeds(t *testing.T) []*standin.Deed {
	t.Helper()
	answer, err := http.Get(p.server.URL + "/$moods")
	require.NoError(t, err)
	defer answer.Body.Close()
	var all struct {
		Requests []*standin.Deed `json:"requests"`
	}
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&all))
	return all.Requests
}

// good are moods in which a service carries everything out in the end.
var good = []string{"slow,wait=1ms", "busy,method=PATCH,every=2,wait=1ms", "busy,every=3,wait=1ms", "away,every=4", "cut-before,every=3", "cut-after,every=4", "cut-after,method=PATCH,every=2", "half-batch,every=2",
	"limits,requests=2", "limits,bytes=2000", "no-etags", "asks-etags", "offset-paging", "empty-last-page", "relative-links", "bare-boundary", "quoted-boundary", "lower-headers", "hollow-group", "errors,as=none", "errors,as=text"}

func TestServicesAreTargets(t *testing.T) {
	for _, form := range []string{"json", "multipart", "alone"} {
		for _, mood := range append([]string{""}, good...) {
			t.Run(form+" "+mood, func(t *testing.T) {
				t.Parallel()
				targettest.Run(t, func(t *testing.T) targettest.Place {
					var moods []string
					if mood != "" {
						moods = []string{mood}
					}
					p := aids(t, []string{"k"}, targettest.Register, nil, moods...)
					p.o.Form = form
					return p
				})
			})
		}
	}
}

func TestServicesAreProven(t *testing.T) {
	for _, form := range []string{"json", "multipart", "alone"} {
		t.Run(form, func(t *testing.T) {
			t.Parallel()
			targettest.Prove(t, targettest.Kind{
				Make: func(t *testing.T, key []string, register string) targettest.Place {
					p := aids(t, key, register, nil)
					p.o.Form = form
					return p
				},
				Nulls: true, Once: true, Alone: form == "alone",
				Read: func(name string, b []byte) (*table.Image, error) { return tablecsv.OpenWith(name, b, table.Taken) },
			})
		})
	}
}

// steps are amends of all records of a register.
func stepsOf(register, to string) (steps []target.Step) {
	for _, line := range strings.Split(strings.TrimSpace(register), "\n")[1:] {
		cells := strings.Split(line, ",")
		k := record.NewKey(cells[0])
		steps = append(steps, target.Step{ID: changeset.MakeID("aids", k, changeset.Amend), Act: changeset.Amend, Key: k,
			Fields: []changeset.Edit{{Field: "v", From: record.Text(cells[1]), To: record.Text(to)}}})
	}
	return steps
}

// What a service does behind its answer is asked for until it is done; where nobody waits any more, the next process asks, and
// sends nothing again that was done. Whoever wants it has it dropped.
func TestJobs(t *testing.T) {
	steps := stepsOf(targettest.Register, "new")
	for _, mode := range []string{"waited for", "left", "left, without repeats", "withdrawn"} {
		t.Run(mode, func(t *testing.T) {
			t.Parallel()
			moods := []string{"slow,method=POST,wait=300ms"}
			if strings.Contains(mode, "without") {
				moods = append(moods, "no-repeats")
			}
			p := aids(t, []string{"k"}, targettest.Register, nil, moods...)
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			polls := 0
			s, err := odata.Open(ctx, disk.OS{}, p.server.URL+"/aids", odata.Options{Key: p.key, Dir: t.TempDir(), Wait: time.Millisecond, Withdraw: mode == "withdrawn", Sleep: func(ctx context.Context, _ time.Duration) error {
				if polls++; mode != "waited for" {
					cancel()
				}
				return target.Sleep(ctx, 20*time.Millisecond)
			}})
			require.NoError(t, err)
			defer s.Close()
			var tickets []json.RawMessage
			results, err := s.Request(ctx, steps, func(ticket json.RawMessage) error { tickets = append(tickets, ticket); return nil })
			require.Len(t, tickets, 2, "what is sent, and where the answer will be")
			if mode != "waited for" {
				require.ErrorIs(t, err, context.Canceled)
				for _, r := range results {
					require.Equal(t, target.Asked, r.Fate)
				}
				next := p.open(t, odata.Options{Wait: time.Millisecond})
				defer next.Close()
				time.Sleep(50 * time.Millisecond)
				results, err = next.Again(t.Context(), steps, tickets, func(json.RawMessage) error { return nil })
			}
			require.NoError(t, err)
			for i, r := range results {
				require.Equal(t, target.Done, r.Fate, "%s: %s", steps[i].Key, r.Reason)
			}
			writes, dropped, patches := map[string]int{}, 0, 0
			for _, d := range p.deeds(t) {
				if d.Method == "PATCH" {
					patches++
				}
				if d.Turn > 0 && !d.Undone {
					writes[d.Key[0]]++
				}
				if d.Method == "DELETE" {
					dropped++
				}
			}
			require.Equal(t, map[string]int{"1": 1, "2": 1, "3": 1, "4": 1, "5": 1}, writes)
			require.Equal(t, mode == "withdrawn", dropped > 0)
			require.Positive(t, polls)
			if mode != "withdrawn" {
				require.Equal(t, 5, patches, "nothing is sent again")
			}
		})
	}
}

// The answer to a batch that was done is lost: it is sent again with the same ETags, and the records say that it was done. Where somebody
// edited one meanwhile, or it is gone, that one is unknown.
func TestLostAnswers(t *testing.T) {
	for _, form := range []string{"json", "multipart", "alone"} {
		for _, meanwhile := range []string{"", "edited", "edited elsewhere"} {
			t.Run(form+" "+meanwhile, func(t *testing.T) {
				t.Parallel()
				p := aids(t, []string{"k"}, targettest.Register, nil, "no-repeats")
				inner := p.server.Config.Handler
				var mu sync.Mutex                           // the request that was cut off may not have ended when it is sent again
				cut, change := map[string]bool{}, func() {} // paths of which an answer was cut off; what a colleague does then
				p.server.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					writes := r.Method == "POST" && form != "alone" || r.Method == "PATCH" && r.Header.Get("Prefer") != ""
					if !writes || r.Header.Get("User-Agent") != "paletwin" {
						inner.ServeHTTP(w, r)
						return
					}
					if body, _ := io.ReadAll(r.Body); form == "alone" || strings.Contains(strings.ToUpper(string(body)), "PATCH") {
						r.Body = io.NopCloser(bytes.NewReader(body))
						mu.Lock()
						first := !cut[r.URL.Path]
						cut[r.URL.Path] = true
						mu.Unlock()
						if first {
							inner.ServeHTTP(httptest.NewRecorder(), r.Clone(context.WithoutCancel(r.Context())))
							change()
							panic(http.ErrAbortHandler)
						}
					} else {
						r.Body = io.NopCloser(bytes.NewReader(body))
					}
					inner.ServeHTTP(w, r)
				})
				s := p.open(t, odata.Options{Form: form, Flights: 1})
				defer s.Close()
				steps := stepsOf(targettest.Register, "new")
				_, err := s.Current(t.Context(), []record.Key{steps[0].Key, steps[1].Key, steps[2].Key, steps[3].Key, steps[4].Key})
				require.NoError(t, err)
				want := []target.Fate{target.Done, target.Done, target.Done, target.Done, target.Done}
				once := false
				change = func() {
					if once || meanwhile == "" {
						return
					}
					once = true
					field := map[string]string{"edited": "v", "edited elsewhere": "w"}[meanwhile]
					r, _ := http.NewRequest("PATCH", p.server.URL+"/aids('1')", strings.NewReader(`{"`+field+`":"colleague"}`))
					r.Header.Set("Content-Type", "application/json")
					a, err := http.DefaultClient.Do(r)
					if err == nil {
						a.Body.Close()
					}
				}
				if meanwhile != "" {
					want[0] = target.Unknown
				}
				results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
				require.NoError(t, err)
				for i, r := range results {
					require.Equal(t, want[i], r.Fate, "%s: %s", steps[i].Key, r.Reason)
				}
			})
		}
	}
}

// One answer that is lost leaves one unknown at most, whatever the service lacks: deletes and what has no ETag go alone.
func TestOneUnknownALostAnswer(t *testing.T) {
	for _, moods := range [][]string{{"no-repeats", "cut-after,method=DELETE+POST,after=1,every=2"}, {"no-repeats", "no-etags", "cut-after,method=PATCH+DELETE+POST,after=3,every=3"}, {"no-repeats", "no-jobs", "cut-after,method=DELETE+POST,after=1,every=2"}} {
		t.Run(strings.Join(moods, " "), func(t *testing.T) {
			t.Parallel()
			text := register(60)
			p := aids(t, []string{"k"}, text, nil, moods...)
			var steps []target.Step
			for i, line := range strings.Split(strings.TrimSpace(text), "\n")[1:] {
				cells := strings.Split(line, ",")
				k := record.NewKey(cells[0])
				st := target.Step{ID: changeset.MakeID("aids", k, changeset.Delete), Act: changeset.Delete, Key: k, Record: record.Record{{Name: "v", Value: record.Text(cells[1])}}}
				if i < 30 {
					st = target.Step{ID: changeset.MakeID("aids", k, changeset.Amend), Act: changeset.Amend, Key: k, Fields: []changeset.Edit{{Field: "v", From: record.Text(cells[1]), To: record.Text("one " + cells[0])}}}
				}
				steps = append(steps, st)
			}
			s := p.open(t, odata.Options{})
			defer s.Close()
			_, err := s.Current(t.Context(), nil)
			require.NoError(t, err)
			results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			wrote, unknown := mine(p.deeds(t), "one"), 0
			for i, r := range results {
				n := len(wrote[steps[i].Key.Parts()[0]])
				switch r.Fate {
				case target.Done:
					require.Equal(t, 1, n, "%s", steps[i].Key)
				case target.Unknown:
					unknown++
					require.LessOrEqual(t, n, 1)
				default:
					require.Zero(t, n, "%s: %s", steps[i].Key, r.Reason)
				}
			}
			require.Positive(t, unknown)
			require.LessOrEqual(t, unknown, lost(p.deeds(t)))
		})
	}
}

// Records to which the service gives their keys: each is added once, and says its key; one whose answer was lost, or that failed, is unknown
// and is not sent again, but where the service knows repeated requests.
func TestAssignedKeys(t *testing.T) {
	for mood, want := range map[string][2]int{"": {6, 0}, "silent": {6, 0}, "no-batches": {6, 0}, "cut-after,method=POST,set=aids,every=2": {6, 0}, "no-repeats": {6, 0}, "no-repeats|cut-after,method=POST,set=aids,every=3": {4, 2},
		"no-repeats|no-batches|cut-before,method=POST,set=aids,every=3": {4, 2}} {
		t.Run(mood, func(t *testing.T) {
			t.Parallel()
			moods := strings.FieldsFunc(mood, func(r rune) bool { return r == '|' })
			p := aids(t, []string{"k"}, "k,v,w\n1,a,x\n2,b,x\n", map[string]string{"k": "{kind: text, key: assigned}"}, moods...)
			s := p.open(t, odata.Options{})
			defer s.Close()
			require.True(t, s.Traits().Assigns)
			var steps []target.Step
			for i := range 6 {
				k := schema.NewKey(fmt.Sprint("n", i))
				steps = append(steps, target.Step{ID: changeset.MakeID("aids", k, changeset.Add), Act: changeset.Add, Key: k, Record: record.Record{{Name: "k"}, {Name: "v", Value: record.Text(fmt.Sprint("new ", i))}}})
			}
			results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			added := map[string]string{}
			for _, d := range p.deeds(t) {
				if d.Act == "add" && !d.Undone {
					for _, w := range d.Wrote {
						if w.Field == "v" {
							require.NotContains(t, added, *w.After, "added twice")
							added[*w.After] = d.Key[0]
						}
					}
				}
			}
			var got [2]int
			for i, r := range results {
				switch r.Fate {
				case target.Done:
					got[0]++
					require.Equal(t, added[fmt.Sprint("new ", i)], r.Key.String())
					require.NotEmpty(t, r.Key.String())
				case target.Unknown:
					got[1]++
				default:
					t.Fatal(r.Reason)
				}
			}
			require.Equal(t, want, got)
		})
	}
}

// Linked steps are done all or none, whatever a service answers to the members of a group that it took back, and in whichever form.
func TestGroups(t *testing.T) {
	for _, form := range []string{"json", "multipart"} {
		for _, mood := range []string{"", "hollow-group", "cut-after,every=3", "no-repeats", "lower-headers", "half-batch,every=2", "limits,requests=1"} {
			t.Run(form+" "+mood, func(t *testing.T) {
				t.Parallel()
				moods := []string{"refuses,field=w,key=4,says=not that one"}
				if mood != "" {
					moods = append(moods, mood)
				}
				p := aids(t, []string{"k"}, targettest.Register, nil, moods...)
				s := p.open(t, odata.Options{Form: form})
				defer s.Close()
				steps := stepsOf(targettest.Register, "new")
				for i := range steps {
					steps[i].Linked = []string{"one", "one", "two", "two", ""}[i]
				}
				steps[3].Fields[0] = changeset.Edit{Field: "w", From: record.Text("x"), To: record.Text("y")}
				results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
				require.NoError(t, err)
				var fates []target.Fate
				for _, r := range results {
					fates = append(fates, r.Fate)
				}
				writes := map[string]int{}
				for _, d := range p.deeds(t) {
					if d.Turn > 0 && !d.Undone {
						writes[d.Key[0]]++
					}
				}
				switch mood {
				case "limits,requests=1": // which a group cannot keep to
					require.Equal(t, []target.Fate{target.Refused, target.Refused, target.Refused, target.Refused, target.Done}, fates)
					require.Equal(t, map[string]int{"5": 1}, writes)
				case "half-batch,every=2": // the service tears it, and says nothing of it
					for i, f := range fates[:2] {
						if f == target.Done {
							require.Equal(t, 1, writes[fmt.Sprint(i+1)])
						}
					}
				default:
					require.Equal(t, []target.Fate{target.Done, target.Done, target.Refused, target.Refused, target.Done}, fates, "%v", results)
					require.Equal(t, map[string]int{"1": 1, "2": 1, "5": 1}, writes)
					require.Contains(t, results[2].Reason, "not that one")
				}
			})
		}
	}
}

// A service without ETags of its own, whose server puts those of HTTP on every answer, is one without.
func TestHTTPETagsGuardNothing(t *testing.T) {
	p := aids(t, []string{"k"}, targettest.Register, nil, "no-etags", "no-repeats", "no-batches")
	inner := p.server.Config.Handler
	p.server.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("ETag", `W/"1a-of-the-bytes"`)
		inner.ServeHTTP(w, r)
	})
	s := p.open(t, odata.Options{})
	defer s.Close()
	steps := stepsOf(targettest.Register, "new")
	var kept []json.RawMessage
	results, err := s.Request(t.Context(), steps[:3], func(ticket json.RawMessage) error { kept = append(kept, ticket); return nil })
	require.NoError(t, err)
	for _, r := range results {
		require.Equal(t, target.Done, r.Fate, r.Reason)
	}
	require.NotContains(t, string(kept[0]), "of-the-bytes")
}

// A proxy that gives up on large batches before their answer is there, each time: the records say what was done, and what is left goes in smaller ones.
func TestAnswersThatNeverComeThrough(t *testing.T) {
	for _, mood := range []string{"no-repeats", "no-jobs"} {
		t.Run(mood, func(t *testing.T) {
			t.Parallel()
			text := register(300)
			p := aids(t, []string{"k"}, text, nil, mood)
			inner := p.server.Config.Handler
			p.server.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				r.Body = io.NopCloser(bytes.NewReader(body))
				if strings.Count(string(body), `"patch"`) > 40 {
					inner.ServeHTTP(httptest.NewRecorder(), r.Clone(context.WithoutCancel(r.Context())))
					panic(http.ErrAbortHandler)
				}
				inner.ServeHTTP(w, r)
			})
			s := p.open(t, odata.Options{})
			defer s.Close()
			steps := stepsOf(text, "one")
			results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			for i, r := range results {
				require.Equal(t, target.Done, r.Fate, "%s: %s", steps[i].Key, r.Reason)
			}
		})
	}
}

// A linked step whose record somebody edits elsewhere meanwhile goes on with its group.
func TestGroupsGoOnWithNewETags(t *testing.T) {
	for _, mood := range []string{"", "no-repeats"} {
		t.Run(mood, func(t *testing.T) {
			t.Parallel()
			var moods []string
			if mood != "" {
				moods = []string{mood}
			}
			p := aids(t, []string{"k"}, targettest.Register, nil, moods...)
			s := p.open(t, odata.Options{})
			defer s.Close()
			steps := stepsOf(targettest.Register, "new")[:3]
			var keys []record.Key
			for i := range steps {
				steps[i].Linked = "all"
				keys = append(keys, steps[i].Key)
			}
			_, err := s.Current(t.Context(), keys)
			require.NoError(t, err)
			p.Set(t, "2", "w", "colleague")
			results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			for i, r := range results {
				require.Equal(t, target.Done, r.Fate, "%s: %s", steps[i].Key, r.Reason)
			}
			p.Set(t, "2", "v", "colleague")
			for i := range steps {
				steps[i].Fields[0].From, steps[i].Fields[0].To = record.Text("new"), record.Text("newer")
			}
			results, err = s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			for i, r := range results {
				require.Equal(t, target.Moved, r.Fate, "%s: %s", steps[i].Key, r.Reason)
			}
		})
	}
}

// A record that somebody deleted after it was read is left alone, and said to be gone.
func TestRecordsThatAreGone(t *testing.T) {
	for _, moods := range [][]string{nil, {"no-repeats"}, {"no-etags"}, {"no-batches", "no-etags", "no-repeats"}} {
		t.Run(strings.Join(moods, " "), func(t *testing.T) {
			t.Parallel()
			p := aids(t, []string{"k"}, targettest.Register, nil, moods...)
			s := p.open(t, odata.Options{})
			defer s.Close()
			steps := stepsOf(targettest.Register, "new")
			steps[1] = target.Step{ID: steps[1].ID, Act: changeset.Delete, Key: steps[1].Key, Record: record.Record{{Name: "v", Value: record.Text("b")}}}
			_, err := s.Current(t.Context(), []record.Key{steps[0].Key, steps[1].Key, steps[2].Key, steps[3].Key, steps[4].Key})
			require.NoError(t, err)
			for _, key := range []string{"1", "2"} {
				r, err := http.NewRequest("DELETE", p.server.URL+"/aids("+quote(key)+")", nil)
				require.NoError(t, err)
				a, err := http.DefaultClient.Do(r)
				require.NoError(t, err)
				require.NoError(t, a.Body.Close())
				require.Equal(t, http.StatusNoContent, a.StatusCode)
			}
			results, err := s.Request(t.Context(), steps, func(json.RawMessage) error { return nil })
			require.NoError(t, err)
			for i, r := range results {
				if i < 2 {
					require.Equal(t, target.Moved, r.Fate, r.Reason)
					require.Equal(t, "the record is gone", r.Reason)
				} else {
					require.Equal(t, target.Done, r.Fate, r.Reason)
				}
			}
		})
	}
}
