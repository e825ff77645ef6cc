package judge

import (
	"paletwin/core/changeset"
	"paletwin/core/expr"
	"paletwin/core/layout"
	"paletwin/core/record"
)

// Amended applies the rules of a layout to a record as it would be with some fields
// changed; only those that name a changed field of it can be broken. old gives what
// it has, by the layout's field. row is the copy's, 0 where there is none.
func Amended(l *layout.Layout, key record.Key, row int, fields []changeset.Edit, old func(field int) string) []layout.Problem {
	if len(l.Rules) == 0 {
		return nil
	}
	changed := func(i int) *changeset.Edit {
		for k := range fields {
			if fields[k].Field == l.Fields[i].Name {
				return &fields[k]
			}
		}
		return nil
	}
	in := &expr.Input{Act: changeset.Amend.String(), Key: key, Row: row, Old: l.Getter(old), New: l.Getter(func(i int) string {
		if fc := changed(i); fc != nil {
			return fc.To.String()
		}
		return old(i)
	})}
	return l.CheckRules(in, func(i int) bool { return changed(i) != nil })
}

// Whole applies the rules of a layout to a record that is added, or that is to be
// deleted.
func Whole(l *layout.Layout, act changeset.Act, key record.Key, row int, r record.Record) []layout.Problem {
	if len(l.Rules) == 0 {
		return nil
	}
	get := r.Finder()
	texts := l.Getter(func(i int) string { v, _ := get(l.Fields[i].Name); return v.String() })
	in := &expr.Input{Act: act.String(), Key: key, Row: row}
	if act == changeset.Delete {
		in.Old = texts
	} else {
		in.New = texts
	}
	return l.CheckRules(in, nil)
}
