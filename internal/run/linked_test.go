package run

import (
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// linkedDossier is one with a key change, an add and a delete that belong
// together, and an amend that stands alone.
func linkedDossier(t *testing.T) (*bench, *desk.Dossier) {
	register := []byte("k,v\n1,a\n2,b\n3,c\n")
	b := newBench(t, t.TempDir(), disk.OS{}, register)
	base := b.compare(register, []byte("k,v\n1,A\n2,b\n3,c\n"))
	rec := func(k, v string) record.Record {
		return record.Record{{Name: "k", Value: record.Text(k)}, {Name: "v", Value: record.Text(v)}}
	}
	change := func(act changeset.Act, k string) *changeset.Change {
		key := record.NewKey(k)
		return &changeset.Change{ID: changeset.MakeID("aids", key, act), Act: act, Key: key}
	}
	amend, del, add := change(changeset.Amend, "1"), change(changeset.Delete, "2"), change(changeset.Add, "9")
	amend.Fields = []changeset.FieldChange{{Edit: changeset.Edit{Field: "v", From: record.Text("a"), To: record.Text("A")}}}
	del.Record, add.Record = rec("2", "b"), rec("9", "b")
	for _, c := range []*changeset.Change{del, add} {
		c.Linked, c.Held = "key 2 → 9", []string{"missing"}
	}
	f := b.target()
	defer f.Close()
	d, err := writeDossier(ctx(), base, f, newDossier{title: "linked", changes: slices.Values([]*changeset.Change{amend, del, add}), by: "petr", now: clock()})
	require.NoError(t, err)
	return b, d
}

func TestLinkedChangesAreDecidedTogether(t *testing.T) {
	_, d := linkedDossier(t)
	del := changeset.MakeID("aids", record.NewKey("2"), changeset.Delete)
	n, err := d.Decide(&desk.Order{Decision: changeset.Approve, Names: []string{del.String()}, By: "petr", When: clock()})
	require.NoError(t, err)
	assert.Equal(t, 2, n.Changes, "the add goes with the delete")
	_, err = d.Decide(&desk.Order{Decision: changeset.Reject, Filter: changeset.Filter{Acts: []changeset.Act{changeset.Add}}, Held: true, By: "petr", When: clock()})
	require.NoError(t, err)
	c, err := d.Changes()
	require.NoError(t, err)
	defer c.Close()
	p, err := MakePlan(d, c, At{}, Options{})
	require.NoError(t, err)
	assert.Len(t, p.Steps, 2, "a group leaves alone what a person decided, so both stay approved")
}

func TestLinkedChangesAreWrittenTogetherOrNotAtAll(t *testing.T) {
	b, d := linkedDossier(t)
	b.approve(d)
	require.NoError(t, os.WriteFile(b.register, []byte("k,v\n1,a\n2,theirs\n3,c\n"), 0o644))
	rep, err := b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 1, Conflict: 2}, rep.Steps)
	assert.Equal(t, "k,v\n1,A\n2,theirs\n3,c\n", b.bytes())

	b, d = linkedDossier(t)
	b.approve(d)
	rep, err = b.apply(d, Options{First: 2, Batch: 1})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 3}, rep.Steps, "neither a trial nor a batch cuts a link")
	assert.Equal(t, "k,v\n1,A\n3,c\n9,b\n", b.bytes())
}

func TestLinkedChangesWaitForEachOther(t *testing.T) {
	b, d := linkedDossier(t)
	b.approve(d)
	add := changeset.MakeID("aids", record.NewKey("9"), changeset.Add)
	// A decisions file in which only one of the two is approved, as another
	// program could write it.
	c, err := d.Changes()
	require.NoError(t, err)
	defer c.Close()
	for line := range c.Lines() {
		if line.ID() == add {
			a := changeset.DecisionAct{RecordSet: "aids", Decision: changeset.Reject, By: "petr", On: []changeset.Pair{{ID: add, Digest: changeset.DigestOf(line)}}}
			require.NoError(t, disk.Append(disk.OS{}, d.Path("decisions.jsonl"), int64(c.Ledger.Size()), a.AppendLine(nil, c.Ledger.Last())))
		}
	}
	rep, err := b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 1}, rep.Steps)
	assert.Equal(t, "k,v\n1,A\n2,b\n3,c\n", b.bytes())
	assert.Equal(t, 1, rep.Left.Held)
}

// A value that is given takes the place of one that is stopped, so it does not
// bar what it is linked with, whichever is decided first; what is stopped and
// got none is never taken along.
func TestAValueThatIsGivenFreesItsGroup(t *testing.T) {
	register := []byte("k,v,w\n1,a,x\n2,b,y\n")
	b := newBench(t, t.TempDir(), disk.OS{}, register)
	base := b.compare(register, []byte("k,v,w\n1,A,x\n2,b,y\n"))
	text := func(field, from, to, within string, stop ...string) changeset.FieldChange {
		return changeset.FieldChange{Edit: changeset.Edit{Field: field, From: record.Text(from), To: record.Text(to), Linked: within}, Stop: stop}
	}
	amend := func(k, link string, fields ...changeset.FieldChange) *changeset.Change {
		key := record.NewKey(k)
		return &changeset.Change{ID: changeset.MakeID("aids", key, changeset.Amend), Act: changeset.Amend, Key: key, Linked: link, Fields: fields}
	}
	for name, changes := range map[string][]*changeset.Change{
		"within a record": {amend("1", "", text("v", "a", "A", "moved", "value-kind"), text("w", "x", "X", "moved"))},
		"stopped twice":   {amend("1", "", text("v", "a", "A", "moved", "value-kind"), text("w", "x", "X", "moved", "value-kind"))},
		"across records":  {amend("1", "shifted", text("v", "a", "A", "", "value-kind")), amend("2", "shifted", text("w", "y", "Y", ""))},
	} {
		t.Run(name, func(t *testing.T) {
			f := b.target()
			d, err := writeDossier(ctx(), base, f, newDossier{title: name, changes: slices.Values(changes), by: "petr", now: clock()})
			require.NoError(t, f.Close())
			require.NoError(t, err)
			fieldsOf := func() (all, given int) {
				c, err := d.Changes()
				require.NoError(t, err)
				defer c.Close()
				p, err := MakePlan(d, c, At{}, Options{})
				require.NoError(t, err)
				for _, s := range p.Steps {
					for x := range s.Fields.All() {
						if all++; x.To.String() == "given" {
							given++
						}
					}
				}
				return all, given
			}
			decide := func(o desk.Order) changeset.Touched {
				o.By, o.When = "petr", clock()
				n, err := d.Decide(&o)
				require.NoError(t, err)
				return n
			}
			given := "given"
			assert.Zero(t, decide(desk.Order{Decision: changeset.Approve, Held: true}).Units, "the stopped one bars all")
			stops := 0
			for _, ch := range changes {
				for _, x := range ch.Fields {
					if len(x.Stop) > 0 {
						n := decide(desk.Order{Decision: changeset.Approve, Names: []string{ch.ID.String() + "/" + x.Field}, As: &given})
						for _, along := range n.Along {
							assert.NotEqual(t, "stopped twice", name, "%s is stopped, and is not taken along", along.Field)
						}
						assert.Positive(t, n.Units, x.Field)
						if stops++; name == "stopped twice" && stops == 1 {
							waits, _ := fieldsOf()
							assert.Zero(t, waits, "the group waits for the other's value")
						}
					}
				}
			}
			all, as := fieldsOf()
			assert.Equal(t, []int{2, stops}, []int{all, as}, "both are approved")
			for _, ch := range changes {
				for _, x := range ch.Fields {
					if stops == 1 && len(x.Stop) == 0 {
						again := desk.Order{Decision: changeset.Approve, Names: []string{ch.ID.String() + "/" + x.Field}}
						assert.Zero(t, decide(again).Stopped, "the given value bars nothing")
						all, _ = fieldsOf()
						assert.Equal(t, 2, all)
					}
				}
			}
		})
	}
}

// What undoes a linked change is held with the others of its group, be it that
// one moved since, or one of its fields.
func TestWhatUndoesAGroupIsHeldTogether(t *testing.T) {
	field := func(name, link string, held ...string) changeset.FieldChange {
		return changeset.FieldChange{Edit: changeset.Edit{Field: name, Linked: link}, Held: held}
	}
	within := &changeset.Change{Act: changeset.Amend, Fields: []changeset.FieldChange{field("v", "moved", "conflict-then"), field("w", "moved"), field("x", "other"), field("y", "")}}
	add := &changeset.Change{Act: changeset.Add, Linked: "key 1 → 2", Held: []string{"conflict-then"}}
	del := &changeset.Change{Act: changeset.Delete, Linked: "key 1 → 2"}
	amend := &changeset.Change{Act: changeset.Amend, Linked: "shifted", Fields: []changeset.FieldChange{field("v", "", "conflict-then")}}
	with := &changeset.Change{Act: changeset.Amend, Linked: "shifted", Fields: []changeset.FieldChange{field("v", "")}}
	alone := &changeset.Change{Act: changeset.Delete}
	all := []*changeset.Change{with, within, del, add, amend, alone}
	x := &inverse{held: map[int]holds{}, links: map[string][]string{}}
	for i, c := range all {
		x.hold(i, c)
	}
	for i, c := range all {
		c.Held = nil
		for k := range c.Fields {
			c.Fields[k].Held = nil
		}
		x.holdAgain(i, c)
	}
	held := []string{"conflict-then"}
	assert.Equal(t, [][]string{held, held, nil, nil}, [][]string{within.Fields[0].Held, within.Fields[1].Held, within.Fields[2].Held, within.Fields[3].Held})
	assert.Equal(t, [][]string{held, held, held, held, nil, nil}, [][]string{del.Held, add.Held, with.Held, amend.Held, alone.Held, within.Held})
}

// What is linked is not torn by a record that the target has in another form.
func TestLinksHoldWhateverFormAValueHas(t *testing.T) {
	b, d := laid(t, "k,name,inc\n1,a,1.00\n2,b,2.00\n3,c,3.00\n", "k,name,inc\n1,a,1.00\n9,b,2.00\n3,c,3.50\n")
	c, err := d.Changes()
	require.NoError(t, err)
	defer c.Close()
	del := changeset.MakeID("aids", record.NewKey("2"), changeset.Delete)
	add := changeset.MakeID("aids", record.NewKey("9"), changeset.Add)
	f := b.target()
	linked, err := writeDossier(ctx(), d, f, newDossier{title: "linked", changes: slices.Values(linkedWith(t, c, "2 → 9", del, add)), undoes: &desk.Undoes{Dossier: d.Meta.Number}, by: "petr", now: clock()})
	require.NoError(t, err)
	require.NoError(t, f.Close())
	b.approve(linked)
	require.NoError(t, os.WriteFile(b.register, []byte("k,name,inc\n1,a,1.00\n2,b,2\n3,c,3.00\n"), 0o644))
	rep, err := b.apply(linked, Options{})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 2}, rep.Steps, "%v", rep.Attempted)
}

// linkedWith returns some changes of a change set, linked.
func linkedWith(t *testing.T, c *desk.Changes, link string, ids ...changeset.ID) []*changeset.Change {
	var all []*changeset.Change
	for ch, err := range c.Changes() {
		require.NoError(t, err)
		if slices.Contains(ids, ch.ID) {
			ch.Linked = link
			all = append(all, ch)
		}
	}
	require.Len(t, all, len(ids))
	return all
}
