package run

import (
	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
)

// names gives the changes of records the keys by which a dossier's steps know them,
// where a target writes its keys in another form.
type names struct {
	set  string
	of   *schema.Schema
	keys map[record.Key]record.Key // by normalised key
}

// know takes in the key of a step.
func (n *names) know(k record.Key) {
	if n.of.OneForm() {
		return
	}
	if n.keys == nil {
		n.keys = map[record.Key]record.Key{}
	}
	n.keys[n.of.Key(k)] = k
}

// rename gives a change the key, and the id, that a step of its record would have.
func (n *names) rename(ch *changeset.Change) {
	if n.of.OneForm() {
		return
	}
	if k, there := n.keys[n.of.Key(ch.Key)]; there && k != ch.Key {
		ch.Key, ch.ID = k, changeset.MakeID(n.set, k, ch.Act)
	}
}
