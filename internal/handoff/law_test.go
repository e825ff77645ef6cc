package handoff_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/open"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/handoff"
	"paletwin/internal/handoff/handofftest"
	"paletwin/internal/run"
)

func clock() time.Time { return time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC) }

// office is a desk with a system that only takes files.
type office struct {
	t    require.TestingT
	dir  string
	desk *desk.Desk
	sys  *handofftest.Importer
}

const lawLayout = `record_set: aids
key: k
fields:
  k: text
  name: text
  due: date
  seasonal: boolean
  fee: {kind: decimal, scale: 2}
`

func newOffice(t require.TestingT, dir string, register []byte, outward string) *office {
	o := &office{t: t, dir: dir, sys: handofftest.New(t, register)}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "layouts"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "layouts", "aids.yaml"), []byte(lawLayout+outward), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "desk.yaml"), []byte("name: law\n"), 0o600))
	d, err := desk.Find(faulty.NoSync{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	o.desk = d
	return o
}

// compare makes a dossier of what the system has and an edited copy, with
// everything approved.
func (o *office) compare(edited []byte) *desk.Dossier {
	l, err := o.desk.FindLayout("aids")
	require.NoError(o.t, err)
	d, _, err := o.desk.Compare(context.Background(), &desk.Comparison{Title: "law", By: "petr", Now: clock(), Layout: l,
		Snapshot: desk.Source{Name: "aids.csv", Stream: bytes.NewReader(o.sys.Export())}, Edited: &desk.Source{Name: "e.csv", Stream: bytes.NewReader(edited)},
		Options: compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true, Proposals: compare.Proposals{Missing: compare.Asked, AllMissing: true, Blank: compare.Clear}}})
	require.NoError(o.t, err)
	o.approve(d)
	return d
}

func (o *office) approve(d *desk.Dossier) {
	_, err := d.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "petr", When: clock()})
	require.NoError(o.t, err)
}

// system is the target of a hand-off with a fresh export.
func (o *office) system(d *desk.Dossier, opt handoff.Options) *handoff.System {
	raw := o.sys.Export()
	img, err := open.Open("fresh.csv", raw, table.Options{})
	require.NoError(o.t, err)
	l, err := d.Layout()
	require.NoError(o.t, err)
	s := &handoff.System{Options: opt, FS: faulty.NoSync{}, Dossier: d.Meta.Number, Set: "aids", Key: []string{"k"}, Layout: l,
		Export: &handoff.Export{Image: img, Raw: raw, Ext: ".csv", Fresh: true}, Dir: func(n int) string { return d.Path("load", strconv.Itoa(n)) }}
	require.NoError(o.t, s.Open())
	return s
}

// handOff hands a dossier off and returns the folder of its files.
func (o *office) handOff(d *desk.Dossier, opt handoff.Options, ro run.Options) (string, *run.Report) {
	s := o.system(d, opt)
	rep, err := run.Apply(context.Background(), &run.Job{Dossier: d, Target: s, By: "petr", Now: clock, Options: ro})
	require.NoError(o.t, err)
	return s.Dir(rep.Run), rep
}

// collect reads the result of the last load.
func (o *office) collect(d *desk.Dossier) *run.Collected {
	r, err := run.LastHandoff(d, 0)
	require.NoError(o.t, err)
	img, err := open.Open("result.csv", o.sys.Result(), table.Options{})
	require.NoError(o.t, err)
	l, err := d.Layout()
	require.NoError(o.t, err)
	rows, err := (&handoff.Result{Key: []string{"k"}, Layout: l}).Read(img)
	require.NoError(o.t, err)
	var learnt []run.Learnt
	for _, x := range rows.All {
		outcome := run.Refused
		if x.Done {
			outcome = run.Done
		}
		learnt = append(learnt, run.Learnt{Key: x.Key, Outcome: outcome, Reason: x.Message, Row: x.Row})
	}
	c, err := run.Collect(d, r, run.Reply{Learnt: learnt, Answer: run.Answer{Kind: "result"}}, clock)
	require.NoError(o.t, err)
	return c
}

func (o *office) verify(d *desk.Dossier) *run.Verification {
	img, err := open.Open("fresh.csv", o.sys.Export(), table.Options{})
	require.NoError(o.t, err)
	v, err := run.Verify(context.Background(), d, run.Proof{Fresh: img, Name: "fresh.csv", Now: clock})
	require.NoError(o.t, err)
	return v
}

// rules are what a system's import is like, drawn, and as a layout says them.
type rules struct {
	blankClears   bool
	clear         string
	date, on, off string
}

func drawRules(t *rapid.T) rules {
	r := rules{blankClears: rapid.Bool().Draw(t, "blank clears"), date: rapid.SampledFrom([]string{"", "dd.mm.yyyy", "mm/dd/yyyy"}).Draw(t, "date")}
	if !r.blankClears && rapid.Bool().Draw(t, "token") {
		r.clear = rapid.SampledFrom([]string{"-", "#N/A", "(empty)"}).Draw(t, "clear")
	}
	if rapid.Bool().Draw(t, "words") {
		r.on, r.off = "Y", "N"
	}
	return r
}

func (r rules) yaml() string {
	blank := layout.BlankKeeps
	if r.blankClears {
		blank = layout.BlankClears
	}
	s := "outward:\n  blank: " + blank + "\n"
	for _, x := range [][2]string{{"clear", r.clear}, {"date", r.date}, {"true", r.on}, {"false", r.off}} {
		if x[1] != "" {
			s += fmt.Sprintf("  %s: %q\n", x[0], x[1])
		}
	}
	return s
}

// use makes a system keep the rules.
func (r rules) use(t require.TestingT, i *handofftest.Importer) {
	i.BlankClears, i.Clear = r.blankClears, r.clear
	form := map[string]string{"dd.mm.yyyy": "02.01.2006", "mm/dd/yyyy": "01/02/2006"}[r.date]
	i.Inward = func(field, v string) string {
		switch {
		case field == "due" && form != "":
			d, err := time.Parse(form, v)
			require.NoError(t, err)
			return d.Format(time.DateOnly)
		case field == "seasonal" && r.on != "" && (v == r.on || v == r.off):
			return strconv.FormatBool(v == r.on)
		}
		return v
	}
}

var drawn = map[string][]string{
	"name":     {"", "Old Pier", "Tarn Mouth, inner", `the "Nags"`, "Åsa\nBrandvold", "-", "=1+1", " a "},
	"due":      {"", "2026-10-06", "2027-02-03"},
	"seasonal": {"", "true", "false"},
	"fee":      {"", "0.00", "12.50", "302.64"},
}

func drawRow(t *rapid.T, key string) []string {
	row := []string{key}
	for _, f := range []string{"name", "due", "seasonal", "fee"} {
		row = append(row, rapid.SampledFrom(drawn[f]).Draw(t, f))
	}
	return row
}

// Whatever is changed and however the system takes files: forward and then
// back leaves its register as it was; and where it refused some, so does the
// rollback that is made from its answer and a fresh export.
func TestForwardThenBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "paletwin-handoff-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		rules := drawRules(rt)
		o, edited := drawWork(rt, dir, rules)
		before := o.sys.State()
		d := o.compare(edited)
		opt := handoff.Options{Form: rapid.SampledFrom([]handoff.Form{handoff.CSV, handoff.XLSX, handoff.ODS, handoff.JSONL, handoff.JSON}).Draw(rt, "form"),
			Shape: rapid.SampledFrom(handoff.Shapes).Draw(rt, "shape"), MaxRecords: rapid.IntRange(0, 3).Draw(rt, "max")}
		if opt.Shape == handoff.Sparse && rules.blankClears {
			opt.Shape = handoff.Grouped
		}
		folder, rep := o.handOff(d, opt, run.Options{})
		if rep.Run == 0 || rep.Steps.Unknown == 0 {
			return
		}
		if rapid.Bool().Draw(rt, "all taken") {
			o.sys.Load(filepath.Join(folder, handoff.Forward))
			v := o.verify(d)
			require.True(rt, v.Holds(), "%+v", v.Differences)
			require.Equal(rt, rep.Steps.Unknown, v.AsMeant)
			o.sys.Load(filepath.Join(folder, handoff.Back))
			require.Equal(rt, before, o.sys.State())
			return
		}
		refusals := rapid.IntRange(0, 7).Draw(rt, "refused")
		o.sys.Refuse = func(act, key string) string {
			if n := key[len(key)-1]; int(n)%8 < refusals {
				return "no " + act + " of " + key
			}
			return ""
		}
		o.sys.Load(filepath.Join(folder, handoff.Forward))
		o.sys.Refuse = func(string, string) string { return "" }
		if opt.Shape != handoff.PerField && rapid.Bool().Draw(rt, "answered") {
			c := o.collect(d)
			require.Empty(rt, c.Other)
			require.Zero(rt, c.Steps.Unknown)
		}
		o.undo(rt, d, opt)
		require.Equal(rt, before, o.sys.State())
		assert.Empty(rt, run.Check(d))
	})
}

// undo hands off the rollback that is made from a fresh export.
func (o *office) undo(t *rapid.T, d *desk.Dossier, opt handoff.Options) {
	back, err := run.Rollback(context.Background(), d, o.system(d, opt), run.Undo{By: "petr", Now: clock})
	if err != nil {
		require.ErrorContains(t, err, "nothing that could be undone")
		return
	}
	o.approve(back)
	folder, rep := o.handOff(back, opt, run.Options{})
	if rep.Steps.Refused > 0 { // a field cannot be emptied by file: it is by hand, as the first README said
		first := d.Path("load", "1", handoff.Back, handoff.ByHandName)
		_, err := os.Stat(first)
		require.NoError(t, err)
		t.Skip("by hand")
	}
	o.sys.Load(filepath.Join(folder, handoff.Forward))
	v := o.verify(back)
	require.True(t, v.Holds(), "%+v", v.Differences)
}

// drawWork draws a register in a system that keeps the rules, and an edited
// copy of it.
func drawWork(t *rapid.T, dir string, r rules) (*office, []byte) {
	fields := []string{"k", "name", "due", "seasonal", "fee"}
	register, edited := handofftest.Line(nil, fields), handofftest.Line(nil, fields)
	for n := range rapid.IntRange(3, 9).Draw(t, "records") {
		key := fmt.Sprintf("%05d", n)
		row := drawRow(t, key)
		register = handofftest.Line(register, row)
		switch rapid.IntRange(0, 3).Draw(t, "edit") {
		case 0:
			continue
		case 1:
			edited = handofftest.Line(edited, row)
		default:
			edited = handofftest.Line(edited, drawRow(t, key))
		}
	}
	for n := range rapid.IntRange(0, 3).Draw(t, "adds") {
		edited = handofftest.Line(edited, drawRow(t, fmt.Sprintf("%05d", 100+n)))
	}
	o := newOffice(t, dir, register, r.yaml())
	r.use(t, o.sys)
	return o, edited
}

// drawClearing draws work in a system whose blank cells clear, in a folder of
// its own.
func drawClearing(t *rapid.T) (*office, []byte, rules) {
	dir, err := os.MkdirTemp("", "paletwin-handoff-")
	require.NoError(t, err)
	r := drawRules(t)
	r.blankClears, r.clear = true, ""
	o, edited := drawWork(t, dir, r)
	return o, edited, r
}

// A system that only says how many, one that answers file by file, and what
// is handed over again.
func TestAnsweredFileByFile(t *testing.T) {
	o := newOffice(t, t.TempDir(), []byte("k,name,fee\n1,a,1.00\n2,b,1.00\n3,c,1.00\n"), "outward: {blank: clears}\n")
	d := o.compare([]byte("k,name,fee\n1,A,2.00\n2,B,2.00\n3,c,2.00\n"))
	opt := handoff.Options{Form: handoff.CSV, Shape: handoff.PerField}
	folder, _ := o.handOff(d, opt, run.Options{})
	r, err := run.LastHandoff(d, 0)
	require.NoError(t, err)
	require.True(t, r.FieldByField())
	answer := func(field string, learnt ...run.Learnt) *run.Collected {
		c, err := run.Collect(d, r, run.Reply{Learnt: learnt, Fields: []string{field}, Answer: run.Answer{Kind: "result"}}, clock)
		require.NoError(t, err)
		return c
	}
	done := func(k string) run.Learnt { return run.Learnt{Key: key(k), Outcome: run.Done} }
	no := func(k string) run.Learnt { return run.Learnt{Key: key(k), Outcome: run.Refused, Reason: "locked"} }
	c := answer("name", done("1"), no("2"))
	assert.Equal(t, run.Steps{Unknown: 3}, c.Steps, "the other file is not answered yet")
	c = answer("fee", done("1"), done("2"), no("3"))
	assert.Equal(t, run.Steps{Done: 2, Refused: 1}, c.Steps)

	// It reads back the same, in part done is done in part, and only what was
	// refused is handed over again.
	r, err = run.LastHandoff(d, 0)
	require.NoError(t, err)
	i := slices.IndexFunc(r.Steps, func(s *run.Step) bool { return s.Key == key("2") })
	assert.Equal(t, []string{"name"}, r.Steps[i].Rare().Left)
	require.Equal(t, 1, r.Steps[i].Fields.Len())
	assert.Equal(t, "fee", r.Steps[i].Fields.Edits()[0].Field)
	_, rep := o.handOff(d, opt, run.Options{})
	assert.Zero(t, rep.Run, "what was handed over is not handed over again unasked")
	again, rep := o.handOff(d, opt, run.Options{Retry: true})
	assert.Equal(t, 2, rep.Steps.Unknown)
	files, err := filepath.Glob(filepath.Join(again, handoff.Forward, "*"))
	require.NoError(t, err)
	var all string
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		all += strings.ReplaceAll(string(b), "\n", " ")
	}
	assert.Equal(t, "k,name 2,B k,fee 3,2.00 ", all)
	assert.NotEqual(t, folder, again)
}

// key is a key of one part.
func key(s string) record.Key { return record.NewKey(s) }

// A system that refuses some records each time, and a retry of what it
// refused, come to the same in the end as one that takes all at once; nothing
// is handed over that it took.
func TestRetriesComeToTheSame(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		o, edited, rules := drawClearing(rt)
		defer os.RemoveAll(o.dir)
		d := o.compare(edited)
		want := handofftest.New(rt, o.sys.Export())
		rules.use(rt, want)
		opt := handoff.Options{Form: handoff.CSV, Shape: rapid.SampledFrom([]handoff.Shape{handoff.Grouped, handoff.Full}).Draw(rt, "shape")}
		taken := map[string]bool{}
		for retry := false; ; retry = true {
			folder, rep := o.handOff(d, opt, run.Options{Retry: retry})
			if rep.Steps.Unknown == 0 {
				break
			}
			if !retry {
				want.Load(filepath.Join(folder, handoff.Forward))
			}
			luck := rapid.IntRange(0, 2).Draw(rt, "luck")
			o.sys.Refuse = func(act, key string) string {
				require.False(rt, taken[act+key], "%s of %s is handed over again", act, key)
				if luck > 0 && int(key[len(key)-1])%3 >= luck {
					return "not today"
				}
				taken[act+key] = true
				return ""
			}
			o.sys.Load(filepath.Join(folder, handoff.Forward))
			c := o.collect(d)
			require.Zero(rt, c.Steps.Unknown)
		}
		require.Equal(rt, want.State(), o.sys.State())
		if d.Set().Changes.Changes() > 0 {
			require.True(rt, o.verify(d).Holds())
		}
	})
}

// Whatever moves in the system afterwards, verify lists just that: of what was
// handed over as not as meant, of all else as moved besides.
func TestVerifyFindsWhatMoved(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		o, edited, _ := drawClearing(rt)
		defer os.RemoveAll(o.dir)
		d := o.compare(edited)
		folder, rep := o.handOff(d, handoff.Options{Form: handoff.CSV, Shape: handoff.Grouped}, run.Options{})
		if rep.Steps.Unknown == 0 {
			return
		}
		o.sys.Load(filepath.Join(folder, handoff.Forward))
		written := map[string]bool{} // what a step wrote, as key and field
		gone := map[string]bool{}
		for _, s := range rep.Attempted {
			k := s.Key.String()
			for f := range s.Fields.All() {
				written[k+" "+f.Field] = true
			}
			for f := range s.Record.All() {
				written[k+" "+f.Name] = s.Act == changeset.Add
			}
			gone[k] = s.Act == changeset.Delete
		}
		want := map[string]bool{} // key, field, and whether a step meant it
		state := o.sys.State()
		for k := range state {
			if rapid.IntRange(0, 2).Draw(rt, "moves") == 0 {
				field := rapid.SampledFrom([]string{"name", "fee"}).Draw(rt, "field")
				value := map[string]string{"name": "moved by others", "fee": "777.77"}[field]
				o.sys.Set(k, field, value)
				want[fmt.Sprint(k, " ", field, " ", written[k+" "+field])] = true
			}
		}
		v := o.verify(d)
		found := map[string]bool{}
		for _, x := range v.Differences {
			found[fmt.Sprint(x.Key, " ", x.Field, " ", x.Kind != run.Besides)] = true
		}
		require.Equal(rt, want, found, "%+v", v.Differences)
		require.Equal(rt, len(want) == 0, v.Holds())
		require.Equal(rt, rep.Steps.Unknown, v.AsMeant+v.NotDone+v.Other+v.Differently)
	})
}

// History finds for every record what a scan of all dossiers finds, in their
// order, with the keys there or not.
func TestHistoryIsWhatAScanFinds(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "paletwin-history-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		rules := rules{blankClears: true}
		o, edited := drawWork(rt, dir, rules)
		records := []string{"no such record"}
		for k := range o.sys.State() {
			records = append(records, k)
		}
		for range rapid.IntRange(1, 4).Draw(rt, "dossiers") {
			d := o.compare(edited)
			folder, rep := o.handOff(d, handoff.Options{Form: handoff.CSV, Shape: handoff.Grouped}, run.Options{})
			if rep.Steps.Unknown > 0 && rapid.Bool().Draw(rt, "loaded") {
				o.sys.Load(filepath.Join(folder, handoff.Forward))
				o.collect(d)
			}
			edited = handofftest.Line(nil, o.sys.Fields)
			for k := range o.sys.State() {
				if rapid.Bool().Draw(rt, "edit") {
					edited = handofftest.Line(edited, drawRow(rt, k))
				}
			}
		}
		scan := map[string][]string{}
		all, err := o.desk.Dossiers()
		require.NoError(rt, err)
		for _, d := range all {
			c, err := d.Changes()
			require.NoError(rt, err)
			for ch, err := range c.Changes() {
				require.NoError(rt, err)
				k := ch.Key.String()
				if ch.Act != changeset.Amend {
					scan[k] = append(scan[k], fmt.Sprint(d.Meta.Number, ch.Act))
				}
				for _, f := range ch.Fields {
					scan[k] = append(scan[k], fmt.Sprint(d.Meta.Number, f.Field, f.From, f.To))
				}
			}
			require.NoError(rt, c.Close())
		}
		for range 2 { // the second time the keys are there
			for _, k := range records {
				events, damaged, err := run.History(o.desk, run.Question{Record: func(*desk.RecordSet) (record.Key, bool) { return key(k), true }})
				require.NoError(rt, err)
				require.Empty(rt, damaged)
				var found []string
				for _, e := range events {
					if e.Act != changeset.Amend {
						found = append(found, fmt.Sprint(e.Dossier.Meta.Number, e.Act))
						continue
					}
					found = append(found, fmt.Sprint(e.Dossier.Meta.Number, e.Field, e.From, e.To))
				}
				require.Equal(rt, scan[k], found, k)
			}
		}
	})
}

// A system that writes a value in another form than the snapshot has it still has
// that value: it is handed over, and a fresh export in yet another form shows that
// it was done.
func TestFormsOfOneValueAreHandedOver(t *testing.T) {
	o := newOffice(t, t.TempDir(), []byte("k,name,fee\n1,a,1.00\n2,b,1.50\n"), "outward: {blank: clears}\n")
	d := o.compare([]byte("k,name,fee\n1,a,2.00\n2,b,2.50\n"))
	o.sys = handofftest.New(t, []byte("k,name,fee\n1,a,1\n2,b,1.5\n"))
	_, rep := o.handOff(d, handoff.Options{Form: handoff.CSV, Shape: handoff.Grouped}, run.Options{})
	assert.Equal(t, run.Steps{Unknown: 2}, rep.Steps)
	o.sys = handofftest.New(t, []byte("k,name,fee\n1,a,2\n2,b,2.5\n"))
	v := o.verify(d)
	assert.Equal(t, 2, v.AsMeant)
	assert.True(t, v.Holds(), "%+v", v.Differences)
}
