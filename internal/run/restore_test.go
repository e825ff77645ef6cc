package run

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/internal/disk"
)

// A way back to a backup leaves open what the runs did, and holds all that
// others did since: to the runs' records and to their own.
func TestRestoreHoldsWhatNoRunDid(t *testing.T) {
	const before, after = "k,v,w\n1,a,x\n2,b,x\n3,c,x\n4,d,x\n", "k,v,w\n1,A,x\n3,c,x\n4,d,x\n9,n,x\n"
	for name, x := range map[string]struct{ now, open, held string }{
		"nothing since":          {after, "amend 1 delete 9 add 2 ", ""},
		"theirs is gone":         {"k,v,w\n1,A,x\n4,d,x\n9,n,x\n", "amend 1 delete 9 add 2 ", "add 3 "},
		"one of theirs is new":   {after + "8,e,x\n", "amend 1 delete 9 add 2 ", "delete 8 "},
		"theirs is another":      {"k,v,w\n1,A,x\n3,c,x\n4,D,x\n9,n,x\n", "amend 1 delete 9 add 2 ", "amend 4 "},
		"ours was written over":  {"k,v,w\n1,Z,x\n3,c,x\n4,d,x\n9,n,x\n", "delete 9 add 2 ", "amend 1 "},
		"ours was added to":      {"k,v,w\n1,A,x\n3,c,x\n4,d,x\n9,n,y\n", "amend 1 add 2 ", "delete 9 "},
		"ours came back another": {after + "2,B,x\n", "amend 1 delete 9 ", "amend 2 "},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, t.TempDir(), disk.OS{}, []byte(before))
			d := b.compare([]byte(before), []byte(after))
			b.approve(d)
			rep, err := b.apply(d, Options{})
			require.NoError(t, err)
			require.Equal(t, Steps{Done: 3}, rep.Steps)
			require.NoError(t, os.WriteFile(b.register, []byte(x.now), 0o644))
			f := b.target()
			back, _, err := Restore(ctx(), d, f, Restoration{By: "petr", Now: clock})
			require.NoError(t, f.Close())
			require.NoError(t, err)
			c, err := back.Changes()
			require.NoError(t, err)
			defer c.Close()
			is := map[changeset.Decision]string{}
			for line := range c.Lines() {
				ch, err := line.Change(c.Header.Fields)
				require.NoError(t, err)
				for _, s := range c.Ledger.States(line, ch) {
					is[s.Decision] += ch.Act.String() + " " + ch.Key.String() + " "
				}
			}
			assert.Equal(t, x.open, is[changeset.Open], "open")
			assert.Equal(t, x.held, is[changeset.Hold], "held")
		})
	}
}
