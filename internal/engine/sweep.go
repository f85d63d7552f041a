package engine

import (
	"context"
	"errors"
	"time"

	"stilltide/internal/core/turn"
)

// pass is a sweep by hand through a running engine, and who follows it.
type pass struct {
	chosen turn.Chosen
	ended  []turn.Outcome // not told yet
	told   chan struct{}  // there is something to tell, or it is over; one place is enough
	over   bool
	asked  time.Time // when it was last asked whether it is over
}

// passLook is how often it is asked whether a pass is over: that goes over all files and jobs.
const passLook = 50 * time.Millisecond

// Sweep looks through all folders now, and tells of the jobs of what is chosen until nothing
// of it is under way, or the context ends.
func (e *Engine) Sweep(ctx context.Context, chosen turn.Chosen, tell func([]turn.Outcome) error) error {
	p := &pass{chosen: chosen, told: make(chan struct{}, 1)}
	if err := e.do(func() { e.beginPass(p) }); err != nil {
		return err
	}
	defer func() { _ = e.do(func() { delete(e.sweeps, p) }) }()
	for {
		select {
		case <-p.told:
		case <-ctx.Done():
			return ctx.Err()
		case <-e.ended:
			return errors.New("the watcher ended meanwhile; what is left waits for the next one")
		}
		var ended []turn.Outcome
		over := false
		if err := e.do(func() { ended, over, p.ended = p.ended, p.over, nil }); err != nil {
			return err
		}
		if len(ended) > 0 {
			if err := tell(ended); err != nil {
				return err
			}
		}
		if over {
			return nil
		}
	}
}

func (e *Engine) beginPass(p *pass) {
	if e.sweeps == nil {
		e.sweeps = map[*pass]bool{}
	}
	e.sweeps[p] = true
	if p.chosen.Again {
		e.flow.HandleAgain(p.chosen)
	}
	for path := range e.flow.Rules().Folders() {
		if f := e.folders[path]; !f.absent {
			f.swept = false
		}
	}
	e.sweep()
}

// tellPasses gives those who follow a pass what became of its jobs, and sees which passes are
// over. next is when to look again.
func (e *Engine) tellPasses(list []turn.Outcome, now time.Time) {
	for p := range e.sweeps {
		for i := range list {
			if j := list[i].Job; j.ID != 0 && p.chosen.Has(j.Rule, j.File) {
				row := *j
				p.ended = append(p.ended, turn.Outcome{Job: &row, Next: list[i].Next, Waits: list[i].Waits})
			}
		}
		if !p.over && now.Sub(p.asked) >= passLook {
			p.asked = now
			p.over = e.sweptAll() && e.events.Waiting() == 0 && e.flow.Idle(p.chosen)
		}
		if len(p.ended) > 0 || p.over {
			select {
			case p.told <- struct{}{}:
			default:
			}
		}
	}
}

// nextPass is when the loop must wake to see whether a pass is over.
func (e *Engine) nextPass(now time.Time) (at time.Time, ok bool) {
	for p := range e.sweeps {
		if !p.over {
			return now.Add(passLook), true
		}
	}
	return at, false
}
