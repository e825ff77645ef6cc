package run

// first returns the first n of the steps that can be written, or all where n
// is 0; linked ones stay together.
func first(steps []*Step, n int) []*Step {
	write := undecided(steps)
	if n <= 0 || len(write) == 0 {
		return write
	}
	return batches(write, n)[0]
}

// undecided returns the steps of which it is not known what becomes of them.
func undecided(steps []*Step) []*Step {
	some := make([]*Step, 0, len(steps))
	for _, s := range steps {
		if s.Outcome == "" {
			some = append(some, s)
		}
	}
	return some
}

// reached returns the steps that a run deals with which writes some of them:
// those, and what cannot be written before the first that is left for later.
func reached(steps, write []*Step) []*Step {
	if len(write) == len(undecided(steps)) {
		return steps
	}
	taken := make(map[*Step]bool, len(write))
	for _, s := range write {
		taken[s] = true
	}
	var all []*Step
	later := false
	for _, s := range steps {
		switch {
		case taken[s] || s.Outcome != "" && !later:
			all = append(all, s)
		case s.Outcome == "":
			later = true
		}
	}
	return all
}

func refusals(steps []*Step) int {
	n := 0
	for _, s := range steps {
		if s.Outcome == Refused {
			n++
		}
	}
	return n
}

// stopped completes the report of a run that does not begin, since more would
// be refused than it is to bear.
func (rep *Report) stopped(steps []*Step) *Report {
	for _, s := range steps {
		if s.Outcome == "" {
			s.Outcome = Skipped
		}
		rep.Steps.count(s.Outcome)
	}
	rep.Attempted, rep.Stopped = steps, true
	return rep
}
