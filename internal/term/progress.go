package term

import (
	"fmt"
	"time"
)

// Progress shows on one line how far something long is: nothing in the first
// second, then what is being done, how much of how much, the rate and the
// time left. It is for terminals; elsewhere it is silent.
type Progress struct {
	s     *Screen
	on    bool
	now   func() time.Time
	start time.Time // of everything
	stage time.Time // of what is being done now
	what  string
	last  time.Time
	drawn bool
}

// NewProgress returns a Progress that draws on s, or one that is silent.
func NewProgress(s *Screen, on bool, now func() time.Time) *Progress {
	return &Progress{s: s, on: on, now: now, start: now()}
}

// patience is how long something may take before it is shown, and often how
// often what is shown is renewed.
const (
	patience = time.Second
	often    = 100 * time.Millisecond
)

// Step says that done of all of something are done; all may be 0 where that
// is not known.
func (p *Progress) Step(what string, done, all int) {
	if !p.on {
		return
	}
	now := p.now()
	if what != p.what {
		p.what, p.stage, p.last = what, now, time.Time{}
	}
	if now.Sub(p.start) < patience || now.Sub(p.last) < often {
		return
	}
	p.last, p.drawn = now, true
	p.s.Print("\r\x1b[K%s", Dim(p.text(now, done, all)))
}

func (p *Progress) text(now time.Time, done, all int) string {
	if all == 0 {
		return p.what + " …"
	}
	text := fmt.Sprintf("%s %s of %s", p.what, Count(done), Count(all))
	if d := now.Sub(p.stage); done > 0 && d > 0 {
		rate := float64(done) / d.Seconds()
		left := time.Duration(float64(all-done) / rate * float64(time.Second)).Round(time.Second)
		text += fmt.Sprintf(", %s a second, %s left", Count(int(rate)), left)
	}
	return text
}

// Done takes the line away.
func (p *Progress) Done() {
	if p.drawn {
		p.s.Print("\r\x1b[K")
		p.drawn = false
	}
}
