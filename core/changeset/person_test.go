package changeset

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/record"
)

// TestOnePersonIsOne has people approve a change under names of their own and of others, from accounts of their own and of others. Where
// names are not claimed, as many approved as there are accounts and names that are tied together by neither; where they are, the names count.
func TestOnePersonIsOne(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		ch := &Change{Act: Add, Key: record.NewKey("1")}
		line := Line(`{"id":"0000000000000000","act":"add","key":["1"],"record":{"k":"1"}}`)
		ch.ID = line.ID()
		l, err := OpenLedger(nil, "aids", "")
		require.NoError(rt, err)
		claimed := rapid.Bool().Draw(rt, "claimed")
		var people []Person
		for n := range rapid.IntRange(1, 6).Draw(rt, "acts") {
			a := &DecisionAct{RecordSet: "aids", Decision: Approve, When: time.Unix(int64(n), 0), On: []Pair{{ID: ch.ID, Digest: DigestOf(line)}},
				By: rapid.SampledFrom([]string{"lina", "mairead", "petr"}).Draw(rt, "by"), Account: rapid.SampledFrom([]string{"", "1@a", "2@a", "1@b"}).Draw(rt, "account")}
			if rapid.Bool().Draw(rt, "for another") {
				a.Via = rapid.SampledFrom([]string{"lina", "mairead"}).Draw(rt, "via")
			}
			l.Take(a, 1, Checksum(a.AppendLine(nil, l.Last())))
			name, account := a.By, a.Account
			if a.Via != "" && claimed {
				account = ""
			} else if a.Via != "" {
				name = a.Via
			}
			same := false
			for _, p := range people {
				same = same || p.Name == name || account != "" && p.Account == account
			}
			if !same {
				people = append(people, Person{Name: name, Account: account})
			}
		}
		who := l.Approvers(line, ch, "", claimed)
		require.Len(rt, who, len(people))
		for i, p := range people {
			assert.Equal(rt, p.Name, who[i].Name)
			assert.Equal(rt, p.Account, who[i].Account)
		}
	})
}
