package targettest

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/run"
	"paletwin/internal/target"
)

// assigned makes a dossier of a copy with new records that have no key, where the
// layout says that the system gives it.
func assigned(t *testing.T, snapshot, edited string) *Update {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "layouts"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "layouts/aids.yaml"), []byte("record_set: aids\nkey: k\nkey_form: {zeros: 4}\nfields:\n  k: {kind: integer, key: assigned, required: true}\n  v: text\n  parent: integer\n"), 0o600))
	d, err := desk.Find(faulty.NoSync{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	l, err := d.FindLayout("aids")
	require.NoError(t, err)
	x, _, err := d.Compare(context.Background(), &desk.Comparison{Title: "new", By: "lina", Now: clock(), Layout: l,
		Snapshot: desk.Source{Name: "s.csv", Stream: strings.NewReader(snapshot)}, Edited: &desk.Source{Name: "e.csv", Stream: strings.NewReader(edited)},
		Options: compare.Options{RecordSet: "aids", Key: []string{"k"}, OtherRegister: true}})
	require.NoError(t, err)
	u := &Update{t, d, x}
	u.Approve()
	return u
}

func tableNow(t *testing.T, m *Mean) *table.Image {
	img, _, err := m.Table(t.Context())
	require.NoError(t, err)
	return img
}

func numbered(next int) *Mean {
	m := NewMean([]string{"k"}, []string{"k", "v"}, []string{"0001", "a"}, []string{"0002", "b"})
	m.BatchSize, m.Next = 2, next
	return m
}

const (
	numberedBefore = "k,v\n0001,a\n0002,b\n"
	numberedAfter  = "k,v\n0001,A\n0002,b\n,c\nnew:lamp,d\n,e\n"
)

// New records get their keys from the target: they are proven, undone and told by
// them, and which they were in the copy is known.
func TestTheTargetGivesKeys(t *testing.T) {
	u, m := assigned(t, numberedBefore, numberedAfter), numbered(700)
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 4}, rep.Steps)
	assert.True(t, rep.Verify.Holds(), "%+v", rep.Verify.Differences)
	assert.Equal(t, "k,v\n0001,A\n0002,b\n700,c\n701,d\n702,e\n", strings.Join(sorted(m.State()), "\n")+"\n")
	b, err := os.ReadFile(rep.Outcome)
	require.NoError(t, err)
	assert.Contains(t, string(b), "701,")
	assert.Contains(t, string(b), "it was new:lamp in the copy")
	rep, err = u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Zero(t, rep.Run, "what is done is not done again")
	v, err := run.Verify(context.Background(), u.Dossier, run.Proof{Fresh: tableNow(t, m), Now: clock})
	require.NoError(t, err)
	assert.True(t, v.Holds(), "%+v", v.Differences)
	assert.Empty(t, run.Check(u.Dossier))
	back, err := u.Rollback(m).Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 4}, back.Steps)
	assert.Equal(t, numberedBefore, m.State())
	events, _, err := run.History(u.Desk, run.Question{Record: func(*desk.RecordSet) (record.Key, bool) { return record.NewKey("701"), true }})
	require.NoError(t, err)
	require.Len(t, events, 2, "it came, and it went")
	assert.Equal(t, record.NewKey("701"), events[0].Key)
}

// Where the answer is lost it cannot be told whether a new record is there: it is
// unknown, and not added twice.
func TestALostNewRecordIsNotAddedTwice(t *testing.T) {
	for at := 1; at <= 2; at++ {
		u, m := assigned(t, numberedBefore, numberedAfter), numbered(700)
		m.LoseAt = at
		_, err := u.Apply(m, run.Options{})
		require.ErrorIs(t, err, ErrLost)
		m.LoseAt = 0
		rep, err := u.Apply(m, run.Options{})
		require.NoError(t, err)
		assert.Positive(t, rep.Steps.Unknown)
		assert.Zero(t, rep.Steps.Conflict+rep.Steps.Refused)
		rep, err = u.Apply(m, run.Options{})
		require.NoError(t, err)
		assert.Zero(t, rep.Run)
		assert.Equal(t, 3, strings.Count(m.State(), "\n70"), "%s", m.State())
	}
}

// A target that gives no keys refuses such records before anything is written.
func TestAKeyIsNeeded(t *testing.T) {
	u, m := assigned(t, numberedBefore, numberedAfter), numbered(0)
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 1, Refused: 3}, rep.Steps)
	assert.Equal(t, "k,v\n0001,A\n0002,b\n", m.State())
	c, err := u.Dossier.Changes()
	require.NoError(t, err)
	defer c.Close()
	var keys []string
	for ch, err := range c.Changes() {
		require.NoError(t, err)
		if ch.Act == changeset.Add {
			keys = append(keys, ch.Key.String())
		}
	}
	assert.Equal(t, []string{"new:row 4", "new:lamp", "new:row 6"}, keys)
}

const (
	families      = "k,v,parent\n0001,a,\n0002,b,0001\n"
	moreFamilies  = "k,v,parent\n0001,a,new:root\n0002,b,0001\nnew:leaf,c,new:twig\nnew:twig,d,new:root\nnew:root,e,\n,f,new:leaf\n"
	hopeless      = "k,v,parent\n0001,A,\n0002,b,new:one\nnew:one,c,new:two\nnew:two,d,new:one\nnew:three,e,new:ghost\nnew:four,f,\n"
	familiesAfter = "k,v,parent\n0001,a,700\n0002,b,0001\n700,e,\n701,d,700\n702,c,701\n703,f,702\n"
)

func family() *Mean {
	m := NewMean([]string{"k"}, []string{"k", "v", "parent"}, []string{"0001", "a", ""}, []string{"0002", "b", "0001"})
	m.BatchSize, m.Next = 2, 700
	return m
}

// New records that name each other are written in an order in which the names have
// keys, however far a run gets; what is proven and undone are the keys.
func TestNewRecordsNameEachOther(t *testing.T) {
	for at := 0; at <= 5; at++ {
		u, m := assigned(t, families, moreFamilies), family()
		m.BatchSize = 1
		m.Before = func(m *Mean, batch int) {
			if batch == at { // it dies before it does anything
				m.LoseAt, m.Refuse = at, func(*target.Step) string { return "down" }
			}
		}
		_, err := u.Apply(m, run.Options{})
		m.LoseAt, m.Refuse, m.Before = 0, nil, nil
		if at > 0 {
			require.ErrorIs(t, err, ErrLost)
		} else {
			require.NoError(t, err)
		}
		rep, err := u.Apply(m, run.Options{Again: at > 0})
		require.NoError(t, err)
		require.Zero(t, rep.Steps.Conflict, "%d: %v\n%s", at, rep.Steps, m.State())
		if at > 0 { // the one that was being written is done when somebody has looked
			_, err = u.Apply(m, run.Options{Again: true})
			require.NoError(t, err)
		}
		if at == 0 {
			require.Equal(t, familiesAfter, strings.Join(sorted(m.State()), "\n")+"\n")
			v, err := run.Verify(context.Background(), u.Dossier, run.Proof{Fresh: tableNow(t, m), Now: clock})
			require.NoError(t, err)
			require.True(t, v.Holds(), "%+v", v.Differences)
			require.Empty(t, run.Check(u.Dossier))
			back, err := u.Rollback(m).Apply(m, run.Options{})
			require.NoError(t, err)
			require.Equal(t, run.Steps{Done: 5}, back.Steps)
			require.Equal(t, families, m.State())
		}
		require.NotContains(t, m.State(), "new:", "%d", at)
		if at == 0 {
			continue // it is undone
		}
		for _, v := range []string{",c,7", ",d,7", ",e,", ",f,7", "0001,a,7"} {
			require.Contains(t, m.State(), v, "%d", at)
		}
	}
}

// A name that gets no key is never written: of a ring, of a record that is not there.
func TestNamesWithoutAKeyAreRefused(t *testing.T) {
	u, m := assigned(t, families, hopeless), family()
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 2, Refused: 3}, rep.Steps, "0001 and new:four; new:three is stopped")
	assert.Equal(t, "k,v,parent\n0001,A,\n0002,b,0001\n700,f,\n", strings.Join(sorted(m.State()), "\n")+"\n")
}

// What names a record that the target refused is refused, too.
func TestNamesOfWhatIsRefused(t *testing.T) {
	u, m := assigned(t, families, moreFamilies), family()
	m.Refuse = func(s *target.Step) string {
		if s.Key.String() == "new:root" {
			return "no more roots"
		}
		return ""
	}
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Refused: 5}, rep.Steps)
	assert.Equal(t, families, m.State())
	m.Refuse = nil
	rep, err = u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 5}, rep.Steps)
	assert.Equal(t, familiesAfter, strings.Join(sorted(m.State()), "\n")+"\n")
}

// A text that only begins as such names do is a text like others.
func TestATextIsNoName(t *testing.T) {
	u, m := assigned(t, families, "k,v,parent\n0001,new: bell fitted,\n0002,new:ghost,0001\nnew:lamp,new:er lantern,0001\n"), family()
	rep, err := u.Apply(m, run.Options{})
	require.NoError(t, err)
	assert.Equal(t, run.Steps{Done: 3}, rep.Steps, "%v", rep.Attempted)
	assert.True(t, rep.Verify.Holds())
	assert.Equal(t, "k,v,parent\n0001,new: bell fitted,\n0002,new:ghost,0001\n700,new:er lantern,0001\n", strings.Join(sorted(m.State()), "\n")+"\n")
}
