package target

import (
	"fmt"

	"paletwin/core/changeset"
	"paletwin/core/schema"
)

// Unlike says in words in what a record is no longer as a step says that it is; "" where it is. It looks at what the step
// writes, or deletes: what else became of the record is no concern of it. Values are compared by the schema; null and the
// empty text are one, unless it tells them apart.
func (s *Step) Unlike(now *State, of *schema.Schema) string {
	if s.Act == changeset.Add {
		if now.Count > 0 {
			return "the record is there already"
		}
		return ""
	}
	if now.Count == 0 {
		return "the record is gone"
	}
	get := now.Record.Finder()
	if s.Act == changeset.Delete {
		for _, f := range s.Record {
			if v, there := get(f.Name); there && of.Field(f.Name).Access != schema.System && !of.Equal(f.Name, v, f.Value) {
				return fmt.Sprintf("%s is now %q", f.Name, v)
			}
		}
		return ""
	}
	for _, f := range s.Fields {
		if v, there := get(f.Field); there && !of.Equal(f.Field, v, f.From) {
			return fmt.Sprintf("%s is now %q", f.Field, v)
		}
	}
	return ""
}
