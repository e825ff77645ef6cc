package run

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/target"
)

// lying is a disk that keeps other bytes of one file than it was given, and says
// nothing.
type lying struct {
	faulty.NoSync
	of string
}

func (l lying) Create(name string, perm fs.FileMode) (disk.File, error) {
	f, err := l.NoSync.Create(name, perm)
	if err == nil && strings.Contains(filepath.Base(name), l.of) {
		f = lyingFile{f}
	}
	return f, err
}

type lyingFile struct{ disk.File }

func (f lyingFile) Write(p []byte) (int, error) {
	q := bytes.Clone(p)
	q[len(q)/2] ^= 1
	return f.File.Write(q)
}

// What is kept for going back is read back before step one: a disk that keeps
// something else ends the run, and nothing is written.
func TestWhatDoesNotReadBackIsNotBegun(t *testing.T) {
	snapshot, edited := "k,v,w\n1,a,x\n2,b,x\n", "k,v,w\n1,A,x\n2,b,x\n"
	for _, of := range []string{"backup", "rollback"} {
		b := newBench(t, t.TempDir(), lying{of: of}, []byte(snapshot))
		d := b.compare([]byte(snapshot), []byte(edited))
		_, err := b.apply(d, Options{})
		require.ErrorIs(t, err, ErrBackup, of)
		assert.Equal(t, snapshot, b.bytes(), of)
	}
}

// The file by which a run is undone is sealed: one that was altered undoes nothing.
func TestTheRollbackFileIsSealed(t *testing.T) {
	snapshot := "k,v,w\n1,a,x\n2,b,x\n"
	b := newBench(t, t.TempDir(), faulty.NoSync{}, []byte(snapshot))
	d := b.compare([]byte(snapshot), []byte("k,v,w\n1,A,x\n2,b,x\n"))
	_, err := b.apply(d, Options{})
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(b.dir, "dossiers", "*", "runs", "1", rollbackName))
	require.NoError(t, err)
	require.Len(t, files, 1)
	whole, err := os.ReadFile(files[0])
	require.NoError(t, err)
	_, err = readRollback(whole, true)
	require.NoError(t, err)
	_, err = readRollback(bytes.Replace(whole, []byte(`"a"`), []byte(`"e"`), 1), true)
	require.ErrorIs(t, err, desk.ErrAltered)
}

// A record of which one field is neither as it was nor as wanted is left whole; its
// other fields are written only where that is asked for.
func TestARecordIsLeftWhole(t *testing.T) {
	snapshot, edited := "k,v,w\n1,a,x\n2,b,x\n", "k,v,w\n1,A,X\n2,b,x\n"
	moved := "k,v,w\n1,a,theirs\n2,b,x\n"
	for perField, want := range map[bool]string{false: moved, true: "k,v,w\n1,A,theirs\n2,b,x\n"} {
		b := newBench(t, t.TempDir(), faulty.NoSync{}, []byte(moved))
		d := b.compare([]byte(snapshot), []byte(edited))
		rep, err := b.apply(d, Options{PerField: perField})
		require.NoError(t, err)
		assert.Equal(t, want, b.bytes())
		assert.Equal(t, !perField, rep.Steps.Conflict == 1)
	}
}

// A record that has more than it had is not what was to be deleted.
func TestWhatARecordHasBesides(t *testing.T) {
	then := record.Record{{Name: "k", Value: record.Text("1")}}
	now := append(then[:1:1], record.Field{Name: "w", Value: record.Text("x")}, record.Field{Name: "y", Value: record.Text("")}, record.Field{Name: "sys", Value: record.Text("t")})
	assert.Equal(t, []schema.Unlike{{Field: "w", Real: record.Text("x")}}, schema.Filled(then, now, nil, []string{"sys"}))
	assert.Empty(t, schema.Filled(then, now, []string{"k"}, []string{"sys"}), "what was not looked at counts for nothing")
}

// Two steps do not give two records one unique value, in whatever form; the second
// is refused.
func TestTwoStepsDoNotGiveOneUniqueValue(t *testing.T) {
	j := &Job{schema: schema.New([]string{"k"}, schema.KeyForm{}, []*schema.Field{{Name: "no", Kind: schema.Text, Unique: true, Compare: schema.Leniency{Case: true}}, {Name: "v", Kind: schema.Text}})}
	gets := func(key, field, value string) *Step {
		return &Step{Key: record.NewKey(key), Act: changeset.Amend, Fields: changeset.Pack([]changeset.Edit{{Field: field, To: record.Text(value)}})}
	}
	steps := []*Step{gets("1", "no", "Z7"), gets("2", "no", "z7"), gets("3", "v", "Z7"), gets("4", "no", ""), gets("5", "no", "")}
	j.wanted(steps)
	for i, want := range []Outcome{"", Refused, "", "", ""} {
		assert.Equal(t, want, steps[i].Outcome, "step %d", i+1)
	}
	assert.Contains(t, steps[1].Reason, "1 gets the value")
}

// What names a record without a key is not written, and neither is what is linked
// with it; what waits for a key goes after the record that gets it.
func TestNamesOfNewRecords(t *testing.T) {
	add := func(key, parent, link string) *Step {
		return &Step{Act: changeset.Add, Key: record.NewKey(key), Record: record.Record{{Name: "parent", Value: record.Text(parent)}}.Pack(), apart: &apart{linked: link}}
	}
	of := func(steps []*Step) (all []string) {
		for _, s := range steps {
			all = append(all, s.Key.String())
		}
		return all
	}
	all := map[string]bool{"new:a": true, "new:b": true, "new:c": true, "new:d": true, "new:e": true, "new:f": true}
	parts, never := inTurn([]*Step{add("new:c", "new:b", "x"), add("new:d", "", "x"), add("new:b", "new:a", ""), add("new:a", "", ""), add("new:e", "new:f", ""), add("new:f", "new:e", "")}, nil, all)
	require.Len(t, parts, 3)
	assert.Equal(t, [][]string{{"new:a"}, {"new:b"}, {"new:c", "new:d"}}, [][]string{of(parts[0]), of(parts[1]), of(parts[2])})
	assert.Equal(t, []string{"new:e", "new:f"}, of(never))
	ready, lacking := named(parts[2], map[string]string{}, all)
	assert.Empty(t, ready)
	assert.Equal(t, []string{"new:c", "new:d"}, of(lacking), "a link is not torn")
	ready, _ = named(parts[2], map[string]string{"new:b": "702"}, all)
	require.Len(t, ready, 2)
	v, _ := ready[0].Record.Get("parent")
	assert.Equal(t, "702", v.String())
	assert.Equal(t, map[string]string{"new:b": "702"}, ready[0].Rare().Named)
}

// A field is judged by the value that stands there, whether or not that is to the letter what the edit goes out from.
func TestWhatIsThereDecides(t *testing.T) {
	j := &Job{schema: schema.New([]string{"k"}, schema.KeyForm{}, []*schema.Field{{Name: "v", Kind: schema.Text, Compare: schema.Leniency{Case: true}}})}
	for _, c := range []struct {
		from, to, now string
		want          Outcome
		written       string // what it is written from
	}{
		{"a", "b", "a", "", "a"},
		{"a", "b", "A", "", "A"},
		{"a", "A", "a", Settled, ""}, // one value, by the schema
		{"a", "b", "b", Settled, ""},
		{"a", "b", "B", Settled, ""},
		{"a", "b", "c", Conflict, ""},
	} {
		s := &Step{Act: changeset.Amend, Key: record.NewKey("1"), Fields: changeset.Pack([]changeset.Edit{{Field: "v", From: record.Text(c.from), To: record.Text(c.to)}})}
		v := j.judge(s, &target.State{Count: 1, Record: record.Record{{Name: "v", Value: record.Text(c.now)}}})
		assert.Equal(t, c.want, v.Outcome, "%v", c)
		if c.want == "" {
			require.Equal(t, 1, v.fields.Len())
			assert.Equal(t, c.written, v.fields.Edits()[0].From.String(), "%v", c)
			assert.Equal(t, c.from, s.Fields.Edits()[0].From.String(), "the step is not changed by being judged")
		}
	}
}

// A step that was handed over and done in part is, once the rest is heard of, done whole: what was sent is not forgotten.
func TestWhatWasSentIsNotForgotten(t *testing.T) {
	sent := changeset.Pack([]changeset.Edit{{Field: "a", To: record.Text("1")}, {Field: "b", To: record.Text("2")}})
	s := &Step{Act: changeset.Amend, Key: record.NewKey("k"), Fields: sent, handed: true, Ending: Ending{Outcome: Unknown}}
	heard := func(o Outcome, reason, field string) {
		s.learn(Learnt{Outcome: o, Reason: reason}, []string{field})
		s.settleFields()
	}
	heard(Done, "", "a")
	assert.Equal(t, Unknown, s.Outcome)
	heard(Refused, "no such list", "b")
	assert.Equal(t, Done, s.Outcome)
	assert.True(t, s.Partly())
	assert.Equal(t, 1, s.Fields.Len(), "what was refused is not written")
	assert.True(t, s.means("b"), "and was meant")
	c := s.copied()
	heard(Done, "", "b")
	assert.False(t, s.Partly())
	assert.Equal(t, sent, s.Fields)
	assert.Len(t, s.handedUnits(), 2)
	assert.True(t, c.Partly(), "a copy of the step is another")
	assert.Equal(t, 1, c.Fields.Len())
}
