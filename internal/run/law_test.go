package run

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/schema"
	"paletwin/core/table"
	"paletwin/core/table/csv"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/target"
	"paletwin/internal/target/file"
)

func init() { manyStates, manySteps = 3, 2 } // so that records are read, and lines written, in several parts

func clock() time.Time { return time.Date(2026, 10, 6, 9, 0, 0, 0, time.UTC) }

// bench is a desk in a folder of its own, with a register.
type bench struct {
	t        require.TestingT
	fs       disk.FS
	dir      string
	register string
	desk     *desk.Desk
	went     string // where the runs of a desk that was copied went
}

func newBench(t require.TestingT, dir string, fsys disk.FS, register []byte) *bench {
	b := &bench{t, fsys, dir, filepath.Join(dir, "register.csv"), nil, ""}
	require.NoError(t, os.WriteFile(b.register, register, 0o644))
	b.reopen()
	return b
}

func (b *bench) reopen() {
	d, err := desk.Find(b.fs, account.Account{}, b.dir, b.dir)
	require.NoError(b.t, err)
	b.desk = d
}

// compare makes a dossier of snapshot and edited with everything approved.
func (b *bench) compare(snapshot, edited []byte) *desk.Dossier {
	d, _, err := b.desk.Compare(ctx(), b.comparison(desk.Source{Name: "s.csv", Stream: bytes.NewReader(snapshot)}, edited))
	require.NoError(b.t, err)
	b.approve(d)
	return d
}

func (b *bench) comparison(snapshot desk.Source, edited []byte) *desk.Comparison {
	return &desk.Comparison{Title: "law", By: "petr", Now: clock(), Snapshot: snapshot,
		Edited:  &desk.Source{Name: "e.csv", Stream: bytes.NewReader(edited)},
		Options: compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true}}
}

func (b *bench) approve(d *desk.Dossier) {
	_, err := d.Decide(b.everything())
	require.NoError(b.t, err)
}

func (b *bench) everything() *desk.Order {
	return &desk.Order{Decision: changeset.Approve, Held: true, By: "petr", When: clock()}
}

func ctx() context.Context { return context.Background() }

func (b *bench) target() *file.File {
	f, err := file.Open(b.fs, b.register, []string{"k"}, new(schema.Schema), table.Options{})
	require.NoError(b.t, err)
	return f
}

func (b *bench) apply(d *desk.Dossier, o Options) (*Report, error) {
	f, err := file.Open(b.fs, b.register, []string{"k"}, new(schema.Schema), table.Options{})
	if err != nil {
		return nil, err
	}
	defer f.Close()
	o.OtherTarget = true
	return Apply(context.Background(), &Job{Dossier: d, Target: f, By: "petr", Now: clock, Options: o})
}

func (b *bench) rollback(d *desk.Dossier) *desk.Dossier {
	f := b.target()
	defer f.Close()
	back, err := Rollback(context.Background(), d, f, Undo{By: "petr", Now: clock})
	require.NoError(b.t, err)
	b.approve(back)
	return back
}

func (b *bench) bytes() string {
	data, err := os.ReadFile(b.register)
	require.NoError(b.t, err)
	return string(data)
}

// drawRegister draws a register as people have them: any delimiter, line end, quotes
// or none, blank rows, no line end at the end.
func drawRegister(t *rapid.T) []byte {
	comma := rapid.SampledFrom([]string{",", ";"}).Draw(t, "comma")
	end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end")
	quote := func(s string) string {
		if s != "" && rapid.IntRange(0, 3).Draw(t, "quoted") == 0 {
			return `"` + s + `"`
		}
		return s
	}
	b := []byte("k" + comma + quote("v") + comma + "w" + end)
	n := rapid.IntRange(2, 12).Draw(t, "records")
	for i := range n {
		b = append(b, quote(fmt.Sprint(i))+comma+quote(rapid.SampledFrom([]string{"a", "b", "8.0", ""}).Draw(t, "v"))+comma+quote("x")...)
		if i < n-1 || rapid.Bool().Draw(t, "last line end") {
			b = append(b, end...)
			if rapid.IntRange(0, 5).Draw(t, "blank row") == 0 {
				b = append(b, end...)
			}
		}
	}
	return b
}

// drawEdit draws the edited copy of a register.
func drawEdit(t *rapid.T, register []byte) []byte {
	m, err := csv.Open("r", register)
	require.NoError(t, err)
	out := []byte("k,v,w\n")
	for s := csv.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			break
		}
		r := csv.Record(m, s.Raw())
		switch rapid.IntRange(0, 3).Draw(t, "edit") {
		case 0:
			continue
		case 1:
			r[1].Value = r[0].Value
		}
		for i := range r {
			out = csv.AppendCell(out, r[i].Value.String(), ',', false)
			out = append(out, ",,\n"[min(i, 2)])
		}
	}
	for i := range rapid.IntRange(0, 3).Draw(t, "adds") {
		out = fmt.Appendf(out, "new-%d,\"a,b\",\n", i)
	}
	return out
}

// Whatever the register looks like and whatever is done in however many
// runs: the rollback of it all gives the same bytes as before, and the
// rollback of the rollback those of after.
func TestApplyThenRollbackIsTheSameBytes(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "paletwin-law-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		register := drawRegister(rt)
		b := newBench(rt, dir, faulty.NoSync{}, register)
		d := b.compare(register, drawEdit(rt, register))
		for first := rapid.IntRange(0, 3).Draw(rt, "first"); ; first = 0 {
			rep, err := b.apply(d, Options{First: first})
			require.NoError(rt, err)
			if rep.Run == 0 {
				break
			}
			assert.True(rt, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
		}
		after := b.bytes()
		if d.Set().Changes.Changes() == 0 {
			assert.Equal(rt, string(register), after)
			return
		}
		back := b.rollback(d)
		rep, err := b.apply(back, Options{})
		require.NoError(rt, err)
		assert.True(rt, rep.Verify.Holds())
		require.Equal(rt, string(register), b.bytes())
		again := b.rollback(back)
		_, err = b.apply(again, Options{})
		require.NoError(rt, err)
		assert.Equal(rt, records(rt, after), records(rt, b.bytes()))
		for _, x := range []*desk.Dossier{d, back, again} {
			assert.Empty(rt, Check(x))
		}
	})
}

// Each run of a dossier is proven with the steps of the runs before it, and each is read as it was.
func TestEachRunIsProvenBesideTheOthers(t *testing.T) {
	before, after := "k,v\n", "k,v\n"
	for i := range 9 {
		before, after = before+fmt.Sprintf("%d,a\n", i), after+fmt.Sprintf("%d,A%d\n", i, i)
	}
	b := newBench(t, t.TempDir(), disk.OS{}, []byte(before))
	d := b.compare([]byte(before), []byte(after))
	for n, first := range []int{4, 3, 0} {
		rep, err := b.apply(d, Options{First: first})
		require.NoError(t, err)
		done := min(4+3*n, 9)
		assert.Equal(t, done, rep.Verify.AsMeant, "run %d: %+v", n+1, rep.Verify.Differences)
		assert.True(t, rep.Verify.Holds())
		b.isRead(d, rep)
		all := map[string]bool{}
		for r, err := range allRuns(d) {
			require.NoError(t, err)
			for _, s := range r.Steps {
				all[s.Key.String()] = true
			}
		}
		assert.Len(t, all, done)
	}
	assert.Equal(t, after, b.bytes())
}

// What a proof says of a run of amends, by what became of each of its records since.
func TestWhatBecameOfARunIsCounted(t *testing.T) {
	before, after := []byte("k,v,w\n1,a,x\n2,a,x\n3,a,x\n4,a,x\n5,a,x\n"), []byte("k,v,w\n1,A,x\n2,A,x\n3,A,x\n4,A,X\n5,a,x\n")
	b := newBench(t, t.TempDir(), faulty.NoSync{}, before)
	d := b.compare(before, after)
	_, err := b.apply(d, Options{})
	require.NoError(t, err)
	for now, want := range map[string]Verification{
		string(after):                         {AsMeant: 4},
		"k,v,w\n1,a,x\n2,B,x\n4,A,x\n5,a,y\n": {NotDone: 2, Other: 2, Besides: 1}, // 1 and half of 4 are as they were, 2 is another, 3 is gone, 5 moved besides
		"k,v,w\n1,A,x\n2,A,y\n3,A,x\n4,A,X\n": {AsMeant: 4, Besides: 2},           // a field that no step meant, and a record that went
	} {
		m, err := csv.Open("now", []byte(now))
		require.NoError(t, err)
		v, err := Verify(t.Context(), d, Proof{Fresh: m, Now: time.Now, Unkept: true})
		require.NoError(t, err)
		assert.Equal(t, want, Verification{AsMeant: v.AsMeant, NotDone: v.NotDone, Other: v.Other, Besides: v.Besides}, "%s: %+v", now, v.Differences)
	}
}

// The last rows of a file with mixed line ends go, and come back with the line end that stood
// before them, which the file has lost by then.
func TestTheLastRowsComeBackWithTheirLineEnds(t *testing.T) {
	register := []byte("k,v\r\n1,a\r\n2,b\n3,c\n4,d")
	b := newBench(t, t.TempDir(), faulty.NoSync{}, register)
	d := b.compare(register, []byte("k,v\n1,a\n2,b\n"))
	_, err := b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, "k,v\r\n1,a\r\n2,b", b.bytes())
	_, err = b.apply(b.rollback(d), Options{})
	require.NoError(t, err)
	assert.Equal(t, string(register), b.bytes())
}

// records are a file's rows, sorted: its content whatever its order.
func records(t require.TestingT, data string) []string {
	m, err := csv.Open("r", []byte(data))
	require.NoError(t, err)
	var all []string
	for s := csv.Body(m); ; {
		ok, err := s.Next()
		require.NoError(t, err)
		if !ok {
			slices.Sort(all)
			return all
		}
		all = append(all, fmt.Sprint(csv.Record(m, s.Raw())))
	}
}

// What others change meanwhile is never overwritten, neither by a run nor by
// its rollback.
func TestOthersChangesStay(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp("", "paletwin-law-")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		register := []byte("k,v,w\n1,a,x\n2,b,x\n3,c,x\n4,d,x\n5,e,x\n")
		b := newBench(rt, dir, faulty.NoSync{}, register)
		d := b.compare(register, []byte("k,v,w\n1,A,x\n2,B,x\n3,C,x\n4,d,x\n"))
		others := func(name string) map[string]string {
			changed := map[string]string{}
			for i := range 5 {
				if rapid.IntRange(0, 2).Draw(rt, name) == 0 {
					old := fmt.Sprint(i + 1)
					now := bytes.Replace([]byte(b.bytes()), []byte("\n"+old+","), []byte("\n"+old+","+name+"-"), 1)
					if string(now) != b.bytes() {
						changed[old] = name
						require.NoError(rt, os.WriteFile(b.register, now, 0o644))
					}
				}
			}
			return changed
		}
		before := others("before")
		_, err = b.apply(d, Options{})
		require.NoError(rt, err)
		for k := range before {
			assert.Contains(rt, b.bytes(), "\n"+k+",before-")
		}
		after := others("after")
		f := b.target()
		back, err := Rollback(context.Background(), d, f, Undo{By: "petr", Now: clock})
		require.NoError(rt, f.Close())
		if err == nil {
			_, err = back.Decide(&desk.Order{Decision: changeset.Approve, By: "petr", When: clock()})
			require.NoError(rt, err)
			_, err = b.apply(back, Options{})
			require.NoError(rt, err)
		}
		for k := range after {
			assert.Contains(rt, b.bytes(), "\n"+k+",after-")
		}
		for k := range before {
			assert.Contains(rt, b.bytes(), "before-", k)
		}
	})
}

func TestATargetThatMovesIsNotWritten(t *testing.T) {
	register := []byte("k,v\n1,a\n2,b\n")
	for name, move := range map[string]func(b *bench){
		"written to": func(b *bench) { require.NoError(t, os.WriteFile(b.register, []byte("k,v\n1,z\n2,b\n"), 0o644)) },
		"replaced by equal bytes": func(b *bench) {
			require.NoError(t, os.WriteFile(b.register+".x", register, 0o644))
			require.NoError(t, os.Rename(b.register+".x", b.register))
		},
		"removed":                 func(b *bench) { require.NoError(t, os.Remove(b.register)) },
		"opened in a spreadsheet": func(b *bench) { require.NoError(t, os.WriteFile(filepath.Join(b.dir, "~$register.csv"), nil, 0o644)) },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, t.TempDir(), disk.OS{}, register)
			d := b.compare(register, []byte("k,v\n1,A\n2,b\n"))
			f := b.target()
			j := &Job{Dossier: d, Target: f, By: "petr", Now: clock, Options: Options{OtherTarget: true},
				Confirm: func(*Plan, int) bool { move(b); return true }}
			_, err := Apply(context.Background(), j)
			require.ErrorIs(t, err, target.ErrMoved)
			require.NoError(t, f.Close())
			require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "~$register.csv")))
			if now, err := os.ReadFile(b.register); err == nil {
				assert.NotContains(t, string(now), "A")
			}
			left, err := filepath.Glob(filepath.Join(b.dir, ".register*"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestOneProcessAtATime(t *testing.T) {
	register := []byte("k,v\n1,a\n")
	b := newBench(t, t.TempDir(), disk.OS{}, register)
	d := b.compare(register, []byte("k,v\n1,A\n"))
	lock, err := d.Lock()
	require.NoError(t, err)
	_, err = d.Decide(&desk.Order{Decision: changeset.Reject, By: "noor", When: clock()})
	assert.ErrorIs(t, err, disk.ErrLocked)
	require.NoError(t, lock.Unlock())
	f := b.target()
	_, err = file.Open(b.fs, b.register, []string{"k"}, new(schema.Schema), table.Options{})
	assert.ErrorContains(t, err, "another paletwin process")
	require.NoError(t, f.Close())
	require.NoError(t, b.target().Close())
}
