package odata_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/internal/run"
	"paletwin/internal/standin"
	"paletwin/internal/target"
	"paletwin/internal/target/targettest"
)

// worst are moods in which a service loses, bends or refuses what it is sent.
var worst = append([]string{"no-repeats", "no-batches", "no-jobs", "silent", "cut-after,after=4,every=3", "cut-before,after=5,every=4", "rounds,field=fee", "capitals,field=w", "trims", "ignores,field=v,every=9", "refuses,field=v,every=11",
	"locked,every=13", "colleague,every=9,field=w,value=theirs", "colleague,every=11,field=v,value=theirs", "limits,requests=40", "half-batch,every=3"}, good...)

// seedOf is the seed of a test, that is printed, or that PALETWIN_TEST_SEED says.
func seedOf(t *testing.T) uint64 {
	seed := uint64(time.Now().UnixNano())
	if said := os.Getenv("PALETWIN_TEST_SEED"); said != "" {
		n, err := strconv.ParseUint(said, 10, 64)
		require.NoError(t, err)
		seed = n
	}
	t.Logf("PALETWIN_TEST_SEED=%d", seed)
	return seed
}

// register is a register of many records, and a copy edited by somebody: what is new there begins with the name.
func register(n int) string {
	var b strings.Builder
	b.WriteString("k,v,w,fee\n")
	for i := range n {
		fmt.Fprintf(&b, "%05d,old %d,w%d,%d.25\n", i, i, i%7, i)
	}
	return b.String()
}

func editedBy(name, register string, r *rand.Rand, share float64) string {
	var b strings.Builder
	for i, line := range strings.Split(strings.TrimSpace(register), "\n") {
		cells := strings.Split(line, ",")
		switch {
		case i == 0 || r.Float64() > share:
		case r.IntN(8) == 0:
			continue
		default:
			cells[1] = name + " " + cells[0]
			if r.IntN(3) == 0 {
				cells[2] = name + "  w "
			}
			if r.IntN(3) == 0 {
				cells[3] = fmt.Sprint(i, ".75")
			}
		}
		b.WriteString(strings.Join(cells, ",") + "\n")
	}
	for i := range r.IntN(40) {
		fmt.Fprintf(&b, "%s-%d,%s new,x,1.50\n", name, i, name)
	}
	return b.String()
}

// outcomes are those of all of a dossier's runs: by id, the last that is not settled by an earlier one.
func outcomes(t *testing.T, u *targettest.Update) map[changeset.ID]*run.Step {
	runs, err := run.Runs(u.Dossier)
	require.NoError(t, err)
	all := map[changeset.ID]*run.Step{}
	for _, n := range runs {
		r, err := run.ReadRun(u.Dossier, n)
		require.NoError(t, err)
		require.NotEmpty(t, r.Ended)
		for _, s := range r.Steps {
			if before := all[s.ID]; before == nil || before.Outcome != run.Done && before.Outcome != run.Unknown {
				all[s.ID] = s
			}
		}
	}
	return all
}

// persist applies until nothing is left, as somebody does who is told that a run broke off.
func persist(t *testing.T, u *targettest.Update, tgt target.Target) *run.Report {
	var err error
	var rep *run.Report
	for range 60 {
		rep, err = u.Apply(tgt, run.Options{})
		if err == nil && rep.Resumed {
			continue
		}
		if err == nil {
			return rep
		}
	}
	require.NoError(t, err, "it comes to no end")
	return nil
}

// mine are the writes of whoever's values begin with a name, by the record's key.
func mine(deeds []*standin.Deed, name string) map[string][]*standin.Deed {
	all := map[string][]*standin.Deed{}
	for _, d := range deeds {
		if d.Turn == 0 || d.Undone || d.By != "" {
			continue
		}
		ours := d.Act != "amend" // nobody else adds or deletes
		for _, w := range d.Wrote {
			ours = ours || w.Field == "v" && w.After != nil && strings.HasPrefix(*w.After, name+" ") && (w.Before == nil || *w.Before != *w.After)
		}
		if ours {
			all[d.Key[0]] = append(all[d.Key[0]], d)
		}
	}
	return all
}

// lost counts answers that did not come, or that say no more than that something failed.
func lost(deeds []*standin.Deed) (n int) {
	for _, d := range deeds {
		if d.Batch == 0 && (!d.Answered || d.Status >= 500) {
			n++
		}
	}
	return n
}

// truly holds what a dossier says of its steps against what truly became of them.
func truly(t *testing.T, name string, steps map[changeset.ID]*run.Step, deeds []*standin.Deed) {
	wrote := mine(deeds, name)
	unknown := 0
	for _, s := range steps {
		n := len(wrote[s.Key.Parts()[0]])
		switch s.Outcome {
		case run.Done:
			amends := false
			for f := range s.Fields.All() {
				amends = amends || f.Field == "v"
			}
			if s.Act != changeset.Amend || amends {
				assert.Equal(t, 1, n, "%s %s is said to be done: %s", s.Act, s.Key, s.Reason)
			}
		case run.Unknown:
			unknown++
			assert.LessOrEqual(t, n, 1, "%s", s.Key)
		default:
			assert.Zero(t, n, "%s %s is said to be %s: %s", s.Act, s.Key, s.Outcome, s.Reason)
		}
	}
	assert.LessOrEqual(t, unknown, lost(deeds), "one unknown a lost answer")
}

func TestRunsAreTrueUnderMoods(t *testing.T) {
	seed := seedOf(t)
	r := rand.New(rand.NewPCG(seed, 25))
	pairs := 14
	if n, err := strconv.Atoi(os.Getenv("PALETWIN_TEST_PAIRS")); err == nil {
		pairs = n
	}
	for i := range pairs {
		one, two := worst[r.IntN(len(worst))], worst[r.IntN(len(worst))]
		form := []string{"", "json", "multipart", "alone"}[r.IntN(4)]
		draw := rand.New(rand.NewPCG(seed, uint64(i)))
		t.Run(fmt.Sprintf("%s and %s, %s", one, two, form), func(t *testing.T) {
			t.Parallel()
			text := register(1000)
			edited := editedBy("one", text, draw, 0.7)
			p := aids(t, []string{"k"}, text, map[string]string{"fee": "{kind: decimal, scale: 2}"}, one, two)
			p.o.Form, p.o.Batch = form, 20+draw.IntN(100)
			tgt := p.Open(t)
			defer tgt.Close()
			u := targettest.NewUpdate(t, text, edited)
			persist(t, u, tgt)
			truly(t, "one", outcomes(t, u), p.deeds(t))
			putBack(t, p, tgt, u, text)
		})
	}
}

// putBack undoes a dossier, and proves that all is as before but for what others wrote, and what is not known.
func putBack(t *testing.T, p *service, tgt target.Target, u *targettest.Update, before string) {
	back := u.Rollback(tgt)
	persist(t, back, tgt)
	not := map[string]bool{}
	for _, all := range []map[changeset.ID]*run.Step{outcomes(t, u), outcomes(t, back)} {
		for _, s := range all {
			if s.Outcome != run.Done && s.Outcome != run.Settled || len(s.Rare().Left) > 0 || len(s.Rare().Read) > 0 {
				not[s.Key.Parts()[0]] = true
			}
		}
	}
	for _, d := range p.deeds(t) {
		if d.By != "" && d.Turn > 0 {
			not[d.Key[0]] = true
		}
	}
	now := map[string]string{}
	for _, line := range strings.Split(targettest.Content(t, tgt), "\n") {
		key, rest, _ := strings.Cut(line, ",")
		now[key] = rest
	}
	for _, line := range strings.Split(strings.TrimSpace(before), "\n") {
		key, rest, _ := strings.Cut(line, ",")
		if !not[key] {
			assert.Equal(t, rest, now[key], "%s", key)
		}
		delete(now, key)
	}
	for key := range now {
		assert.True(t, not[key], "%s is there and was not", key)
	}
}

// Two people carry out what overlaps, while a colleague edits: nothing is written twice, and nothing of the colleague's is written over.
func TestTwoRunsAndAColleague(t *testing.T) {
	seed := seedOf(t)
	for _, mood := range []string{"", "cut-after,every=5", "no-repeats", "busy,every=4,wait=1ms"} {
		t.Run(mood, func(t *testing.T) {
			t.Parallel()
			draw := rand.New(rand.NewPCG(seed, 7))
			text := register(1000)
			var moods []string
			if mood != "" {
				moods = []string{mood}
			}
			p := aids(t, []string{"k"}, text, map[string]string{"fee": "{kind: decimal, scale: 2}"}, moods...)
			p.o.Batch = 30
			var all []*targettest.Update
			var targets []target.Target
			for i, name := range []string{"one", "two"} {
				all = append(all, targettest.NewUpdate(t, text, editedBy(name, text, rand.New(rand.NewPCG(seed, uint64(i))), 0.5)))
				targets = append(targets, p.Open(t))
			}
			var wg sync.WaitGroup
			for i := range all {
				wg.Go(func() { persist(t, all[i], targets[i]) })
			}
			theirs := map[string]string{}
			for i := range 60 {
				key := fmt.Sprintf("%05d", draw.IntN(1000))
				value := fmt.Sprint("colleague ", i)
				if delete(theirs, key); p.tries(t, key, "w", value) {
					theirs[key] = value
				}
			}
			wg.Wait()
			deeds := p.deeds(t)
			now := map[string][]string{}
			for _, line := range strings.Split(targettest.Content(t, targets[0]), "\n") {
				cells := strings.Split(line, ",")
				now[cells[0]] = cells
			}
			for key, value := range theirs {
				if row := now[key]; row != nil && !strings.HasPrefix(row[2], "one") && !strings.HasPrefix(row[2], "two") {
					assert.Equal(t, value, row[2], "%s", key)
				}
			}
			for i, name := range []string{"one", "two"} {
				assert.NoError(t, targets[i].Close())
				steps := outcomes(t, all[i])
				for id, s := range steps { // deletes are of both
					if s.Act == changeset.Delete {
						delete(steps, id)
					}
				}
				wrote := mine(deeds, name)
				for _, s := range steps {
					n := 0
					for _, d := range wrote[s.Key.Parts()[0]] {
						if d.Act == s.Act.String() && (d.Act != "add" || strings.HasPrefix(d.Key[0], name)) {
							n++
						}
					}
					switch s.Outcome {
					case run.Done:
						assert.Equal(t, 1, n, "%s %s", s.Act, s.Key)
					case run.Unknown:
					default:
						assert.Zero(t, n, "%s %s is said to be %s", s.Act, s.Key, s.Outcome)
					}
				}
			}
		})
	}
}

// tries edits a record, if it is there.
func (p *service) tries(t *testing.T, key, field, value string) bool {
	t.Helper()
	r, err := http.NewRequest("PATCH", p.server.URL+"/aids("+quote(key)+")", strings.NewReader(`{"`+field+`":"`+value+`"}`))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("If-Match", "*")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return false
	}
	answer.Body.Close()
	return answer.StatusCode < 300
}
