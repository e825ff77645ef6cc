package wear

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// formOf is the form of a column of n values.
func formOf(n int, value func(i int) string) *Form {
	f := new(Form)
	for i := range n {
		f.Take(value(i))
	}
	return f
}

var (
	fees    = func(i int) string { return fmt.Sprintf("%d.%02d", 5+i*7, i%100) }
	weights = func(i int) string { return fmt.Sprintf("%d.%03d", 1+i%60, i%20*50) }
	places  = func(i int) string { return fmt.Sprintf("%d-%d", 1+i%12, 1+i%28) }
	shares  = func(i int) string { return fmt.Sprintf("%d.%d%%", i%99, i%10) }
	days    = func(i int) string { return fmt.Sprintf("2026-%02d-%02d", 1+i%12, 1+i%28) }
	british = func(i int) string { return fmt.Sprintf("%02d/%02d/2026", 1+i%28, 1+i%12) }
	codes   = func(i int) string { return fmt.Sprintf("H-%04d", i) }
	ids     = func(i int) string { return fmt.Sprintf("%05d", i) }
	crews   = func(i int) string { return []string{"north", "south", "harbour"}[i%3] }
	names   = func(i int) string { return fmt.Sprintf("Skerry Ledge %d", i) }
	times   = func(i int) string { return fmt.Sprintf("%02d:%02d", i%24, i%60) }
)

// What is outside the form of a column, and what is not.
func TestFormOfAColumn(t *testing.T) {
	for _, c := range []struct {
		name            string
		value           func(int) string
		outside, inside []string
	}{
		{"fees", fees, []string{"12", "12.5", "12,50", "-3.00", "£3.00", "n/a", "1.234.50"}, []string{"0.01", "99999.00"}},
		{"ids", ids, []string{"7", "000007", "0007A"}, []string{"99999"}},
		{"days", days, []string{"2026/03/11", "11-03-2026", "2026-3-1", "2026-03-11 00:00:00", "46092"}, []string{"1999-12-31"}},
		{"British days", british, []string{"1/2/2026", "13/05/26", "05/13/2026", "2026-05-13"}, []string{"31/12/1999"}},
		{"codes", codes, []string{"h-0001", "H-1", "H-0001  ", "H0001", "Ä-0001"}, []string{"K-9999"}},
		{"places", places, []string{"2026-12-05", "3/4", "3"}, []string{"7-7"}},
		{"names", names, []string{"Åsa's Rock 7"}, []string{"Tarn", "a far longer name than any that there was 12"}},
		{"crews", crews, []string{"North", "crew 9"}, []string{"east"}},
	} {
		f := formOf(60, c.value)
		for _, v := range c.outside {
			if c.name != "names" { // sentences have no form
				assert.True(t, f.Outside(v), "%s: %q", c.name, v)
			}
		}
		for _, v := range append(c.inside, c.value(3), "") {
			assert.False(t, f.Outside(v), "%s: %q", c.name, v)
		}
		assert.False(t, formOf(fewForm-1, c.value).Outside(c.outside[0]), "%s: few values show no form", c.name)
	}
	f := formOf(60, crews)
	assert.True(t, f.Unchosen("east"))
	assert.False(t, f.Unchosen("north"))
	assert.False(t, formOf(60, codes).Unchosen("K-9999"), "a column of many values is none of choices")
}

// What was meant by a value outside the form cannot be told where a program may have
// made it of another one.
func TestUntoldValues(t *testing.T) {
	for _, c := range []struct {
		value        func(int) string
		untold, told []string
	}{
		{places, []string{"2026-12-05", "05/12/2026", "46092", "5/12/26"}, []string{"5-12", "gone", "7-7a"}},
		{shares, []string{"0.555", "0,555", "1"}, []string{"55.5%", "none"}},
		{weights, []string{"32100", "-32100"}, []string{"32.100", "33", "32.1", "600"}},
		{days, []string{"46092", "05/12/2026", "46092.5"}, []string{"2026-12-05", "25/12/2026", "05/05/2026", "2026/12/05"}},
		{british, []string{"46092"}, []string{"2026-12-05", "5/12/2026", "05/12/2026"}},
		{times, []string{"0.295138888888889", "2026-01-01"}, []string{"07:05"}},
		{ids, []string{"1.2E+04", "4e+06"}, []string{"7", "12345"}},
		{names, nil, []string{"2026-12-05", "5.74E+17", "12"}},
		{fees, []string{"1.2E+04"}, []string{"3210", "321000000"}},
	} {
		f := formOf(60, c.value)
		for _, v := range c.untold {
			_, untold := f.Untold(v)
			assert.True(t, untold, "%q among %q", v, c.value(7))
		}
		for _, v := range c.told {
			_, untold := f.Untold(v)
			assert.False(t, untold, "%q among %q", v, c.value(7))
		}
	}
}

// Whether two texts are one value is read by the column's own separators and order.
func TestOneValueInTheColumnsOwnReading(t *testing.T) {
	comma := func(i int) string { return fmt.Sprintf("%d,%02d", 5+i, i) }
	for _, c := range []struct {
		value     func(int) string
		was, seen string
		want      likeness
	}{
		{fees, "29.70", "29.7", one}, {fees, "29.70", "2970", another}, {fees, "29.70", "30", another}, {fees, "29.70", "none", untold},
		{comma, "29,70", "29,7", one}, {comma, "29,70", "29.7", untold},
		{weights, "12.500", "12500", another}, {weights, "12.500", "12.5", one},
		{shares, "12.5%", "0.125", one}, {shares, "12.5%", "12.50%", one}, {shares, "12.5%", "12.5", another},
		{ids, "00412", "412", untold}, {ids, "00412", "413", untold},
		{days, "2026-04-05", "04/05/2026", untold}, {british, "04/05/2026", "2026-05-04", one}, {british, "04/05/2026", "2026-04-05", another},
		{british, "04/05/2026", "4.5.26", one}, {british, "04/05/2026", "05/04/2026", another},
		{crews, "north", "NORTH", one}, {crews, "north", "east", untold},
	} {
		assert.Equal(t, c.want, formOf(40, c.value).same(c.was, c.seen), "%q seen as %q", c.was, c.seen)
	}
}

// An id of more digits than a program keeps is the snapshot's where what is seen is the
// number that a program makes of it, in a column of which that is true.
func TestRoundedIDs(t *testing.T) {
	for seen, want := range map[string]bool{
		"574400010002345660": true, "574400010002345664": true, "5.7440001000234566e+17": true, "5.74400010002345660E17": true, "574400010002345000": true, "574400010002346000": true, "5.74400010002345E+17": true,
		"574400010002345679": false, "574400010002345678": false, "574400010002345670": false, "5.74E+17": false, "x": false, "574400010002345660.5": false,
	} {
		assert.Equal(t, want, isRounding("574400010002345678", seen), seen)
	}
	for _, seen := range []string{"2031000417650010", "2031000417650020", "2031000417650018"} {
		assert.False(t, isRounding("2031000417650017", seen), "%s may be an edit", seen)
	}
	assert.True(t, isRounding("2031000417650017", "2.03100041765002E+15"))

	var pairs []Pair
	for i := range 40 {
		pairs = append(pairs, Pair{fmt.Sprint(574400010002345670 + i*101), fmt.Sprint(int64(float64(574400010002345670 + i*101)))})
	}
	c := Judge(Habit{}, pairs)
	assert.Equal(t, Reading{As: Snapshot, Kind: Precision}, c.Read(pairs[3].Snapshot, pairs[3].Seen))
	assert.Equal(t, Unknown, c.Read(pairs[3].Snapshot, "574400010002999999").As, "an edit lost its digits, too")
	assert.Equal(t, Edit, c.Read(pairs[3].Snapshot, "see note").As)
	assert.Equal(t, Held, Judge(Habit{}, pairs[3:4]).Read(pairs[3].Snapshot, pairs[3].Seen).As, "one alone may be an edit")
	for i := range 10 {
		pairs[i].Seen = pairs[i].Snapshot
	}
	c = Judge(Habit{}, pairs)
	assert.Equal(t, Held, c.Read(pairs[13].Snapshot, pairs[13].Seen).As, "where others were kept it may be an edit")
	assert.Equal(t, Edit, c.Read(pairs[13].Snapshot, "574400010002999999").As)
}

// A habit that leaves columns alone which it should have changed is doubted, and so is
// one that is concluded from a column whose values it changes.
func TestDoubtOfColumns(t *testing.T) {
	us, de := habit("en-US", Shown), habit("de-DE", Shown)
	judge := func(h Habit, edit func(string) string, value func(int) string) *Column {
		var pairs []Pair
		for i := range 30 {
			pairs = append(pairs, Pair{value(i), edit(value(i))})
		}
		return Judge(h, pairs)
	}
	worn := func(h Habit) func(string) string { return func(v string) string { v, _ = h.Wear(v); return v } }
	kept := func(v string) string { return v }
	require.Equal(t, Doubtful, judge(de, worn(de), weights).State, "a thousand times as much is never taken for wear")
	assert.Equal(t, "1000", judge(de, worn(de), weights).Times)
	for _, c := range []struct {
		name  string
		cols  []*Column
		texts bool
		alone bool
		want  State
	}{
		{"two columns show it", []*Column{judge(us, worn(us), fees), judge(us, worn(us), ids)}, false, false, Worn},
		{"one shows it, and one should", []*Column{judge(us, worn(us), fees), judge(us, kept, ids)}, false, false, Doubtful},
		{"two show it, and two should", []*Column{judge(us, worn(us), fees), judge(us, worn(us), fees), judge(us, kept, ids), judge(us, kept, ids)}, false, false, Doubtful},
		{"one shows it, and the others were texts", []*Column{judge(us, worn(us), fees), judge(us, kept, ids)}, true, false, Worn},
		{"codes alone show it", []*Column{judge(us, worn(us), ids), nil}, false, false, Doubtful},
		{"fees alone show it", []*Column{judge(us, worn(us), fees), nil}, false, false, Worn},
		{"it is concluded from codes", []*Column{judge(us, worn(us), ids), judge(us, worn(us), fees)}, false, true, Doubtful},
		{"it is concluded from fees, and one was spared", []*Column{judge(us, worn(us), fees), judge(us, worn(us), fees), judge(us, kept, ids)}, false, true, Doubtful},
	} {
		Settle(c.cols, c.texts, func(int) bool { return c.alone })
		assert.Equal(t, c.want, c.cols[0].State, c.name)
	}
	shown := 0
	edits := func(each int) func(string) string {
		return func(v string) string {
			if shown++; shown%each == 0 {
				return "9" + v
			}
			return worn(us)(v)
		}
	}
	assert.Equal(t, Mixed, judge(us, edits(3), ids).State, "where a third is something else, the rest may be edited, too")
	shown = 0
	assert.Equal(t, Worn, judge(us, edits(5), ids).State, "single edits leave a column worn")

	c := judge(us, worn(us), ids)
	Settle([]*Column{c}, false, nil)
	assert.Equal(t, Held, c.Read("00003", "3").As)
	assert.Equal(t, Unknown, c.Read("00003", "733").As, "what was meant depends on what became of the column")
	assert.Equal(t, Reading{As: Edit, Value: "gone"}, c.Read("00003", "gone"))
}
