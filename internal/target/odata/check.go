package odata

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"paletwin/core/changeset"
	"paletwin/core/record"
	"paletwin/core/schema"
	"paletwin/internal/target"
)

// cellSize is about how many bytes a value has.
const cellSize = 12

// Writable says early why nothing can be written, and finds out about how large the set is.
func (s *Set) Writable(ctx context.Context) error {
	own, err := s.ownKeys()
	if err != nil {
		return err
	}
	if !slices.Equal(own, s.key) {
		var names []string
		for _, i := range own {
			names = append(names, s.fields[i])
		}
		return &Error{Name: s.Name(), Code: OtherKey, Text: fmt.Sprintf("its records are written by their own key, %s; compare by it", strings.Join(names, ", "))}
	}
	if c := &s.typ.can; c.noInserts && c.noUpdates && c.noDeletes {
		return &Error{Name: s.Name(), Code: ReadOnly, Text: "its metadata says that its records are not written"}
	}
	n, err := s.count(ctx)
	s.about = int64(max(n, 0)) * int64(len(s.fields)) * cellSize
	return err
}

// ownKeys are the properties of the service's own key.
func (s *Set) ownKeys() ([]int, error) {
	var own []int
	for _, name := range s.typ.key {
		i := s.typ.property(name)
		if i < 0 {
			return nil, &Error{Name: s.Name(), Code: Foreign, Text: "its metadata names a key, " + name + ", that is no property"}
		}
		own = append(own, i)
	}
	return own, nil
}

// assigns reports whether the service gives new records their keys.
func (s *Set) assigns() bool {
	return len(s.key) == 1 && s.typ.properties[s.key[0]].Computed
}

// computed are the fields that the service writes itself, beside the key.
func (s *Set) computed() (all []string) {
	for i, p := range s.typ.properties {
		if p.Computed && !slices.Contains(s.key, i) {
			all = append(all, s.fields[i])
		}
	}
	return all
}

// notes say what is to be known before the set is written.
func (s *Set) notes() []string {
	var all []string
	if computed := s.computed(); len(computed) > 0 {
		all = append(all, "the service writes "+strings.Join(computed, ", ")+" itself, and no rollback puts that back")
	}
	if s.assigns() {
		all = append(all, "the service gives records their keys: one that is deleted cannot come back under its own")
	}
	if s.spool != nil && !s.tagged {
		all = append(all, "the service gives no ETags: each record is read again just before it is written, and what somebody edits in between is written over")
	}
	return all
}

// Check says which steps the service is known not to take.
func (s *Set) Check(ctx context.Context, steps []target.Step) ([]string, error) {
	why := make([]string, len(steps))
	links := map[string]int{}
	for i := range steps {
		if steps[i].Linked != "" {
			links[steps[i].Linked]++
		}
	}
	for i := range steps {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		st := &steps[i]
		if why[i] = s.check(st); why[i] == "" && links[st.Linked] > 1 && (s.typ.can.noBatches || s.c.batches.form == alone) {
			why[i] = "it is linked with others, and the service takes no batches in which they are written together or not at all"
		}
	}
	return why, nil
}

func (s *Set) check(st *target.Step) string {
	can := &s.typ.can
	if !st.Was.IsZero() && !st.Anew {
		return "a service cannot change the key of a record; --with delete-and-add deletes it and adds it under the new key: what refers to it, and what the service writes itself, is lost"
	}
	switch {
	case st.Act == changeset.Add && can.noInserts, st.Act == changeset.Delete && can.noDeletes, st.Act == changeset.Amend && can.noUpdates:
		return "the service's metadata says that its records are not " + map[changeset.Act]string{changeset.Add: "added to", changeset.Delete: "deleted", changeset.Amend: "amended"}[st.Act]
	case st.Act == changeset.Add && s.assigns() && !schema.IsNew(st.Key):
		return "the service gives records their keys, and would give it another one"
	case st.Act != changeset.Add && !s.addressable(st.Key):
		return "its key is none that the service can have"
	}
	for _, f := range st.Fields {
		i := slices.Index(s.fields, f.Field)
		if i < 0 {
			continue // the run says so
		}
		switch p := &s.typ.properties[i]; {
		case p.Computed:
			return f.Field + " is written by the service alone"
		case p.Immutable:
			return f.Field + " can be written when a record is added, and not later"
		case slices.Contains(s.key, i):
			return f.Field + " belongs to the key, which a service cannot change"
		}
	}
	it := &item{step: st}
	if st.Act == changeset.Delete {
		return ""
	}
	n, field := len(st.Fields), func(i int) (string, record.Value) { return st.Fields[i].Field, st.Fields[i].To }
	if st.Act == changeset.Add {
		n, field = len(st.Record), func(i int) (string, record.Value) { return st.Record[i].Name, st.Record[i].Value }
	}
	if err := s.bodyOf(it, n, field); err != nil {
		return err.Error()
	}
	return ""
}
