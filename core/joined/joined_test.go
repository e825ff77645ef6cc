package joined_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/core/joined"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/core/table"
	"paletwin/core/table/csv"
)

const round = `
record_set: round
list: visits
joins:
  visits: {key: [aid_no, due], columns: {aid: aid_no, due: due, crew: crew}}
  aids:   {key: aid_no, columns: {aid: aid_no, name: name, depot: depot, keeper: keeper, deputy: deputy}}
  depots: {key: code, columns: {depot: code, depot phone: phone}}
  keeper: {of: staff, key: no, columns: {keeper: no, keeper name: name}}
  deputy: {of: staff, key: no, columns: {deputy: no, deputy name: name}}
`

// world is the records of the sets, as CSV.
type world map[string]string

// drawWorld draws visits of aids of depots, with their keepers.
func drawWorld(t *rapid.T) world {
	text := rapid.SampledFrom([]string{"a", "b", "", "a, \"b\"", "ä", "0", "00", " x", "two\nlines"})
	w := world{"depots": "code,phone\n", "staff": "no,name\n", "aids": "aid_no,name,depot,keeper,deputy\n", "visits": "aid_no,due,crew\n"}
	cell := func(s string) string { return string(csv.AppendCell(nil, s, ',', false)) }
	depots, staff, aids := rapid.IntRange(1, 4).Draw(t, "depots"), rapid.IntRange(1, 4).Draw(t, "staff"), rapid.IntRange(1, 6).Draw(t, "aids")
	for i := range depots {
		w["depots"] += fmt.Sprintf("D%d,%s\n", i, cell(text.Draw(t, "phone")))
	}
	for i := range staff {
		w["staff"] += fmt.Sprintf("s%d,%s\n", i, cell(text.Draw(t, "name")))
	}
	for i := range aids {
		w["aids"] += fmt.Sprintf("%05d,%s,D%d,s%d,s%d\n", i, cell(text.Draw(t, "name")), rapid.IntRange(0, depots-1).Draw(t, "depot"),
			rapid.IntRange(0, staff-1).Draw(t, "keeper"), rapid.IntRange(0, staff-1).Draw(t, "deputy"))
		for n := range rapid.IntRange(1, 4).Draw(t, "visits") {
			w["visits"] += fmt.Sprintf("%05d,2027-0%d-01,%s\n", i, n+1, cell(text.Draw(t, "crew")))
		}
	}
	return w
}

func image(t require.TestingT, name, text string) *table.Image {
	m, err := csv.OpenWith(name, []byte(text), table.Options{Delimiter: ",", Encoding: "utf-8", HeadingRow: 1})
	require.NoError(t, err)
	return m
}

func (w world) sets(t require.TestingT) map[string]*joined.Set {
	all := map[string]*joined.Set{}
	for name, text := range w {
		all[name] = &joined.Set{Name: name, Snapshot: image(t, name+".csv", text)}
	}
	return all
}

func roundLayout(t require.TestingT) *layout.Joined {
	j, err := layout.ParseJoined("round.yaml", []byte(round))
	require.NoError(t, err)
	return j
}

// records are a table's records by their keys; what is not said stays out.
func records(t require.TestingT, m *table.Image, key int) map[string]string {
	all := map[string]string{}
	require.NoError(t, csv.Each(context.Background(), m, func(r *csv.Line) error {
		var k []string
		for i := range key {
			k = append(k, r.Text(i))
		}
		var fields []string
		for i, h := range m.Heading {
			if v, there := r.Value(i); there {
				fields = append(fields, h+"="+v.String())
			}
		}
		at := strings.Join(k, "/")
		require.NotContains(t, all, at)
		all[at] = strings.Join(fields, ";")
		return nil
	}))
	return all
}

// TestSplitThenJoinIsTheSheet: what is put together comes apart as it was, and together again.
func TestSplitThenJoinIsTheSheet(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, j := drawWorld(t), roundLayout(t)
		sets := w.sets(t)
		sheet, err := joined.Join(context.Background(), j, sets)
		require.NoError(t, err)
		split, err := joined.Of(context.Background(), j, sheet, sets)
		require.NoError(t, err)
		for name, s := range split {
			require.Empty(t, s.Disagreed)
			require.Empty(t, s.Moved)
			require.Empty(t, s.Notes)
			was := records(t, sets[name].Snapshot, len(keyOf(j, name)))
			for k, r := range records(t, s.Image, len(keyOf(j, name))) {
				require.Equal(t, was[k], r, "%s %s", name, k)
			}
			if name == "visits" {
				require.Len(t, records(t, s.Image, 2), len(was))
			}
			sets[name].Snapshot = s.Image
		}
		again, err := joined.Join(context.Background(), j, sets)
		require.NoError(t, err)
		require.Equal(t, string(sheet.Data), string(again.Data))
	})
}

func keyOf(j *layout.Joined, set string) []string {
	i := slices.IndexFunc(j.Parts, func(p layout.Part) bool { return p.Set == set })
	return j.Parts[i].Key
}

// sheetOf are the cells of a sheet, the headings first.
func sheetOf(t require.TestingT, m *table.Image) (rows [][]string) {
	rows = append(rows, slices.Clone(m.Heading))
	require.NoError(t, csv.Each(context.Background(), m, func(r *csv.Line) error {
		row := make([]string, len(m.Heading))
		for i := range row {
			row[i] = r.Text(i)
		}
		rows = append(rows, row)
		return nil
	}))
	return rows
}

func write(rows [][]string) string {
	var out []byte
	for _, row := range rows {
		for i, c := range row {
			if i > 0 {
				out = append(out, ',')
			}
			out = csv.AppendCell(out, c, ',', false)
		}
		out = append(out, '\n')
	}
	return string(out)
}

// TestAParentIsEditedAlike: a parent's value that is edited in all of its rows is one change, however
// many these are; in some of them, it is a disagreement that names the rows.
func TestAParentIsEditedAlike(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, j := drawWorld(t), roundLayout(t)
		sets := w.sets(t)
		sheet, err := joined.Join(context.Background(), j, sets)
		require.NoError(t, err)
		rows := sheetOf(t, sheet)
		depot, phone := slices.Index(rows[0], "depot"), slices.Index(rows[0], "depot phone")
		code := rows[rapid.IntRange(1, len(rows)-1).Draw(t, "row")][depot]
		var its []int
		for i, row := range rows[1:] {
			if row[depot] == code {
				its = append(its, i+1)
			}
		}
		edited := its
		if all := rapid.Bool().Draw(t, "all"); !all {
			edited = slices.DeleteFunc(slices.Clone(its), func(int) bool { return rapid.Bool().Draw(t, "left") })
		}
		for _, i := range edited {
			rows[i][phone] = "changed"
		}
		split, err := joined.Of(context.Background(), j, image(t, "sheet.csv", write(rows)), sets)
		require.NoError(t, err)
		depots := split["depots"]
		got := records(t, depots.Image, 1)[code]
		switch was := records(t, sets["depots"].Snapshot, 1)[code]; {
		case len(edited) == 0:
			require.Equal(t, was, got)
			require.Empty(t, depots.Disagreed)
		case len(edited) == len(its):
			require.Equal(t, "code="+code+";phone=changed", got)
			require.Empty(t, depots.Disagreed)
		default:
			require.Equal(t, "code="+code+";phone=changed", got)
			require.Len(t, depots.Disagreed, 1)
			for _, v := range depots.Disagreed[0].Values {
				if v.Value.String() == "changed" {
					require.Equal(t, len(edited), v.Count)
					require.Equal(t, edited[0]+1, v.Rows[0])
				} else {
					require.True(t, v.Was)
				}
			}
		}
		for name, s := range split {
			if name != "depots" {
				require.Empty(t, s.Disagreed, name)
			}
		}
	})
}

// TestReassigning: in a row that is given another depot, what it has of the old or of the new one is
// no edit, and anything else is held.
func TestReassigning(t *testing.T) {
	const depots, aids, visits = "code,phone\nD1,111\nD2,222\nD3,333\n", "aid_no,name,depot,keeper,deputy\n1,a,D1,s1,s1\n2,b,D2,s1,s1\n", "aid_no,due,crew\n1,x,c\n1,y,c\n2,x,c\n"
	for _, c := range []struct {
		name             string
		rows             []string // depot and phone of the rows
		depots           string   // what comes of it
		moved, disagreed int
		aidDisagrees     bool
	}{
		{"the old phone", []string{"D2,111", "D2,111", "D2,222"}, "D2,222", 0, 0, false},
		{"the new phone", []string{"D2,222", "D2,222", "D2,222"}, "D2,222", 0, 0, false},
		{"another phone", []string{"D2,999", "D2,999", "D2,222"}, "D2,999", 0, 1, false},
		{"a depot that stands on no row else", []string{"D3,111", "D3,333", "D2,222"}, "D2,222;D3,-", 0, 0, false},
		{"another phone of that", []string{"D3,999", "D3,999", "D2,222"}, "D2,222;D3,999", 0, 1, false},
		{"one row too far", []string{"D1,111", "D2,111", "D2,222"}, "D1,111;D2,222", 0, 0, true},
		{"a new depot, filled in", []string{"D1,111", "D9,999", "D2,222"}, "D1,111;D2,222;D9,999", 0, 0, true},
		{"a new depot, not filled in", []string{"D1,111", "D9,111", "D2,222"}, "D1,111;D2,222;D9,111", 0, 1, true},
		{"a depot under a new code", []string{"D9,111", "D9,111", "D2,222"}, "D2,222;D9,111", 1, 0, false},
		{"a depot under a new code, with a new phone", []string{"D9,999", "D9,999", "D2,222"}, "D2,222;D9,999", 1, 0, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := world{"depots": depots, "aids": aids, "visits": visits, "staff": "no,name\ns1,n\n"}
			sheet := "aid,due,crew,name,depot,depot phone,keeper,keeper name,deputy,deputy name\n"
			for i, row := range []string{"1,x,c,a,", "1,y,c,a,", "2,x,c,b,"} {
				sheet += row + c.rows[i] + ",s1,n,s1,n\n"
			}
			split, err := joined.Of(context.Background(), roundLayout(t), image(t, "sheet.csv", sheet), w.sets(t))
			require.NoError(t, err)
			var got []string
			require.NoError(t, csv.Each(context.Background(), split["depots"].Image, func(r *csv.Line) error {
				v, there := r.Value(1)
				if !there {
					v = record.Text("-")
				}
				got = append(got, r.Text(0)+","+v.String())
				return nil
			}))
			slices.Sort(got)
			require.Equal(t, c.depots, strings.Join(got, ";"))
			require.Len(t, split["depots"].Moved, c.moved)
			require.Len(t, split["depots"].Disagreed, c.disagreed)
			require.Equal(t, c.aidDisagrees, len(split["aids"].Disagreed) > 0)
		})
	}
}

// TestLayoutsOfJoinedSheets: what is wrong with one is said with its place.
func TestLayoutsOfJoinedSheets(t *testing.T) {
	for text, want := range map[string]string{
		"joins: {a: {key: x, columns: {h: y}}}":                                              `no column has the key field "x"`,
		"joins: {a: {columns: {h: y}}}":                                                      "the key is not said",
		"joins: {a: {key: x}}":                                                               "its columns are not said",
		"joins: {a: {key: x, columns: {h: x, i: x}}}":                                        "stand in two columns",
		"list: b\njoins: {a: {key: x, columns: {h: x}}}":                                     "none of the joins",
		"joins: {a: {key: x, columns: {h: x, i: y}}, b: {key: y, columns: {i: y, h: z}}}":    "in a circle",
		"list: b\njoins: {a: {key: x, columns: {h: x, i: y}}, b: {key: y, columns: {i: y}}}": "is referred to",
		"joins: {a: {of: s, key: x, columns: {h: x}}, b: {of: s, key: z, columns: {i: z}}}":  "have other keys",
		"joins:\n": "what a row holds",
	} {
		_, err := layout.ParseJoined("j.yaml", []byte(text))
		require.ErrorContains(t, err, want, text)
	}
	_, err := layout.Parse("j.yaml", []byte("joins: {a: {key: x, columns: {h: x}}}"), nil)
	require.ErrorContains(t, err, "joined sheet")
}

// TestARecordUnderANewKeyLosesNothing: what the sheet does not have of a record whose key was changed comes along.
func TestARecordUnderANewKeyLosesNothing(t *testing.T) {
	w := world{"depots": "code,phone,street\nD1,111,Quay 1\nD2,222,\"Quay, 2\"\n", "aids": "aid_no,name,depot,keeper,deputy\n1,a,D2,s1,s1\n",
		"visits": "aid_no,due,crew\n1,x,c\n", "staff": "no,name\ns1,n\n"}
	sheet := "aid,due,crew,name,depot,depot phone,keeper,keeper name,deputy,deputy name\n1,x,c,a,D7,222,s1,n,s1,n\n"
	split, err := joined.Of(context.Background(), roundLayout(t), image(t, "sheet.csv", sheet), w.sets(t))
	require.NoError(t, err)
	ch := &changeset.Change{Act: changeset.Add, Key: record.NewKey("D7"), Record: record.Record{{Name: "code", Value: record.Text("D7")}, {Name: "phone", Value: record.Text("222")}}}
	split["depots"].Complete(ch)
	street, there := ch.Record.Get("street")
	require.True(t, there)
	require.Equal(t, "Quay, 2", street.String())
	require.Equal(t, record.NewKey("D2"), ch.Was)
	whole, _ := split["depots"].Held(ch)
	require.Equal(t, []string{changeset.KeyEdited.Name}, whole)
	_, fields := split["aids"].Held(&changeset.Change{Act: changeset.Amend, Key: record.NewKey("1"), Fields: []changeset.FieldChange{{Edit: changeset.Edit{Field: "depot", From: record.Text("D2"), To: record.Text("D7")}}}})
	require.Equal(t, map[string][]string{"depot": {changeset.KeyEdited.Name}}, fields)
}

// TestKeysThatAProgramChanged: a program took the zeros from the numbers of all aids; they are known all the same.
func TestKeysThatAProgramChanged(t *testing.T) {
	w := world{"depots": "code,phone\nD1,1\nD2,2\n", "staff": "no,name\ns1,n\n", "aids": "aid_no,name,depot,keeper,deputy\n", "visits": "aid_no,due,crew\n"}
	sheet := "aid,due,crew,name,depot,depot phone,keeper,keeper name,deputy,deputy name\n"
	for i := range 60 {
		w["aids"] += fmt.Sprintf("%05d,buoy %d,D1,s1,s1\n", i+1, i)
		w["visits"] += fmt.Sprintf("%05d,2027-03-01,c\n", i+1)
		depot := "D1,1"
		if i == 7 {
			depot = "D2,1" // it was given another depot
		}
		sheet += fmt.Sprintf("%d,2027-03-01,c,buoy %d,%s,s1,n,s1,n\n", i+1, i, depot)
	}
	sets := w.sets(t)
	for _, s := range sets {
		s.Program = compare.Program{Wear: true, Year: 2027}
	}
	split, err := joined.Of(context.Background(), roundLayout(t), image(t, "sheet.csv", sheet), sets)
	require.NoError(t, err)
	for name, s := range split {
		require.Empty(t, s.Added, name)
		require.Empty(t, s.Disagreed, name)
		require.Empty(t, s.Moved, name)
	}
}

// TestAnEditedKeyOfARow: a row of the listed set whose key was edited is the record that it was, and keeps what the
// sheet does not have of it; where two could be it, or nothing is to be deleted, it is a new one.
func TestAnEditedKeyOfARow(t *testing.T) {
	const j = "list: visits\njoins: {visits: {key: [aid_no, due], columns: {aid: aid_no, due: due, crew: crew}}}"
	l, err := layout.ParseJoined("j.yaml", []byte(j))
	require.NoError(t, err)
	for _, c := range []struct {
		name, sheet string
		stay        bool
		moved       int
	}{
		{"one date", "aid,due,crew\n1,a,x\n1,c,y\n2,a,x\n", false, 1},
		{"nothing is deleted", "aid,due,crew\n1,a,x\n1,c,y\n2,a,x\n", true, 0},
		{"with another crew", "aid,due,crew\n1,a,x\n1,c,z\n2,a,x\n", false, 0},
		{"two that could be it", "aid,due,crew\n1,c,x\n1,b,y\n1,d,x\n2,a,x\n", false, 0},
		{"nothing was edited", "aid,due,crew\n1,a,x\n1,b,y\n2,a,x\n", false, 0},
	} {
		sets := map[string]*joined.Set{"visits": {Name: "visits", Snapshot: image(t, "v.csv", "aid_no,due,crew,remark\n1,a,x,one\n1,b,y,two\n2,a,x,three\n"), Stay: c.stay}}
		split, err := joined.Of(context.Background(), l, image(t, "s.csv", c.sheet), sets)
		require.NoError(t, err)
		v := split["visits"]
		require.Len(t, v.Moved, c.moved, c.name)
		if c.moved > 0 {
			ch := &changeset.Change{Act: changeset.Add, Key: record.NewKey("1", "c")}
			v.Complete(ch)
			remark, _ := ch.Record.Get("remark")
			require.Equal(t, "two", remark.String())
		}
	}
}

// TestAKeyGoesAlong: where all rows of an aid stand under a new number, its visits are those of before under that number,
// whatever else was edited in them, and lose nothing.
func TestAKeyGoesAlong(t *testing.T) {
	w := world{"depots": "code,phone\nD1,1\n", "staff": "no,name\ns1,n\n", "aids": "aid_no,name,depot,keeper,deputy\n1,a,D1,s1,s1\n2,b,D1,s1,s1\n",
		"visits": "aid_no,due,crew,remark\n1,x,c,one\n1,y,c,two\n2,x,c,three\n"}
	sheet := "aid,due,crew,name,depot,depot phone,keeper,keeper name,deputy,deputy name\n" +
		"7,x,c,a,D1,1,s1,n,s1,n\n7,y,e,a,D1,1,s1,n,s1,n\n2,x,c,b,D1,1,s1,n,s1,n\n"
	for _, stay := range []bool{false, true} {
		sets := w.sets(t)
		sets["visits"].Stay = stay
		split, err := joined.Of(context.Background(), roundLayout(t), image(t, "sheet.csv", sheet), sets)
		require.NoError(t, err)
		if stay { // nothing of the list is to be deleted
			require.Empty(t, split["visits"].Moved)
			continue
		}
		require.Equal(t, []joined.Move{{From: record.NewKey("1"), To: record.NewKey("7")}}, split["aids"].Moved)
		require.Equal(t, []joined.Move{{From: record.NewKey("1", "x"), To: record.NewKey("7", "x"), Along: true}, {From: record.NewKey("1", "y"), To: record.NewKey("7", "y"), Along: true}}, split["visits"].Moved)
		for due, remark := range map[string]string{"x": "one", "y": "two"} {
			ch := &changeset.Change{Act: changeset.Add, Key: record.NewKey("7", due)}
			split["visits"].Complete(ch)
			got, _ := ch.Record.Get("remark")
			require.Equal(t, remark, got.String())
			require.NotEmpty(t, split["visits"].Link(ch))
		}
	}
}
