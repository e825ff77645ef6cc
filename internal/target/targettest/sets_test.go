package targettest

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

const visitsLayout = `
record_set: round
list: visits
joins:
  visits: {key: id, columns: {visit: id, aid: aid, crew: crew}}
  aids:   {key: no, columns: {aid: no, name: name, depot: depot}}
  depots: {key: code, columns: {depot: code, phone: phone}}
`

// fleet is three record sets that refer to each other, where they live.
type fleet struct {
	t      require.TestingT
	desk   *desk.Desk
	whole  *desk.Dossier
	at     map[string]*Mean
	before map[string]string
	stop   run.Stop
}

var fleetKeys = map[string]string{"visits": "id", "aids": "no", "depots": "code"}

// newFleet compares a sheet with the records, and approves everything.
func newFleet(t require.TestingT, dir string, tables map[string][][]string, sheet string) *fleet {
	d, err := desk.Find(faulty.NoSync{}, account.Account{}, dir, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/round.yaml", []byte(visitsLayout), 0o600))
	j, err := d.OpenJoined(dir + "/round.yaml")
	require.NoError(t, err)
	f := &fleet{t: t, desk: d, at: map[string]*Mean{}, before: map[string]string{}}
	s := &desk.Sets{Title: "round", By: "lina", Now: clock(), Joined: j, Sheet: &desk.Source{Name: "sheet.csv", Stream: strings.NewReader(sheet)}}
	for _, set := range j.Sets() {
		f.at[set] = NewMean([]string{fleetKeys[set]}, tables[set]...)
		f.before[set] = f.at[set].State()
		l, err := d.FindLayout(set)
		require.NoError(t, err)
		s.All = append(s.All, &desk.Comparison{Title: "round", By: "lina", Now: clock(), Layout: l, Snapshot: desk.Source{Name: set + ".csv", Stream: strings.NewReader(f.at[set].State())},
			Options: compare.Options{RecordSet: set, Key: []string{fleetKeys[set]}, OtherRegister: true, Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear}}})
	}
	f.whole, _, err = d.CompareSets(context.Background(), s)
	require.NoError(t, err)
	f.approve(f.whole)
	return f
}

func (f *fleet) approve(whole *desk.Dossier) {
	parts, err := whole.Parts()
	require.NoError(f.t, err)
	for _, p := range parts {
		_, err := p.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "lina", When: clock()})
		require.NoError(f.t, err)
	}
}

// reject decides otherwise of some of what was approved.
func (f *fleet) reject(which func(set string, ch *changeset.Change) bool) {
	parts, err := f.whole.Parts()
	require.NoError(f.t, err)
	for _, p := range parts {
		c, err := p.Changes()
		require.NoError(f.t, err)
		units := map[changeset.ID][]string{}
		for line := range c.Lines() {
			ch, err := line.Change(c.Header.Fields)
			require.NoError(f.t, err)
			if !which(p.Set().Name, ch) {
				continue
			}
			for _, field := range ch.Fields {
				units[ch.ID] = append(units[ch.ID], field.Field)
			}
			if ch.Act != changeset.Amend {
				units[ch.ID] = []string{""}
			}
		}
		require.NoError(f.t, c.Close())
		if len(units) > 0 {
			_, err = p.Decide(&desk.Order{Decision: changeset.Reject, Units: units, Decided: true, Held: true, By: "lina", When: clock()})
			require.NoError(f.t, err)
		}
	}
}

// apply carries all sets out, as often as it takes; stops are how often it may be interrupted.
func (f *fleet) apply(whole *desk.Dossier, stops int) []*run.Report {
	for {
		parts, err := whole.Parts()
		require.NoError(f.t, err)
		g := &run.Group{References: whole.Meta.References}
		for _, p := range parts {
			g.Jobs = append(g.Jobs, &run.Job{Dossier: p, Target: f.at[p.Set().Name], By: "lina", Now: clock, Options: run.Options{StopAfter: f.stop}})
		}
		reports, err := g.Apply(context.Background())
		if err == nil && !reports[0].Resumed {
			return reports
		}
		if err != nil {
			require.True(f.t, errors.Is(err, ErrLost) || errors.Is(err, run.ErrUnknown), "%v", err)
			require.Positive(f.t, stops, "%v", err)
			stops--
		}
	}
}

// records are the values of a field by the records' keys.
func (f *fleet) records(set, field string) map[string]string {
	all := map[string]string{}
	for _, r := range f.at[set].records {
		k, _ := r.Get(fleetKeys[set])
		v, _ := r.Get(field)
		all[k.String()] = v.String()
	}
	return all
}

// whole requires that no record names one that is not there.
func (f *fleet) sound(when string) {
	aids, depots := f.records("aids", "depot"), f.records("depots", "phone")
	for visit, aid := range f.records("visits", "aid") {
		_, there := aids[aid]
		require.True(f.t, there, "%s: visit %s names aid %s, which is not there", when, visit, aid)
	}
	for aid, depot := range aids {
		_, there := depots[depot]
		require.True(f.t, there, "%s: aid %s names depot %s, which is not there", when, aid, depot)
	}
}

// drawFleet draws records, and a sheet of them that was edited.
func drawFleet(t *rapid.T) (tables map[string][][]string, sheet string) {
	tables = map[string][][]string{"depots": {{"code", "phone"}}, "aids": {{"no", "name", "depot"}}, "visits": {{"id", "aid", "crew"}}}
	depots, aids := rapid.IntRange(1, 3).Draw(t, "depots"), rapid.IntRange(1, 4).Draw(t, "aids")
	for i := range depots {
		tables["depots"] = append(tables["depots"], []string{fmt.Sprint("D", i), fmt.Sprint("phone ", i)})
	}
	rows := [][]string{{"visit", "aid", "crew", "name", "depot", "phone"}}
	for i := range aids {
		depot := rapid.IntRange(0, depots-1).Draw(t, "depot")
		tables["aids"] = append(tables["aids"], []string{fmt.Sprint("a", i), fmt.Sprint("aid ", i), fmt.Sprint("D", depot)})
		for range rapid.IntRange(1, 3).Draw(t, "visits") {
			id := fmt.Sprint("v", len(rows))
			tables["visits"] = append(tables["visits"], []string{id, fmt.Sprint("a", i), "c"})
			rows = append(rows, []string{id, fmt.Sprint("a", i), "c", fmt.Sprint("aid ", i), fmt.Sprint("D", depot), fmt.Sprint("phone ", depot)})
		}
	}
	kept := rows[:1]
	newDepot := rapid.Bool().Draw(t, "new depot")
	for _, row := range rows[1:] {
		switch rapid.IntRange(0, 6).Draw(t, "edit") {
		case 0:
			continue
		case 1:
			row[2] = "d"
		case 2: // a new aid, perhaps of a new depot
			row[1], row[3] = "new", "new aid"
			if newDepot {
				row[4], row[5] = "DN", "new phone"
			}
		case 3:
			row[4], row[5] = "D0", "phone 0"
		}
		kept = append(kept, row)
	}
	if rapid.Bool().Draw(t, "new visit") {
		kept = append(kept, []string{"vN", "new", "c", "new aid", "D0", "phone 0"})
	}
	for _, row := range kept {
		sheet += strings.Join(row, ",") + "\n"
	}
	return tables, sheet
}

// What could not be taken back keeps what it refers to: a new aid that its target does not let go of keeps its new depot.
func TestWhatStaysKeepsWhatItNames(t *testing.T) {
	tables := map[string][][]string{"depots": {{"code", "phone"}, {"D0", "1"}}, "aids": {{"no", "name", "depot"}, {"a0", "aid 0", "D0"}}, "visits": {{"id", "aid", "crew"}, {"v1", "a0", "c"}, {"v2", "a0", "c"}}}
	f := newFleet(t, t.TempDir(), tables, "visit,aid,crew,name,depot,phone\nv1,a0,c,aid 0,D0,1\nv2,new,c,new aid,DN,2\n")
	f.at["visits"].Refuse = func(*target.Step) string { return "it is not taken" }
	f.at["aids"].Refuse = func(s *target.Step) string {
		if s.Act == changeset.Delete {
			return "an aid is not deleted"
		}
		return ""
	}
	f.apply(f.whole, 0)
	f.sound("after it was taken back as far as it could be")
	require.Equal(t, "DN", f.records("aids", "depot")["new"])
	require.Equal(t, "a0", f.records("visits", "aid")["v2"])
}

// TestSeveralSetsAreNeverTorn: whatever is refused, lost or interrupted, no record names one that is not
// there; what is done is what the journals say; and the rollback gives the records of before.
func TestSeveralSetsAreNeverTorn(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "paletwin-law-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		tables, sheet := drawFleet(rt)
		if strings.Count(sheet, "\n") < 2 {
			return
		}
		f := newFleet(rt, dir, tables, sheet)
		odds := rapid.SampledFrom([]int{0, 0, 30, 70}).Draw(rt, "rejected of 100")
		f.reject(func(set string, ch *changeset.Change) bool {
			return rapid.IntRange(0, 99).Draw(rt, "reject "+set+" "+ch.Key.String()) < odds
		})
		for _, set := range []string{"depots", "aids", "visits"} {
			m := f.at[set]
			refuse := rapid.IntRange(0, 2).Draw(rt, "refuse in "+set)
			m.Refuse = func(s *target.Step) string {
				if refuse > 0 && (int(s.ID[0])+len(s.Key.String()))%3 == 0 || refuse == 2 && s.Act == changeset.Amend && s.Fields[0].To.String() == "a0" {
					return "it is not taken"
				}
				return ""
			}
			m.NoBackup = rapid.IntRange(0, 1).Draw(rt, "no backup of "+set)
			m.BatchSize = rapid.IntRange(0, 2).Draw(rt, "batch of "+set)
			m.DieAt = rapid.IntRange(0, 6).Draw(rt, "dies in "+set)
			doubts := rapid.IntRange(0, 1).Draw(rt, "doubts in "+set)
			m.Doubt = func(*target.Step) (bool, bool) {
				if doubts--; doubts != 0 {
					return false, true
				}
				return true, rapid.Bool().Draw(rt, "done all the same")
			}
		}
		f.stop.Refusals = rapid.SampledFrom([]int{0, 0, 1, 2}).Draw(rt, "stop after")
		f.apply(f.whole, 12)
		f.stop = run.Stop{}
		f.sound("after " + sheet)
		for set, m := range f.at {
			m.Refuse, m.Doubt, m.DieAt, m.NoBackup = nil, nil, 0, 0
			part, err := f.whole.Part(set)
			require.NoError(rt, err)
			f.asJournaled(part)
		}
		f.together()
		f.rollback()
	})
}

// last are what became of the steps of a set at last.
func (f *fleet) last(set string) map[string]*run.Step {
	part, err := f.whole.Part(set)
	require.NoError(f.t, err)
	runs, err := run.Runs(part)
	require.NoError(f.t, err)
	last := map[string]*run.Step{}
	for _, n := range runs {
		r, err := run.ReadRun(part, n)
		require.NoError(f.t, err)
		require.NotEmpty(f.t, r.Ended)
		for _, s := range r.Steps {
			if s.Outcome != run.Settled {
				last[s.ID.String()] = s
			}
		}
	}
	return last
}

// together requires that a new record is there with all that names it, or not at all, but where something could
// not be taken back.
func (f *fleet) together() {
	names := func(child, field, parent string) {
		for _, a := range f.last(parent) {
			if a.Act != changeset.Add || a.Outcome != run.Done || strings.Contains(a.Reason, "taken back") {
				continue
			}
			for _, s := range f.last(child) {
				v, ok := s.Record.Get(field)
				for c := range s.Fields.All() {
					if c.Field == field {
						v, ok = c.To, true
					}
				}
				if ok && v.String() == a.Key.String() && s.Act != changeset.Delete {
					require.Equal(f.t, run.Done, s.Outcome, "%s %s names %s %s, which is there: %s", child, s.Key, parent, a.Key, s.Reason)
				}
			}
		}
	}
	names("visits", "aid", "aids")
	names("aids", "depot", "depots")
}

// asJournaled requires that the target has what was done, and nothing of what was not.
func (f *fleet) asJournaled(part *desk.Dossier) {
	m := f.at[part.Set().Name]
	for _, s := range f.last(part.Set().Name) {
		there := m.find(s.Key) >= 0
		switch {
		case s.Outcome == run.Unknown || s.Outcome == "": // of what belongs to nothing else
		case s.Act == changeset.Add:
			require.Equal(f.t, s.Outcome == run.Done || s.Outcome == run.Settled, there, "%s %s %s: %s", s.Act, s.Key, s.Outcome, s.Reason)
		case s.Act == changeset.Delete:
			require.Equal(f.t, s.Outcome == run.Done || s.Outcome == run.Settled, !there, "%s %s %s: %s", s.Act, s.Key, s.Outcome, s.Reason)
		default:
			for c := range s.Fields.All() {
				want := c.From
				if s.Outcome == run.Done || s.Outcome == run.Settled {
					want = c.To
				}
				require.Equal(f.t, want.String(), m.Value(s.Key.String(), c.Field), "%s %s %s: %s", s.Act, s.Key, s.Outcome, s.Reason)
			}
		}
	}
}

// rollback undoes everything.
func (f *fleet) rollback() {
	parts, err := f.whole.Parts()
	require.NoError(f.t, err)
	draft, err := f.desk.Draft("lina")
	require.NoError(f.t, err)
	var metas []*desk.Meta
	for _, p := range parts {
		m, err := run.RollbackInto(context.Background(), p, f.at[p.Set().Name], run.Undo{By: "lina", Now: clock}, draft.SetDir(p.Set().Name))
		var none *run.Refusal
		if errors.As(err, &none) && none.Code == run.NothingDone {
			continue
		}
		require.NoError(f.t, err)
		metas = append(metas, m)
	}
	if len(metas) == 0 {
		require.NoError(f.t, draft.Discard())
	} else {
		back, err := draft.KeepSets(&desk.Meta{Title: "back", By: "lina", When: clock(), References: f.whole.Meta.References, Undoes: &desk.Undoes{Dossier: f.whole.Meta.Number}}, metas)
		require.NoError(f.t, err)
		f.approve(back)
		f.apply(back, 0)
		f.sound("after the rollback")
	}
	for set, m := range f.at {
		require.ElementsMatch(f.t, strings.Split(f.before[set], "\n"), strings.Split(m.State(), "\n"), set)
	}
}

// TestNewKeysGoOnToOtherSets: the key that the system gives a new aid stands in the visits that name it; of an aid
// that it refuses nothing is written, nor of what names it.
func TestNewKeysGoOnToOtherSets(t *testing.T) {
	tables := map[string][][]string{"depots": {{"code", "phone"}, {"D0", "1"}}, "aids": {{"no", "name", "depot"}, {"1", "Skerry", "D0"}}, "visits": {{"id", "aid", "crew"}, {"v1", "1", "c"}}}
	const sheet = "visit,aid,crew,name,depot,phone\nv1,1,d,Skerry,D0,1\nv2,new:voe,c,Voe,D0,1\nv3,new:voe,c,Voe,D0,1\n"
	for _, refused := range []bool{false, true} {
		dir := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(dir, "layouts"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "layouts/aids.yaml"), []byte("key: no\nfields:\n  no: {kind: integer, key: assigned, required: true}\n  name: text\n  depot: text\n"), 0o600))
		f := newFleet(t, dir, tables, sheet)
		f.at["aids"].Next = 17
		if refused {
			f.at["aids"].Refuse = func(s *target.Step) string { return map[bool]string{true: "no"}[s.Act == changeset.Add] }
		}
		f.apply(f.whole, 0)
		f.sound("new keys")
		visits := f.records("visits", "aid")
		require.Equal(t, "d", f.records("visits", "crew")["v1"])
		if refused {
			require.Equal(t, map[string]string{"v1": "1"}, visits)
		} else {
			require.Equal(t, map[string]string{"v1": "1", "v2": "17", "v3": "17"}, visits)
		}
		f.rollback()
	}
}
