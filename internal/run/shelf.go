package run

import "paletwin/core/record"

// shelf holds steps of which there are very many side by side, and so their texts: the collector finds few pieces of memory, in
// which nothing lies waste. A piece stays as long as one of its steps is used.
type shelf struct {
	record.Texts
	steps []Step
}

// shelfSize is how many steps stand in a piece of memory, from so many on.
const shelfSize = 512

// step puts a step on the shelf.
func (h *shelf) step(s Step) *Step {
	if len(h.steps) == cap(h.steps) {
		h.steps = make([]Step, 0, min(2*cap(h.steps)+1, shelfSize))
	}
	h.steps = append(h.steps, s)
	return &h.steps[len(h.steps)-1]
}
