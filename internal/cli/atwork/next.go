package atwork

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"stilltide/internal/advice"
	"stilltide/internal/cli/console"
	"stilltide/internal/cli/foresee"
	"stilltide/internal/cli/see"
	"stilltide/internal/control"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/engine"
	"stilltide/internal/look"
	"stilltide/internal/watcher"
)

// next shows everything about one file, from its arrival to the end of its job.
type next struct {
	a       *app
	f       *rule.File
	e       *engine.Engine
	end     func()
	arrived chan turn.Arrival

	mu   sync.Mutex // of what the engine's reports tell
	last *job.Job   // the newest outcome of the file's job
}

// nextLook is how often what goes on is looked at.
const nextLook = 40 * time.Millisecond

// watchNext takes the next file that arrives, shows everything about it, and ends.
func (a *app) watchNext() (err error) {
	f, err := a.LoadRules()
	if err != nil {
		return err
	}
	l := a.newLines(f)
	n := &next{a: a, f: f, arrived: make(chan turn.Arrival, 64)}
	n.e, err = a.openEngine(f, l, engine.Options{Next: true, Arrived: func(one turn.Arrival) {
		select {
		case n.arrived <- one:
		default: // many that no rule takes
		}
	}, Ready: func(s watcher.Start) {
		a.Note("ready: put a file into a watched folder. The next one that arrives is taken, and then this ends.")
	}})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, n.e.Close()) }()
	l.also = n.outcome
	if s, err := control.Serve(f.StateFolder(), n.e); err == nil { // without it the others do without
		defer s.Close()
	}
	signalled, stop := a.UntilSignal()
	defer stop()
	ctx, end := context.WithCancel(signalled)
	defer end()
	n.end = end
	var follower sync.WaitGroup
	follower.Go(func() { n.follow(ctx) })
	err = n.e.Run(ctx)
	end()
	follower.Wait()
	if err != nil {
		return err
	}
	return n.conclude()
}

// outcome is told what became of the job.
func (n *next) outcome(j job.Job) {
	n.mu.Lock()
	n.last = &j
	n.mu.Unlock()
	if j.State.Final() {
		n.end()
	}
}

func (n *next) newest() *job.Job {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.last
}

// follow prints what goes on until the context ends.
func (n *next) follow(ctx context.Context) {
	var file, waits string
	shown, attempt, quiet := map[int]int64{}, 0, 0
	for {
		select {
		case <-ctx.Done():
			return
		case one := <-n.arrived:
			n.explain(one)
			if one.Taken {
				file = one.File
			}
		case <-time.After(nextLook):
		}
		if file == "" {
			continue
		}
		live, err := n.e.Live()
		if err != nil {
			return // it is ending
		}
		for _, one := range live.Files {
			if one.File == file && one.Why != waits {
				waits = one.Why
				n.a.Note("it is settling: %s", waits)
			}
		}
		for _, r := range live.Running {
			if attempt != r.Attempt {
				attempt = r.Attempt
				n.a.Note("job %d, attempt %d begins", r.ID, r.Attempt)
			}
			_ = see.PrintMore(n.a.App, n.f, job.Job{ID: r.ID, Attempts: r.Attempt}, r.Attempt, shown)
		}
		if quiet++; !n.e.Quiet() {
			quiet = 0
		}
		if quiet > 5 && n.newest() == nil {
			n.end() // nothing came of it
			return
		}
	}
}

// explain says what arrived, and what the rules make of it.
func (n *next) explain(one turn.Arrival) {
	path := console.Display(console.Short(n.f.Base, one.File))
	if !one.Taken {
		n.a.Note("%s arrived, and no rule takes it (stilltide why %s); waiting for another", path,
			fill.QuoteWord(console.Short(n.f.Base, one.File)))
		return
	}
	n.a.Note("%s arrived", path)
	w, err := advice.Explain(look.NewSet(n.f), nil, one.File, false, time.Now())
	if err == nil && w.Facts.Exists {
		foresee.WhyText(n.a.App, n.f, w, "", false)
	}
}

// conclude shows the whole job, once it is over.
func (n *next) conclude() error {
	j := n.newest()
	if j == nil {
		return console.Found("no file was taken")
	}
	fmt.Fprintln(n.a.Out)
	if err := see.ShowJob(n.a.App, fmt.Sprint(j.ID)); err != nil {
		return err
	}
	if j.State != job.Processed {
		return &console.ExitError{Status: console.ExitFound}
	}
	fmt.Fprintf(n.a.Err, "\nThat is what watch does with each file (%s).\n", plan.Span(j.Ended.Sub(j.Taken)))
	return nil
}
