package file

import (
	"iter"
	"slices"

	"paletwin/internal/target"
)

// places says where records that are added go: those that were there before
// go back behind the record that stood before them, the others to the end.
type places struct {
	after   map[string][]int // steps by the key before
	age     map[int]int      // of the form of each of these
	appends []int            // steps without a place
}

// place takes in step i, an add; fits says that its form is that of its record.
func (p *places) place(s *target.Step, i int, fits bool) {
	if p.after == nil {
		p.after, p.age = map[string][]int{}, map[int]int{}
	}
	if f := &s.Form; f.Kept && fits {
		p.after[f.After.Encoding()] = append(p.after[f.After.Encoding()], i)
		p.age[i] = f.Age
	} else {
		p.appends = append(p.appends, i)
	}
}

// settle puts those that go to one place in order: what went first is
// nearest.
func (p *places) settle() {
	for _, group := range p.after {
		slices.SortStableFunc(group, func(a, b int) int { return p.age[a] - p.age[b] })
	}
}

// stranded gives the keys behind which steps were to go that stand nowhere, in the order of the steps; each is taken meanwhile, with
// what goes behind its steps.
func (p *places) stranded(steps target.Steps) iter.Seq[string] {
	return func(yield func(string) bool) {
		for i := range steps.Len() {
			if len(p.after) == 0 {
				return
			}
			if key := steps.At(i).Form.After.Encoding(); slices.Contains(p.after[key], i) && !yield(key) {
				return
			}
		}
	}
}

// take returns the steps that go behind the key, each once.
func (p *places) take(key string) []int {
	steps := p.after[key]
	delete(p.after, key)
	return steps
}
