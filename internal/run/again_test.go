package run

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

const fees = `key: k
fields:
  k: text
  ex: {kind: decimal, scale: 2}
  inc: {kind: decimal, scale: 2}
  depot: {kind: reference, to: depots.csv}
  no: {kind: text, unique: true}
  seen: {kind: text, access: system}
rules:
  - {name: one, check: new.ex == null || new.inc == null, message: only one of the fees}
  - {name: kept, check: 'act != "delete" || old.ex == null', message: it has a fee}
`

// laid is a bench whose desk has a layout, and a dossier made with it.
func laid(t *testing.T, register, edited string) (*bench, *desk.Dossier) {
	b := newBench(t, t.TempDir(), disk.OS{}, []byte(register))
	require.NoError(t, os.MkdirAll(filepath.Join(b.dir, "layouts"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "layouts/aids.yaml"), []byte(fees), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "layouts/depots.csv"), []byte("code\nD1\nD2\n"), 0o644))
	l, err := b.desk.FindLayout("aids")
	require.NoError(t, err)
	c := b.comparison(desk.Source{Name: "s.csv", Path: b.register}, []byte(edited))
	c.Layout, c.Options.Blank = l, "clear"
	d, _, err := b.desk.Compare(ctx(), c)
	require.NoError(t, err)
	return b, d
}

// decide approves single fields of a record.
func decide(t *testing.T, d *desk.Dossier, key string, fields ...string) {
	c, err := d.Changes()
	require.NoError(t, err)
	defer c.Close()
	for ch, err := range c.Changes() {
		require.NoError(t, err)
		if ch.Key.String() != key {
			continue
		}
		names := []string{ch.ID.String()}
		if len(fields) > 0 {
			names = nil
			for _, f := range fields {
				names = append(names, ch.ID.String()+"/"+f)
			}
		}
		_, err := d.Decide(&desk.Order{Decision: changeset.Approve, Names: names, Held: true, By: "petr", When: clock()})
		require.NoError(t, err)
	}
}

// The record is checked as it would be: with what is approved, and with what
// the target has by then.
func TestLayoutsAreAskedAgain(t *testing.T) {
	const register = "k,ex,inc,depot,no,seen\n1,1.00,,D1,a,x\n2,,2.00,D1,b,x\n3,,3.00,D2,c,x\n4,4.00,,D2,d,x\n"
	const edited = "k,ex,inc,depot,no,seen\n1,,1.50,D1,a,x\n2,2.50,,D2,c,x\n3,,3.00,D2,e,x\n"
	b, d := laid(t, register, edited)
	decide(t, d, "1", "inc")       // without emptying the other fee
	decide(t, d, "2", "ex", "inc") // both at once
	decide(t, d, "3")              // takes the number
	decide(t, d, "4")              // a delete that the rule forbids
	rep, err := b.apply(d, Options{})
	require.NoError(t, err)
	reasons := map[string]string{}
	for _, s := range rep.Attempted {
		reasons[s.Key.String()] = string(s.Outcome) + " " + s.Reason
	}
	assert.Equal(t, "refused the layout: inc: only one of the fees", reasons["1"])
	assert.Equal(t, "done ", reasons["2"])
	assert.Equal(t, "done ", reasons["3"])
	assert.NotContains(t, reasons, "4", "a stop is never approved")

	decide(t, d, "2", "no") // c is free now: record 3 has given it up
	rep, err = b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, 1, rep.Steps.Done)
	assert.Contains(t, b.bytes(), "2,2.50,,D1,c,x\n")
}

// A value that another record of the target got meanwhile is not given twice.
func TestUniqueValuesOfTheTarget(t *testing.T) {
	const register = "k,ex,inc,depot,no,seen\n1,,,D1,a,x\n2,,,D1,b,x\n3,,,D1,c,x\n"
	b, d := laid(t, register, "k,ex,inc,depot,no,seen\n1,,,D1,z,x\n2,,,D1,y,x\n3,,,D1,c,x\n")
	b.approve(d)
	require.NoError(t, os.WriteFile(b.register, []byte("k,ex,inc,depot,no,seen\n1,,,D1,a,x\n2,,,D1,b,x\n3,,,D1,z,w\n"), 0o644))
	rep, err := b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 1, Refused: 1}, rep.Steps)
	assert.Equal(t, "k,ex,inc,depot,no,seen\n1,,,D1,a,x\n2,,,D1,y,x\n3,,,D1,z,w\n", b.bytes())
}

// Having no value is nothing that others have already.
func TestSeveralRecordsMayHaveNoUniqueValue(t *testing.T) {
	const register = "k,ex,inc,depot,no,seen\n1,,,D1,a,x\n2,,,D1,b,x\n3,,,D1,,x\n"
	b, d := laid(t, register, "k,ex,inc,depot,no,seen\n1,,,D1,,x\n2,,,D1,,x\n3,,,D1,,x\n")
	_, err := d.Decide(&desk.Order{Decision: changeset.Approve, Held: true, By: "petr", When: clock()})
	require.NoError(t, err)
	rep, err := b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 2}, rep.Steps)
}

// One value in two forms is no conflict, and a field of the system's none;
// rolled back, the bytes are those of before.
func TestFormsOfOneValueAreNoConflict(t *testing.T) {
	const register = "k,ex,inc,depot,no,seen\n1,1.00,,D1,a,x\n2,2.00,,D1,b,x\n3,,,D2,c,x\n"
	b, d := laid(t, register, "k,ex,inc,depot,no,seen\n1,1.5,,D1,a,x\n2,2.00,,D2,b,x\n")
	b.approve(d)
	const now = "k,ex,inc,depot,no,seen\n1,1.0,,D1,a,w\n2,2,,D1,b,w\n3,,,D2,c,w\n"
	require.NoError(t, os.WriteFile(b.register, []byte(now), 0o644))
	rep, err := b.apply(d, Options{})
	require.NoError(t, err)
	assert.Equal(t, Steps{Done: 3}, rep.Steps)
	assert.True(t, rep.Verify.Holds())
	assert.Equal(t, "k,ex,inc,depot,no,seen\n1,1.50,,D1,a,w\n2,2,,D2,b,w\n", b.bytes())
	rep, err = b.apply(b.rollback(d), Options{})
	require.NoError(t, err)
	assert.Equal(t, 3, rep.Steps.Done)
	assert.Equal(t, now, b.bytes())
}
