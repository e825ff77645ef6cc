package changeset

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"paletwin/core/forms"
	"paletwin/core/record"
)

var fields = []string{"aid_no", "name", "depot", "range_nm"}

func drawValue(t *rapid.T) record.Value {
	if rapid.IntRange(0, 9).Draw(t, "null") == 0 {
		return record.Null()
	}
	return record.Text(rapid.String().Draw(t, "text"))
}

func drawCodes(t *rapid.T) []string {
	if rapid.Bool().Draw(t, "held") {
		return nil
	}
	return rapid.SliceOfN(rapid.SampledFrom([]string{"missing", "blank", "conflict"}), 1, 2).Draw(t, "codes")
}

func drawChange(t *rapid.T) *Change {
	c := &Change{Act: rapid.SampledFrom([]Act{Amend, Add, Delete}).Draw(t, "act"),
		Key:  record.NewKey(rapid.SliceOfN(rapid.String(), 1, 3).Draw(t, "key")...),
		Held: drawCodes(t), Linked: rapid.SampledFrom([]string{"", "key 1"}).Draw(t, "linked")}
	c.ID = MakeID("aids", c.Key, c.Act)
	for _, f := range fields {
		if rapid.Bool().Draw(t, "has") {
			continue
		}
		if c.Act == Amend {
			c.Fields = append(c.Fields, FieldChange{Edit: Edit{Field: f, From: drawValue(t), To: drawValue(t)}, Held: drawCodes(t)})
		} else {
			c.Record = append(c.Record, record.Field{Name: f, Value: drawValue(t)})
		}
	}
	return c
}

func TestLineReadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawChange(t)
		b := AppendLine(nil, c)
		require.True(t, json.Valid(b))
		require.Equal(t, 1, bytes.Count(b, []byte("\n")))
		line := Line(bytes.TrimSuffix(b, []byte("\n")))
		assert.Equal(t, c.ID, line.ID())
		assert.Equal(t, c.Act, line.Act())
		got, err := line.Change(fields)
		require.NoError(t, err)
		assert.Equal(t, c, got)
	})
}

// What undoes what undoes a change is the change.
func TestInvertTwiceIsTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawChange(t)
		assert.Equal(t, c.Act, c.Act.Inverse().Inverse())
		assert.Equal(t, c.Act == Amend, c.Act.Inverse() == Amend)
		for i := range c.Fields {
			f := &c.Fields[i].Edit
			back := f.Inverse()
			assert.Equal(t, []record.Value{f.To, f.From}, []record.Value{back.From, back.To})
			assert.Equal(t, *f, back.Inverse())
		}
	})
}

func written(t require.TestingT, changes ...*Change) []byte {
	var b bytes.Buffer
	w, err := NewWriter(&b, Header{RecordSet: "aids", Key: []string{"aid_no"}, Fields: fields})
	require.NoError(t, err)
	for _, c := range changes {
		require.NoError(t, w.Write(c))
	}
	_, err = w.Close()
	require.NoError(t, err)
	return b.Bytes()
}

func amend(key, field, from, to string, held ...string) *Change {
	k := record.NewKey(key)
	return &Change{ID: MakeID("aids", k, Amend), Act: Amend, Key: k,
		Fields: []FieldChange{{Edit: Edit{Field: field, From: record.Text(from), To: record.Text(to)}, Held: held}}}
}

// Whatever single byte is changed, and wherever it is cut, the seal tells.
func TestSealTellsEveryAlteration(t *testing.T) {
	good := written(t, amend("00417", "range_nm", "8.0", "9.0"), amend("00102", "depot", "D03", "D07"))
	r, err := Parse(good)
	require.NoError(t, err)
	assert.Equal(t, 2, r.Seal.Amend)
	for i := range good {
		bad := bytes.Clone(good)
		bad[i] ^= 1
		if _, err := Parse(bad); err == nil {
			// A count beside the seal, or a digit of the seal in the other
			// case, is all that may pass; the seal itself is the same.
			assert.Greater(t, i, bytes.LastIndex(good, []byte(`"amend"`))-1, "byte %d", i)
		}
		_, err := Parse(good[:i])
		assert.Error(t, err, "cut at %d", i)
	}
}

func TestWriterRefusesTwoEqualIDs(t *testing.T) {
	w, err := NewWriter(&bytes.Buffer{}, Header{})
	require.NoError(t, err)
	require.NoError(t, w.Write(amend("1", "name", "a", "b")))
	require.NoError(t, w.Write(amend("1", "name", "a", "c")))
	_, err = w.Close()
	assert.ErrorContains(t, err, "two changes have the id")
}

func TestNewerVersionsAreSaid(t *testing.T) {
	_, err := Parse([]byte(`{"paletwin":"change-set","version":3}` + "\n"))
	assert.ErrorAs(t, err, new(*forms.NewerError))
	_, err = Parse([]byte("aid_no,name\n"))
	assert.ErrorIs(t, err, ErrNot)
}

func FuzzParse(f *testing.F) {
	f.Add(written(f, amend("00417", "range_nm", "8.0", "9.0")))
	f.Add([]byte(`{"paletwin":"change-set","version":1}` + "\n" + `{"seal":""}` + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, _, err := open(data)
		if err != nil {
			return
		}
		for l := range r.Lines() {
			l.ID()
			l.Act()
			if _, err := l.Change(r.Header.Fields); err != nil {
				return
			}
		}
	})
}

// decide is one decision in a table test.
type decide struct {
	d      Decision
	field  string // "" for the whole change
	held   bool
	person bool // the field was named
	stale  bool // on other content
}

func TestDecisions(t *testing.T) {
	c := amend("00417", "range_nm", "8.0", "9.0")
	c.Fields = append(c.Fields, FieldChange{Edit: Edit{Field: "depot", From: record.Text("D03"), To: record.Text("")}, Held: []string{"blank"}})
	line := Line(bytes.TrimSuffix(AppendLine(nil, c), []byte("\n")))
	for _, tt := range []struct {
		name     string
		acts     []decide
		range_nm Decision
		depot    Decision
		by       string // of depot
	}{
		{"nothing", nil, Open, Hold, Tool},
		{"the whole change leaves the tool's hold", []decide{{d: Approve}}, Approve, Hold, Tool},
		{"with held it does not", []decide{{d: Approve, held: true}}, Approve, Approve, "åsa"},
		{"the held field by name", []decide{{d: Approve, field: "depot", person: true}}, Open, Approve, "åsa"},
		{"a later one counts", []decide{{d: Approve}, {d: Reject}}, Reject, Hold, Tool},
		{"a named field outlives the whole change", []decide{{d: Reject, field: "range_nm", person: true}, {d: Approve, held: true}}, Reject, Approve, "åsa"},
		{"a group's field does not", []decide{{d: Reject, field: "range_nm"}, {d: Approve, held: true}}, Approve, Approve, "åsa"},
		{"once a person decided a held field, the whole change reaches it", []decide{{d: Approve, held: true}, {d: Reject}}, Reject, Reject, "åsa"},
		{"on other content it lapses", []decide{{d: Approve, stale: true}}, Open, Hold, Tool},
		{"and what is decided after counts", []decide{{d: Approve, stale: true}, {d: Reject, held: true}}, Reject, Reject, "åsa"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			s := states(t, line, c, tt.acts)
			assert.Equal(t, []Decision{tt.range_nm, tt.depot}, []Decision{s[0].Decision, s[1].Decision})
			assert.Equal(t, tt.by, s[1].By)
		})
	}
	lapsed := states(t, line, c, []decide{{d: Approve, stale: true}})
	assert.Equal(t, Approve, lapsed[0].Lapsed)
}

func states(t *testing.T, line Line, c *Change, acts []decide) []State {
	var file []byte
	last := ""
	for _, d := range acts {
		a := DecisionAct{RecordSet: "aids", Decision: d.d, By: "åsa", When: time.Unix(1e9, 0), ByField: d.person, Held: d.held}
		p := Pair{ID: c.ID, Field: d.field, Digest: DigestOf(line)}
		if d.field != "" {
			p.Digest = FieldDigest(c, c.Field(d.field))
		}
		if d.stale {
			p.Digest[0] ^= 1
		}
		a.On = []Pair{p}
		l := a.AppendLine(nil, last)
		file = append(file, l...)
		last = Checksum(bytes.TrimSuffix(l, []byte("\n")))
	}
	l, err := OpenLedger(append(file, `{"torn`...), "aids", "")
	require.NoError(t, err)
	assert.Equal(t, len(file), l.Size(), "a torn last line is passed over")
	return l.States(line, c)
}

func TestAStopCannotBeApproved(t *testing.T) {
	c := amend("00417", "range_nm", "8.0", "9.0")
	c.Stop = []string{"listed-amended"}
	line := Line(bytes.TrimSuffix(AppendLine(nil, c), []byte("\n")))
	assert.Equal(t, Hold, states(t, line, c, []decide{{d: Approve, held: true}})[0].Decision)
	assert.Equal(t, Reject, states(t, line, c, []decide{{d: Reject, held: true}})[0].Decision)
}

func TestLedgerTellsAlterations(t *testing.T) {
	a := DecisionAct{RecordSet: "aids", Decision: Reject, By: "petr", On: []Pair{{}}}
	one := a.AppendLine(nil, "")
	two := a.AppendLine(nil, Checksum(bytes.TrimSuffix(one, []byte("\n"))))
	_, err := OpenLedger(append(bytes.Clone(one), two...), "aids", "")
	require.NoError(t, err)
	_, err = OpenLedger(append(bytes.Replace(one, []byte("reject"), []byte("approve"), 1), two...), "aids", "")
	assert.ErrorIs(t, err, ErrChain)
	_, err = OpenLedger(two, "aids", "")
	assert.ErrorIs(t, err, ErrChain, "the first line was taken out")
}

func TestRulingTouchesWhatIsOpen(t *testing.T) {
	c := amend("00417", "range_nm", "8.0", "9.0", "blank")
	c.Fields = append(c.Fields, FieldChange{Edit: Edit{Field: "depot", From: record.Text("D03"), To: record.Text("D07")}})
	line := Line(bytes.TrimSuffix(AppendLine(nil, c), []byte("\n")))
	l, err := OpenLedger(nil, "aids", "")
	require.NoError(t, err)
	for _, tt := range []struct {
		name   string
		ruling Ruling
		units  int
		passed int
	}{
		{"a group passes the tool's holds over", Ruling{Decision: Approve}, 1, 1},
		{"unless asked", Ruling{Decision: Approve, Held: true}, 2, 0},
		{"a finding's code reaches what it holds", Ruling{Decision: Reject, Filter: Filter{Findings: []string{"blank"}}}, 1, 0},
		{"naming an id does not", Ruling{Decision: Approve, Named: true}, 1, 1},
		{"naming the field does", Ruling{Decision: Approve, Named: true, Filter: Filter{Fields: []string{"range_nm"}}}, 1, 0},
		{"another act", Ruling{Decision: Approve, Filter: Filter{Acts: []Act{Delete}}}, 0, 0},
	} {
		t.Run(tt.name, func(t *testing.T) {
			var n Touched
			pairs := tt.ruling.Pairs(nil, &n, line, c, l.States(line, c))
			assert.Equal(t, tt.units, n.Units)
			assert.Equal(t, tt.passed, n.Passed)
			if tt.units == 2 {
				assert.Len(t, pairs, 1, "all of a change is one pair")
			}
		})
	}
}

func TestIDsDependOnSetKeyAndAct(t *testing.T) {
	k := record.NewKey("a", "b")
	seen := map[ID]bool{MakeID("aids", k, Amend): true}
	for _, id := range []ID{MakeID("aids", record.NewKey("ab"), Amend), MakeID("aids", k, Delete), MakeID("aid", k, Amend), MakeID("aids", record.NewKey("b", "a"), Amend)} {
		assert.False(t, seen[id])
		seen[id] = true
		back, err := ParseID(id.String())
		require.NoError(t, err)
		assert.Equal(t, id, back)
	}
}

func FuzzLedger(f *testing.F) {
	a := DecisionAct{RecordSet: "aids", Decision: Approve, By: "noor", On: []Pair{{Field: "depot"}, {}},
		Seen: map[ID]record.Record{{}: {{Name: "depot", Value: record.Text("D01")}}}}
	f.Add(a.AppendLine(nil, ""))
	f.Add([]byte(`{"paletwin":"decision","version":1,"on":[["00"],[]],"previous":""}` + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		l, err := OpenLedger(data, "aids", "")
		if err != nil {
			return
		}
		assert.LessOrEqual(t, l.Size(), len(data))
		for _, act := range l.Acts() {
			for _, p := range act.On {
				assert.True(t, l.Has(p.ID))
			}
		}
	})
}

// What a ledger writes it reads, field names with quotes and brackets too.
func TestActsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := DecisionAct{RecordSet: "aids", Decision: Hold, By: rapid.String().Draw(t, "by"), When: time.Unix(1e9, 0).UTC(), Note: rapid.String().Draw(t, "note")}
		for range rapid.IntRange(1, 5).Draw(t, "pairs") {
			p := Pair{Field: rapid.SampledFrom([]string{"", "depot", `a"],["b`, "é,]"}).Draw(t, "field")}
			copy(p.ID[:], rapid.SliceOfN(rapid.Byte(), 8, 8).Draw(t, "id"))
			copy(p.Digest[:], rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "digest"))
			a.On = append(a.On, p)
		}
		l, err := OpenLedger(a.AppendLine(nil, ""), "aids", "")
		require.NoError(t, err)
		assert.Equal(t, []DecisionAct{a}, l.Acts())
	})
}
