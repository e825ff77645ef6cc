package schema

import (
	"slices"

	"paletwin/core/record"
)

// Unlike is a field in which a record is not as it was wanted, or left.
type Unlike struct {
	Field        string
	Wanted, Real record.Value
}

// Unlikes lists the fields of a whole record in which there is something else now. What the
// system writes itself counts for nothing, and neither does a field that is not there.
func (s *Schema) Unlikes(wanted, real record.Record, system []string) []Unlike {
	var all []Unlike
	get := real.Finder()
	for _, f := range wanted {
		if v, there := get(f.Name); there && !s.Equal(f.Name, v, f.Value) && !slices.Contains(system, f.Name) {
			all = append(all, Unlike{f.Name, f.Value, v})
		}
	}
	return all
}

// Filled lists the fields that a record has and an earlier look at all of it had not, of
// those that were looked at; nil is any.
func Filled(then, real record.Record, looked []string, system []string) []Unlike {
	var all []Unlike
	get := then.Finder()
	for _, f := range real {
		if _, had := get(f.Name); !had && !f.Value.Blank() && !slices.Contains(system, f.Name) && (looked == nil || slices.Contains(looked, f.Name)) {
			all = append(all, Unlike{f.Name, record.Value{}, f.Value})
		}
	}
	return all
}
