package compare

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/slip"
	"paletwin/core/table/csv"
)

// anyLines draws lines of a table of three columns with all that stands in the way of who cuts files at line ends: line ends inside of quotes,
// quotes inside of cells, blank lines and rows, rows that are short, long or without a key, keys that repeat.
func anyLines(t *rapid.T, call string) []string {
	cell := rapid.SampledFrom([]string{"a", "", "x y", `"q"`, `"two
lines"`, "\"\r\n\n\"", `"a ""quoted"" word"`, `in"ches`, `"a,b"`, "é", "1.50"})
	n := 0
	row := rapid.Custom(func(t *rapid.T) string {
		key := fmt.Sprint(n)
		if n++; rapid.IntRange(0, 19).Draw(t, "odd key") == 0 {
			key = rapid.SampledFrom([]string{"", "0", `"7"`}).Draw(t, "key")
		}
		cells := []string{key, cell.Draw(t, "b"), cell.Draw(t, "c")}
		switch rapid.IntRange(0, 29).Draw(t, "shape") {
		case 0:
			cells = cells[:2]
		case 1:
			cells = append(cells, cell.Draw(t, "d"))
		case 2:
			return ""
		case 3:
			return ",,"
		}
		return strings.Join(cells, ",")
	})
	return rapid.SliceOfN(row, 0, 40).Draw(t, call)
}

// file joins lines in a way that is drawn.
func file(t *rapid.T, lines []string) []byte {
	end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "line end")
	text := "k,v,w" + end + strings.Join(lines, end)
	if rapid.Bool().Draw(t, "ends") {
		text += end
	}
	return []byte(text)
}

// known is all that a scan found, in a form that can be compared.
func known(s *side) string {
	var starts []int64
	for i := range s.start.len() {
		starts = append(starts, s.start.at(uint32(i)))
	}
	var sample []string
	if s.lowest != nil {
		for key, at := range s.lowest.All() {
			sample = append(sample, fmt.Sprint(key, at))
		}
	}
	return fmt.Sprint(starts, s.gaps, s.ends, s.blank, s.bare, s.noKey, s.short, s.long, s.row, s.wider, sample)
}

func sideOf(t require.TestingT, data []byte) *side {
	m, err := csv.Open("t.csv", data)
	require.NoError(t, err)
	s := newSide(m, []int{0})
	s.lowest = new(slip.BottomK)
	return s
}

// A table that is scanned in parts, all at once, is found to be what it is when it is scanned from its start to its end, whatever the
// places are at which it is cut; and so is what is wrong with it.
func TestPartsAreScannedAsTheWhole(t *testing.T) {
	defer func(size int) { partSize = size }(partSize)
	rapid.Check(t, func(t *rapid.T) {
		data := file(t, anyLines(t, "lines"))
		whole, parts := sideOf(t, data), sideOf(t, data)
		if at := whole.img.Body; at < len(data) && rapid.IntRange(0, 9).Draw(t, "wrong") == 0 { // behind what Open looks at
			at = rapid.IntRange(at, len(data)).Draw(t, "at")
			data = slices.Insert(slices.Clone(data), at, []byte(rapid.SampledFrom([]string{`"`, "\xff", "\x00", `,"x"y`}).Draw(t, "what"))...)
			whole.img.Data, parts.img.Data = data, data
		}
		partSize = len(data) + 1
		want := whole.scan(context.Background(), 1)
		partSize = rapid.IntRange(1, 64).Draw(t, "size")
		got := parts.scan(context.Background(), rapid.IntRange(2, 9).Draw(t, "cores"))
		require.Equal(t, want, got)
		if want == nil {
			require.Equal(t, known(whole), known(parts))
			require.Equal(t, whole.unsorted, parts.unsorted)
		}
	})
}

// Keys that ascend within each part, and not from the one to the next, may repeat.
func TestKeysOfPartsAscendFromOneToTheNext(t *testing.T) {
	defer func(size int) { partSize = size }(partSize)
	partSize = 16
	rows := "1,a,b\n2,a,b\n3,a,b\n4,a,b\n5,a,b\n"
	for more, unsorted := range map[string]bool{"2,a,b\n3,a,b\n4,a,b\n": true, "5,a,b\n6,a,b\n7,a,b\n": true, "6,a,b\n7,a,b\n8,a,b\n": false} {
		s := sideOf(t, []byte("k,v,w\n"+rows+more))
		require.Equal(t, []int{s.img.Body + len(rows)}, s.cuts(s.img.Body, 2), "it is cut behind the first five")
		require.NoError(t, s.scan(context.Background(), 2))
		require.Equal(t, unsorted, s.unsorted)
	}
}

// A copy that is scanned beside the snapshot is found to be what it is when it is scanned by itself, and what is said to be equal is.
func TestACopyIsScannedBesideTheSnapshotAsByItself(t *testing.T) {
	followed := 0
	rapid.Check(t, func(t *rapid.T) {
		cells := []string{"a", "", "x y", `"q"`, "\"two\nlines\"", `"a,b"`, "é", "1.50"}
		if rapid.IntRange(0, 9).Draw(t, "bare quotes") == 0 {
			cells = append(cells, `in"ches`)
		}
		cell := rapid.SampledFrom(cells)
		lines := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) string { return cell.Draw(t, "v") + "," + cell.Draw(t, "w") }), 1, 60).Draw(t, "lines")
		for i := range lines {
			lines[i] = fmt.Sprintf("%04d,%s", i, lines[i])
		}
		if rapid.IntRange(0, 4).Draw(t, "blank rows") == 0 {
			lines = slices.Insert(lines, rapid.IntRange(0, len(lines)).Draw(t, "place"), "", ",,")
		}
		edited := slices.Clone(lines)
		for range rapid.IntRange(0, 8).Draw(t, "edits") {
			at := rapid.IntRange(0, len(edited)).Draw(t, "at")
			run := min(rapid.SampledFrom([]int{1, 1, 2, 12}).Draw(t, "run"), len(edited)-at)
			switch rapid.IntRange(0, 3).Draw(t, "edit") {
			case 0:
				edited = slices.Delete(edited, at, at+run)
			case 1:
				for k := range run {
					edited[at+k] += rapid.SampledFrom([]string{"x", "", ",", "\n,,", "\n"}).Draw(t, "more")
				}
			case 2:
				edited = slices.Insert(edited, at, anyLines(t, "inserted")...)
			default:
				edited = slices.Insert(edited, at, slices.Clone(edited[at:at+run])...)
			}
		}
		snap, beside := sideOf(t, file(t, lines)), sideOf(t, file(t, edited))
		alone := sideOf(t, beside.img.Data)
		beside.lowest, alone.lowest = nil, nil
		require.NoError(t, snap.scan(context.Background(), 1))
		if snap.refuse("") != nil {
			return
		}
		tb := &tables{snap: snap, copy: beside, o: Options{Room: Room{Cores: 2}}}
		if !tb.mayFollow() {
			return
		}
		if at := beside.img.Body; at < len(beside.img.Data) && rapid.IntRange(0, 9).Draw(t, "wrong") == 0 { // behind what Open looks at
			at = rapid.IntRange(at, len(beside.img.Data)).Draw(t, "at")
			data := slices.Insert(slices.Clone(beside.img.Data), at, []byte(rapid.SampledFrom([]string{`"`, "\xff", "\x00", `,"x"y`}).Draw(t, "what"))...)
			beside.img.Data, alone.img.Data = data, data
		}
		want := alone.scan(context.Background(), 1)
		got := tb.follow(context.Background())
		require.Equal(t, want, got)
		if want != nil {
			return
		}
		require.Equal(t, known(alone), known(beside))
		for _, s := range tb.stretches {
			followed += int(s.n)
			for k := range s.n {
				require.Equal(t, string(snap.raw(s.i+k)), string(beside.raw(s.j+k)))
			}
		}
	})
	require.NotZero(t, followed)
}

// A record that stands on two rows of the copy is on neither, however many of those around it are as they were.
func TestRepeatsAmongEqualRows(t *testing.T) {
	text := "k,v\n"
	for i := range 200 {
		text += fmt.Sprintf("%03d,%d\n", i, i)
	}
	s, err := csv.Open("s.csv", []byte(text))
	require.NoError(t, err)
	e, err := csv.Open("e.csv", []byte(text+"070,70\n"))
	require.NoError(t, err)
	res, err := Run(context.Background(), s, e, Options{RecordSet: "t", Key: []string{"k"}}, nil)
	require.NoError(t, err)
	require.Equal(t, [3]int{199, 2, 1}, [3]int{res.Records.Unchanged, res.Records.Stopped, res.Records.StoppedRecords})
}

// The headings of a copy that is scanned beside the snapshot are text, or it is told where they are none.
func TestHeadingsBesideTheSnapshotAreText(t *testing.T) {
	text := "k,v,w\n1,a,b\n2,a,b\n"
	snap, beside := sideOf(t, []byte(text)), sideOf(t, []byte(text))
	beside.lowest = nil
	require.NoError(t, snap.scan(context.Background(), 1))
	beside.img.Data = []byte("k,\xff,w\n1,a,b\n2,a,b\n") // behind what Open looks at
	tb := &tables{snap: snap, copy: beside, o: Options{Room: Room{Cores: 2}}}
	require.ErrorContains(t, tb.follow(context.Background()), "the byte FF is not UTF-8")
}

// Bytes that are equal mean another thing where quotes opened earlier, where the delimiter is another, where other line ends stand, and where the
// one file ends before the other does.
func TestEqualBytesWithAnotherMeaning(t *testing.T) {
	rows := "1,a,b\n2,c,d\n3,e,f\n4,g,h\n"
	for name, c := range map[string]struct {
		snapshot, edited string
		amends, adds     int
		missing          int
	}{
		"a quote that opens earlier":     {"k,v,w\n" + rows, "k,v,w\n1,a,\"b\n2,c,d\n3,e,f\"\n4,g,h\n", 1, 0, 2},
		"a quote that opens in the last": {"k,v,w\n" + rows, "k,v,w\n1,a,b\n2,c,d\n3,e,f\n4,g,\"h\n\"\n", 1, 0, 0},
		"another delimiter":              {"k,v,w\n" + rows, "k;v;w\n1;a;b\n2;c;d\n3;e;f\n4;g;h\n", 0, 0, 0},
		"other line ends":                {"k,v,w\n" + rows, strings.ReplaceAll("k,v,w\n"+rows, "\n", "\r\n"), 0, 0, 0},
		"a mark":                         {"k,v,w\n" + rows, "\ufeffk,v,w\n" + rows, 0, 0, 0},
		"no end of the last line":        {"k,v,w\n" + rows, "k,v,w\n1,a,b\n2,c,d\n3,e,f\n4,g,h", 0, 0, 0},
		"the last line goes on":          {"k,v,w\n1,a,b\n2,c,d", "k,v,w\n1,a,b\n2,c,d and more\n3,e,f\n", 1, 1, 0},
		"the last line begins another":   {"k,v,w\n1,a,b\n2,c,d", "k,v,w\n1,a,b\n2,c,d\n", 0, 0, 0},
		"an earlier heading":             {"k,v,w\n" + rows, "k,w,v\n" + rows, 4, 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := csv.Open("s.csv", []byte(c.snapshot))
			require.NoError(t, err)
			e, err := csv.Open("e.csv", []byte(c.edited))
			require.NoError(t, err)
			res, err := Run(context.Background(), s, e, Options{RecordSet: "t", Key: []string{"k"}, Proposals: Proposals{Missing: Ignore}}, nil)
			require.NoError(t, err)
			require.Equal(t, [3]int{c.amends, c.adds, c.missing}, [3]int{res.Changes.Amend, res.Changes.Add, res.Records.Kept})
		})
	}
}
