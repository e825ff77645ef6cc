package run

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/compare"
	"paletwin/core/table"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
	"paletwin/internal/disk/faulty"
	"paletwin/internal/target"
)

// An interrupted run belongs to its target: nothing else is written under its
// backup, whatever is said.
func TestAnOpenRunStaysOnItsTarget(t *testing.T) {
	start := template(t)
	open := 0
	eachFault(t, start, faulty.Fail, func(_ int, _ *faulty.FS, b *bench, _ *desk.Dossier) {
		b.fs = faulty.NoSync{}
		b.reopen()
		d, err := b.desk.Dossier("1", "")
		require.NoError(t, err)
		runs, err := Runs(d)
		require.NoError(t, err)
		if len(runs) == 0 {
			return
		}
		if r, err := ReadRun(d, 1); err != nil || r.Ended != "" {
			return
		}
		open++
		other := *b
		other.register = filepath.Join(b.dir, "other.csv")
		require.NoError(t, os.WriteFile(other.register, []byte(oldRegister), 0o644))
		_, err = other.apply(d, Options{})
		var refused *Refusal
		require.ErrorAs(t, err, &refused)
		assert.Equal(t, UnfinishedThere, refused.Code)
		assert.Equal(t, oldRegister, other.bytes())
		recover(t, b)
	})
	assert.Positive(t, open)
}

// A target that could not be proven afterwards is not written in the first
// place, wherever in it the fault is.
func TestATargetThatCouldNotBeProvenIsNotWritten(t *testing.T) {
	snapshot, edited := "k,v,w\n1,a,x\n2,b,x\n3,c,x\n", "k,v,w\n1,A,x\n2,b,x\n"
	for name, register := range map[string]string{
		"a heading twice":               "k,v,w,v\n1,a,x,\n2,b,x,\n3,c,x,\n",
		"a heading that is blank":       "k,,v,w\n1,,a,x\n2,,b,x\n3,,c,x\n",
		"cells beyond the last heading": "k,v,w\n1,a,x\n2,b,x,more\n3,c,x\n",
		"a row cut short":               "k,v,w\n1,a,x\n2,b\n3,c,x\n",
		"another record twice":          "k,v,w\n1,a,x\n2,b,x\n2,b,x\n3,c,x\n",
		"another record twice, apart":   "k,v,w\n2,b,x\n1,a,x\n2,b,x\n3,c,x\n",
		"a record of it twice":          "k,v,w\n1,a,x\n1,a,x\n2,b,x\n3,c,x\n",
		"a row without a key":           "k,v,w\n1,a,x\n,b,x\n3,c,x\n",
		"no column for the key":         "kk,v,w\n1,a,x\n2,b,x\n3,c,x\n",
		"no column for a field":         "k,vv,w\n1,a,x\n2,b,x\n3,c,x\n",
	} {
		for _, rehearse := range []bool{true, false} {
			t.Run(name, func(t *testing.T) {
				b := newBench(t, t.TempDir(), disk.OS{}, []byte(register))
				d := b.compare([]byte(snapshot), []byte(edited))
				_, err := b.apply(d, Options{Rehearse: rehearse})
				var compared *compare.Refusal
				var read *table.Error
				var column *target.MissingColumn
				var refused *Refusal
				assert.True(t, errors.As(err, &compared) || errors.As(err, &read) || errors.As(err, &column) || errors.As(err, &refused), "%v", err)
				assert.Equal(t, register, b.bytes())
				assert.NoDirExists(t, d.Path("runs"))
			})
		}
	}
}
