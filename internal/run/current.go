package run

import (
	"context"

	"paletwin/core/record"
	"paletwin/internal/target"
)

// manyStates is how many records are held at once, at most, of a target that can be read as often as one likes.
var manyStates = 1 << 20

// eachState reads the steps' records as they are now.
func (j *Job) eachState(ctx context.Context, steps []*Step, take func(s *Step, now *target.State) error) error {
	return eachState(ctx, j.Target, len(steps), func(i int) record.Key { return steps[i].Key }, func(i int, now *target.State) error { return take(steps[i], now) })
}

// eachState reads records as a target has them now, some at a time where it can be read again: the next while these are taken, which
// must not use the target, nor keep a state's record.
func eachState(ctx context.Context, t target.Target, n int, key func(i int) record.Key, take func(i int, now *target.State) error) error {
	most := max(n, 1)
	if once := t.Traits().Reread; once > 0 {
		most = min(once, manyStates)
	}
	type part struct {
		states []target.State
		err    error
	}
	some := make([]record.Key, 0, min(most, n))
	read := func(from int, room []target.State) part {
		some = some[:0]
		for i := from; i < min(from+most, n); i++ {
			some = append(some, key(i))
		}
		var states []target.State
		var err error
		if r, ok := t.(target.Refiller); ok {
			states, err = r.Refill(ctx, some, room)
		} else {
			states, err = t.Current(ctx, some)
		}
		return part{states, err}
	}
	next := make(chan part, 1)
	if n > 0 {
		next <- read(0, nil)
	}
	var room []target.State // of those that were taken
	for from := 0; from < n; from += most {
		p := <-next
		if p.err != nil {
			return p.err
		}
		ahead := from+most < n
		if ahead {
			go func(room []target.State) { next <- read(from+most, room) }(room)
		}
		for i := range p.states {
			if err := take(from+i, &p.states[i]); err != nil {
				if ahead {
					<-next // the target is used by one alone
				}
				return err
			}
		}
		room = p.states
	}
	return nil
}
