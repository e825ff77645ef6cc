package review

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"paletwin/core/changeset"
	"paletwin/core/compare"
	"paletwin/internal/account"
	"paletwin/internal/desk"
	"paletwin/internal/disk"
)

// Where copies disagree, a number says whose side is meant: of a field, of a new record, of an edit
// against a delete. The other side can be taken instead, and undo brings back what stood.
func TestChoosingSides(t *testing.T) {
	dir := t.TempDir()
	d, err := desk.Find(disk.OS{}, account.Account{}, dir, dir)
	require.NoError(t, err)
	source := func(name, text string) *desk.Source {
		return &desk.Source{Name: name, Stream: strings.NewReader("k,v,w\n" + text)}
	}
	c := &desk.Comparison{Title: "Two", By: "lina", Now: clock, Snapshot: *source("s.csv", "1,a,a\n2,a,a\n3,a,a\n"),
		Edited: source("m.csv", "1,b,a\n3,a,a\n4,x,y\n"), More: []*desk.Source{source("t.csv", "1,c,a\n2,z,z\n3,a,a\n4,x,z\n")},
		Options: compare.Options{RecordSet: "aids", Key: []string{"k"}}}
	dossier, _, err := d.Compare(context.Background(), c)
	require.NoError(t, err)
	m, err := dossier.Contents()
	require.NoError(t, err)
	defer m.Close()
	r := start(m, "lina", 120, 40)
	// 1 v; 2 v, w and the delete of 2; 4
	stands := func() string {
		var all []string
		for u := range r.units {
			s := r.state(u)
			word := string(s.Decision)
			if s.ToolHeld() {
				word = "-"
			}
			if s.Of != "" {
				word += " " + s.Of
			}
			if s.Given != nil {
				word += " " + s.Given.String()
			}
			all = append(all, r.change(u).Act.String()+" "+r.change(u).Key.String()+" "+word)
		}
		return strings.Join(all, "\n")
	}
	first := "amend 1 -\namend 2 -\namend 2 -\ndelete 2 -\nadd 4 -"
	require.Equal(t, first, stands())
	press(r, "right")
	assert.Contains(t, r.View().Content, "1 m.csv  2 t.csv")
	press(r, "a")
	assert.Equal(t, first, stands(), "what copies disagree about is not approved without a side")
	press(r, "home", "2")
	assert.Equal(t, "amend 1 approve t.csv c", strings.Split(stands(), "\n")[0])
	press(r, "home", "1")
	assert.Equal(t, "amend 1 approve m.csv b", strings.Split(stands(), "\n")[0])
	press(r, "z")
	assert.Equal(t, "amend 1 approve t.csv c", strings.Split(stands(), "\n")[0], "undone")
	press(r, "z")
	assert.Equal(t, first, stands())

	press(r, "home", "down", "1") // the copy that lacks the record
	assert.Contains(t, stands(), "amend 2 reject\namend 2 reject\ndelete 2 approve m.csv")
	press(r, "home", "down", "2")
	assert.Contains(t, stands(), "amend 2 approve t.csv\namend 2 approve t.csv\ndelete 2 reject")
	press(r, "z")
	assert.Contains(t, stands(), "amend 2 reject\namend 2 reject\ndelete 2 approve m.csv")
	press(r, "z")
	assert.Equal(t, first, stands())

	press(r, "end", "2")
	assert.Contains(t, stands(), "add 4 approve t.csv")
	press(r, "end", "9")
	assert.Contains(t, r.View().Content, "there are 2 sides")
	assert.Equal(t, changeset.Approve, r.state(len(r.units)-1).Decision)
}
