package file

import (
	"slices"

	"paletwin/internal/target"
)

// places says where records that are added go: those that were there before
// go back behind the record that stood before them, the others to the end.
type places struct {
	after   map[string][]int // steps by the key before
	appends []int            // steps without a place
}

// place takes in step i, an add; fits says that its form is that of its record.
func (p *places) place(steps []target.Step, i int, fits bool) {
	if p.after == nil {
		p.after = map[string][]int{}
	}
	if f := &steps[i].Form; f.Kept && fits {
		p.after[f.After.Encoding()] = append(p.after[f.After.Encoding()], i)
	} else {
		p.appends = append(p.appends, i)
	}
}

// settle puts those that go to one place in order: what went first is
// nearest.
func (p *places) settle(steps []target.Step) {
	for _, group := range p.after {
		slices.SortStableFunc(group, func(a, b int) int { return steps[a].Form.Age - steps[b].Form.Age })
	}
}

// take returns the steps that go behind the key, each once.
func (p *places) take(key string) []int {
	steps := p.after[key]
	delete(p.after, key)
	return steps
}
