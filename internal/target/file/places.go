package file

import (
	"iter"
	"maps"
	"slices"

	"paletwin/internal/target"
)

// places says where records that are added go: those that were there before
// go back behind the record that stood before them, the others to the end.
type places struct {
	after   map[string][]int // steps by the key before
	age     map[int]int      // of the form of each of these
	behind  map[int]string   // the key before
	appends []int            // steps without a place
}

// place takes in step i, an add with a form; fits says that this is that of its record.
func (p *places) place(f *target.Form, i int, fits bool) {
	if p.after == nil {
		p.after, p.age, p.behind = map[string][]int{}, map[int]int{}, map[int]string{}
	}
	if f.Kept && fits {
		p.after[f.After.Encoding()] = append(p.after[f.After.Encoding()], i)
		p.age[i], p.behind[i] = f.Age, f.After.Encoding()
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
func (p *places) stranded() iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, i := range slices.Sorted(maps.Keys(p.behind)) {
			if key := p.behind[i]; slices.Contains(p.after[key], i) && !yield(key) {
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
