package slip

import (
	"fmt"

	"paletwin/core/changeset"
	"paletwin/core/words"
)

// Past is what an earlier snapshot of the same records had.
type Past struct {
	Name string // which, for a sentence: "dossier 0003"
	// Values returns what it had for the fields of a record, by the fields of
	// Input; ok is false where it had no such record. A nil field is one that it
	// did not have.
	Values func(record uint32) (values []*string, ok bool)
}

// stale finds edits that put back what an earlier snapshot had: the copy was
// made from it, or pasted from it.
func (j *judge) stale() {
	for _, past := range j.Past {
		var cells []int
		same := true
		for i := range j.Cells {
			x := &j.Cells[i]
			v, ok := past.Values(x.Record)
			if !ok || v[x.Field] == nil || *v[x.Field] != x.To || j.taken[i] || x.From == x.To {
				continue // null that became the empty text says nothing of its past
			}
			cells = append(cells, i)
			first := &j.Cells[cells[0]]
			same = same && x.Field == first.Field && x.From == first.From && x.To == first.To
		}
		if len(cells) == 0 {
			continue
		}
		if same && len(cells) > fewestFilled {
			// What was said of a group is now said of it otherwise, all in one
			// field: laid up again for the winter.
			continue
		}
		x := &j.Cells[cells[0]]
		field := int(x.Field)
		for _, i := range cells {
			if int(j.Cells[i].Field) != field {
				field = -1
			}
		}
		j.found = append(j.found, Found{Code: changeset.StaleValue, Field: field, Cells: cells, Rows: j.rowsOf(cells),
			Text: fmt.Sprintf("%s would put back what the snapshot of %s had, first %s: %s → %s; was the copy made from an older export?", words.Count(len(cells), "edit"), past.Name, j.Fields[x.Field], say(x.From), say(x.To))})
	}
}
