package desk

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/layout"
	"paletwin/core/record"
	"paletwin/internal/account"
	"paletwin/internal/disk"
)

// put writes files into a desk's folder.
func put(t *testing.T, d *Desk, files map[string]string) {
	for name, text := range files {
		path := filepath.Join(d.Dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
}

const aidsLayout = "key: k\nfields:\n  k: text\n  v: {kind: reference, to: depots.csv}\n"

// A dossier goes by the layout and the lists of its day, whatever becomes of
// the files.
func TestADossierKeepsItsLayout(t *testing.T) {
	d := newDesk(t)
	put(t, d, map[string]string{"layouts/aids.yaml": aidsLayout, "depots.csv": "code\na\nA\nb\nc\n"})
	l, err := d.FindLayout("aids")
	require.NoError(t, err)
	c := comparison("kept", "k,v\n1,A\n2,x\n3,c\n")
	c.Layout = l
	x, res, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	assert.Equal(t, 2, res.Changes.Amend)
	put(t, d, map[string]string{"layouts/aids.yaml": "key: other", "depots.csv": "code\nz\n"})
	x, err = d.Dossier(x.Meta.Number, "")
	require.NoError(t, err)
	kept, err := x.Layout()
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "A", "b", "c"}, kept.Field("v").List.Codes())
	_, err = d.FindLayout("aids")
	var wrong layout.Errors
	assert.ErrorAs(t, err, &wrong)
	none, err := d.FindLayout("visits")
	assert.True(t, none == nil && err == nil)

	plain := make1(t, newDesk(t), "plain", "k,v\n1,A\n2,b\n3,c\n")
	nothing, err := plain.Layout()
	assert.True(t, nothing == nil && err == nil)
}

func TestReferencesGoRound(t *testing.T) {
	d := newDesk(t)
	put(t, d, map[string]string{"layouts/a.yaml": "key: k\nfields: {k: text, v: {kind: reference, to: b.csv}}\n", "layouts/b.yaml": "key: k\nfields: {k: text, v: {kind: reference, to: a.csv}, up: {kind: reference, to: b.csv}}\n",
		"a.csv": "k,v\n1,2\n", "b.csv": "k,v,up\n2,1,\n"})
	_, err := d.OpenLayout(d.LayoutPath("a"))
	assert.ErrorContains(t, err, "the references go round in a circle")
	put(t, d, map[string]string{"layouts/b.yaml": "key: k\nfields: {k: text, up: {kind: reference, to: b.csv}}\n"})
	_, err = d.OpenLayout(d.LayoutPath("a"))
	assert.NoError(t, err, "a record may refer to another of its own set")
}

func TestSelectionsAreKept(t *testing.T) {
	d := newDesk(t)
	_, err := d.Selection("outer fees")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	want := &Selection{RecordSet: "aids", Fields: []string{"fee", "on: off"}, Where: `zone == "outer" && fee > 3 # really`}
	_, err = d.KeepSelection("Outer fees!", want)
	require.NoError(t, err)
	got, err := d.Selection("outer fees")
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.Equal(t, []string{"outer-fees"}, d.SelectionNames())
	put(t, d, map[string]string{"selections/bad.yaml": "fields: 3\nwhat: x\n"})
	_, err = d.Selection("bad")
	assert.ErrorIs(t, err, ErrSelection)
}

// A value that is given stands in the place of one that could not be told, for
// that field alone, until the change is another.
func TestAGivenValueStands(t *testing.T) {
	d := newDesk(t)
	put(t, d, map[string]string{"layouts/aids.yaml": aidsLayout, "depots.csv": "code\na\nb\nc\n"})
	c := comparison("given", "k,v\n1,x\n2,y\n3,c\n")
	var err error
	c.Layout, err = d.FindLayout("aids")
	require.NoError(t, err)
	x, _, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	states := func() (all []string) {
		ch, err := x.Changes()
		require.NoError(t, err)
		defer ch.Close()
		for line := range ch.Lines() {
			c, err := line.Change(ch.Header.Fields)
			require.NoError(t, err)
			for _, s := range ch.Ledger.States(line, c) {
				text := c.Key.String() + " " + string(s.Decision)
				if s.Given != nil {
					text += " " + s.Given.String()
				}
				all = append(all, text)
			}
		}
		return all
	}
	id := changeset.MakeID("aids", record.NewKey("1"), changeset.Amend).String()
	n, err := x.Decide(&Order{Decision: changeset.Approve, Held: true, By: "lina"})
	require.NoError(t, err)
	assert.Equal(t, changeset.Touched{Stopped: 2}, n)
	value := "b"
	_, err = x.Decide(&Order{Decision: changeset.Approve, Names: []string{id + "/v"}, As: &value, By: "lina"})
	require.NoError(t, err)
	assert.Equal(t, []string{"1 approve b", "2 hold"}, states())
	_, err = x.Decide(&Order{Decision: changeset.Reject, Names: []string{id + "/v"}, By: "lina"})
	require.NoError(t, err)
	assert.Equal(t, []string{"1 reject", "2 hold"}, states())
}

// A layout reads lists beside it, on the desk, and in folders that desk.yaml names: nothing elsewhere, by whatever way it is named.
func TestListsOfLayoutsStayOnTheDesk(t *testing.T) {
	outer := t.TempDir()
	dir := filepath.Join(outer, "a", "desk")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "layouts"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(outer, "lists"), 0o755))
	for _, at := range []string{filepath.Join(outer, "secret.csv"), filepath.Join(outer, "lists", "shared.csv"), filepath.Join(dir, "own.csv"), filepath.Join(dir, "layouts", "beside.csv")} {
		require.NoError(t, os.WriteFile(at, []byte("code,name\nD01,North\n"), 0o600))
	}
	require.NoError(t, os.Symlink(filepath.Join(outer, "secret.csv"), filepath.Join(dir, "linked.csv")))
	read := func(list string) error {
		layout := filepath.Join(dir, "layouts", "aids.yaml")
		require.NoError(t, os.WriteFile(layout, []byte("record_set: aids\nkey: k\nfields:\n  k: text\n  depot: {kind: reference, to: {list: "+list+", by: code, name: name}}\n"), 0o600))
		d, err := Find(disk.OS{}, account.Account{}, dir, "")
		require.NoError(t, err)
		_, err = d.OpenLayout(layout)
		return err
	}
	for _, good := range []string{"own.csv", "own", "beside.csv", "./own.csv"} {
		require.NoError(t, read(good), good)
	}
	for _, bad := range []string{"../../secret.csv", filepath.Join(outer, "secret.csv"), "linked.csv", "layouts/../../../secret.csv", "../../lists/shared.csv"} {
		require.ErrorContains(t, read(bad), "it is outside of the desk", bad)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "desk.yaml"), []byte("lists: [../../lists]\n"), 0o600))
	require.NoError(t, read("shared.csv"))
	require.ErrorContains(t, read("../../secret.csv"), "it is outside of the desk")
}

func TestLayoutsStandInLayouts(t *testing.T) {
	d := &Desk{Dir: "/desk"}
	for set, want := range map[string]string{"aids": "aids", "Price list 2": "Price list 2", "../../evil": "evil", "a/b": "a-b", `..\x`: "x", "C:x": "c-x", "": "", "a\x00b": "a-b"} {
		assert.Equal(t, filepath.Join("/desk/layouts", want+".yaml"), d.LayoutPath(set))
	}
}
