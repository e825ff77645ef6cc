package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"paletwin/internal/disk"
)

// TestWhoIsBelieved holds judge against what follows from who could have written a file: everybody of whom each is asked in turn.
func TestWhoIsBelieved(t *testing.T) {
	const me, mate, stranger, alien = 1000, 1001, 1002, 65534
	const harbour, mine, staff = 500, 1000, 50 // groups
	members := map[int][]int{harbour: {me, mate}, mine: {me}, staff: {me, stranger}}
	in := func(uid, gid int) bool {
		for _, m := range members[gid] {
			if m == uid {
				return true
			}
		}
		return false
	}
	rapid.Check(t, func(rt *rapid.T) {
		group := rapid.SampledFrom([]int{-1, harbour}).Draw(rt, "shared")
		knows := rapid.Bool().Draw(rt, "members are known")
		tr := &trust{user: me, group: group,
			member:  func(uid int) (bool, bool) { return knows && in(uid, group), knows },
			alone:   func(gid int) bool { return gid == mine },
			unknown: func(uid int) bool { return uid == alien },
			name:    func(int) string { return "somebody" }, called: func(int) string { return "a group" },
		}
		a := disk.Access{UID: rapid.SampledFrom([]int{0, me, mate, stranger, alien}).Draw(rt, "owner"), GID: rapid.SampledFrom([]int{harbour, mine, staff}).Draw(rt, "group"),
			Group: rapid.Bool().Draw(rt, "group writes"), Others: rapid.Bool().Draw(rt, "others write")}
		why, foreign := tr.judge(a)
		if a.UID == alien {
			assert.True(rt, foreign && why == "", "where the owner means nothing nothing is judged")
			return
		}
		writes := func(uid int) bool {
			return uid == a.UID || a.Others || a.Group && in(uid, a.GID)
		}
		trusted := func(uid int) bool { return uid == 0 || uid == me || group >= 0 && in(uid, group) }
		could := false
		for _, uid := range []int{mate, stranger} {
			could = could || writes(uid) && !trusted(uid)
		}
		switch {
		case !knows && group >= 0 && a.UID == mate && a.GID != group:
			assert.NotEmpty(rt, why, "whose membership is not known is not believed but by the file's group")
		case !knows && group >= 0 && a.UID == stranger && a.GID == group && !a.Others:
			assert.Empty(rt, why, "only who is in a group can give it a file")
		case a.Others && !could:
			assert.NotEmpty(rt, why)
		default:
			assert.Equal(rt, could, why != "", "%+v: %s", a, why)
		}
	})
}
