package desk

import (
	"paletwin/core/changeset"
	"paletwin/core/record"
)

// Share is what of a dossier concerns whoever a field names.
type Share struct {
	Value    string // of the field; "" is nobody
	Name     string // that the layout's list has for it, or ""
	Contents *Contents
}

// Shares parts what is reviewed by the value that a field has in the records, in the order in which they are met. A record whose
// field itself changes concerns both, who had it and who is to have it. The shares live as long as m does, and are not closed.
func (m *Contents) Shares(field string) ([]*Share, error) {
	at := map[string]*Share{}
	var all []*Share
	give := func(v record.Value, s *DecidedChange) {
		x := at[v.String()]
		if x == nil {
			part := *m
			part.Changes = nil
			x = &Share{Value: v.String(), Contents: &part}
			at[x.Value], all = x, append(all, x)
		}
		if n := len(x.Contents.Changes); n == 0 || x.Contents.Changes[n-1] != s {
			x.Contents.Changes = append(x.Contents.Changes, s)
		}
	}
	for _, s := range m.Changes {
		r, err := m.Before(s)
		if err != nil {
			return nil, err
		}
		if s.Act == changeset.Add {
			r = s.Record
		}
		v, _ := r.Get(field)
		give(v, s)
		for i := range s.Fields {
			if s.Fields[i].Field == field {
				give(s.Fields[i].To, s)
			}
		}
	}
	l, err := m.Dossier.Layout()
	if err != nil || l == nil {
		return all, err
	}
	if f := l.Field(field); f != nil && f.List != nil {
		for _, x := range all {
			x.Name = f.List.NameOf(x.Value)
		}
	}
	return all, nil
}
