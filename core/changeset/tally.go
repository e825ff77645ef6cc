package changeset

import "slices"

// Tally counts changes as summaries tell them, held ones included.
type Tally struct {
	Counts
	Held       int          `json:"held"`        // changes held as a whole, or with every field held
	HeldFields int          `json:"held_fields"` // field changes held
	HeldActs   *HeldActs    `json:"held_acts,omitempty"`
	ByField    []FieldCount `json:"-"`

	at map[string]int // the place of a field in ByField
}

// HeldActs counts the adds and the deletes that are held. With the field changes
// that are held it is all that is. Tallies of before there was one have none.
type HeldActs struct {
	Add    int `json:"add"`
	Delete int `json:"delete"`
}

// FieldCount is how many amends change a field.
type FieldCount struct {
	Field   string `json:"field"`
	Changes int    `json:"changes"`
}

// Count takes one change in.
func (t *Tally) Count(c *Change) {
	t.Counts.Count(c)
	whole := len(c.Held) > 0 || len(c.Stop) > 0
	held := 0
	if t.HeldActs == nil {
		t.HeldActs = new(HeldActs)
	}
	switch {
	case whole && c.Act == Add:
		t.HeldActs.Add++
	case whole && c.Act == Delete:
		t.HeldActs.Delete++
	}
	for i := range c.Fields {
		f := &c.Fields[i]
		if whole || len(f.Held) > 0 || len(f.Stop) > 0 {
			held++
		}
		t.countField(f.Field)
	}
	t.HeldFields += held
	if whole || held > 0 && held == len(c.Fields) {
		t.Held++
	}
}

func (t *Tally) countField(name string) {
	if t.at == nil {
		t.at = map[string]int{}
	}
	i, ok := t.at[name]
	if !ok {
		i = len(t.ByField)
		t.at[name] = i
		t.ByField = append(t.ByField, FieldCount{Field: name})
	}
	t.ByField[i].Changes++
}

// Sum takes in the numbers of another tally, of other changes; ByField stays.
func (t *Tally) Sum(o *Tally) {
	t.Amend += o.Amend
	t.FieldChanges += o.FieldChanges
	t.Counts.Add += o.Counts.Add
	t.Delete += o.Delete
	t.Held += o.Held
	t.HeldFields += o.HeldFields
}

// AllHeld reports whether nothing can be approved by naming everything.
func (t *Tally) AllHeld() bool { return t.Changes() > 0 && t.Held == t.Changes() }

// Sort puts the fields into the given order. Nothing is counted after it.
func (t *Tally) Sort(fields []string) {
	place := make(map[string]int, len(fields))
	for i, f := range fields {
		place[f] = i
	}
	slices.SortStableFunc(t.ByField, func(a, b FieldCount) int { return place[a.Field] - place[b.Field] })
	t.at = nil
}
