package engine

import (
	"sync/atomic"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/turn"
	"stilltide/internal/fleet"
	"stilltide/internal/watcher"
	"stilltide/internal/work"
)

// fleetBook is the ledger as the fleet sees it.
type fleetBook struct{ store }

func (b fleetBook) Job(number int64) (j job.Job, there bool, err error) {
	rows, err := b.Jobs(job.Filter{ID: number})
	if err != nil || len(rows) == 0 {
		return j, false, err
	}
	return rows[0], true, nil
}

// newFleet makes the way to other machines, if rules want any.
func (e *Engine) newFleet() (*fleet.Fleet, error) {
	rules := e.o.Rules
	if rules.Fleet == nil || len(rules.Pools()) == 0 {
		return nil, nil
	}
	e.pools.changed.Store(true)
	return fleet.New(fleet.Options{Rules: rules.Fleet, Pools: rules.Pools(), Book: fleetBook{e.ledger},
		Changed: func() {
			e.pools.changed.Store(true)
			e.rouse()
		},
		Said: func(text string) {
			if e.o.Said != nil {
				e.o.Said(text)
			}
		}})
}

// startFleet takes up what an earlier run has handed over. end leaves what is under way then.
func (e *Engine) startFleet() (end func(), err error) {
	if e.fleet == nil {
		return func() {}, nil
	}
	return e.fleet.Close, e.fleet.Start()
}

// carrier is the fleet for those who run commands, nil if there is none.
func (e *Engine) carrier() work.Carrier {
	if e.fleet == nil {
		return nil
	}
	return e.fleet
}

// stop has nothing start any more, and leaves what other machines run.
func (e *Engine) stop() {
	e.flow.Stop()
	if e.fleet != nil {
		e.fleet.Leave()
	}
}

// rouse has the loop look at what is new.
func (e *Engine) rouse() {
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

// poolsRead tells the fleet which pools the rules name that were read.
func (e *Engine) poolsRead() {
	if e.fleet != nil {
		e.fleet.UsePools(e.o.Rules.Pools())
		e.pools.changed.Store(true)
	}
}

// pools is what was told of the pools. It belongs to the flow's goroutine.
type pools struct {
	changed atomic.Bool
	away    map[string]*awayPool // those that cannot be used
}

// awayPool is a pool that cannot be used.
type awayPool struct {
	why   string
	since time.Time
	due   time.Time // when those who want to hear of trouble are told
	told  bool
	left  bool // what was handed over to it is not waited for: a single pass does not wait for what may never come
}

// leaveAwayAfter is how long a single pass waits for a pool that cannot be used.
const leaveAwayAfter = 10 * time.Second

// tellAwayAfter is how long a pool cannot be used until those are told who want to hear of trouble.
const tellAwayAfter = time.Minute

// usePools tells the flow how the pools stand, and people when one cannot be used.
func (e *Engine) usePools(now time.Time) {
	if e.fleet == nil {
		return
	}
	if e.pools.changed.Swap(false) {
		stand := map[string]turn.Pool{}
		for _, p := range e.fleet.Pools() {
			stand[p.Name] = turn.Pool{Places: p.Places, Away: p.Why}
			e.noteAway(p, now)
		}
		e.flow.SetPools(stand)
	}
	for name, a := range e.pools.away {
		if !a.left && !a.since.Add(leaveAwayAfter).After(now) {
			a.left = true
			e.fleet.LeavePool(name)
		}
		if !a.told && !a.due.After(now) {
			a.told = true
			e.tell.Trouble(notice.Event{Kind: notice.Blocked, At: now, Text: a.why})
		}
	}
}

func (e *Engine) noteAway(p fleet.Pool, now time.Time) {
	was := e.pools.away[p.Name]
	switch {
	case p.Why != "" && was == nil:
		if e.pools.away == nil {
			e.pools.away = map[string]*awayPool{}
		}
		e.pools.away[p.Name] = &awayPool{why: p.Why, since: now, due: now.Add(tellAwayAfter), left: !e.o.Once}
		e.say(p.Why + "; what goes to it waits, unless its rule says run_here")
	case p.Why != "":
		was.why = p.Why
	case was != nil:
		delete(e.pools.away, p.Name)
		e.say("the pool " + p.Name + " can be used again")
		if was.told {
			e.tell.Trouble(notice.Event{Kind: notice.Recovered, At: now, Text: "the pool " + p.Name +
				" can be used again"})
		}
	}
}

func (e *Engine) say(text string) {
	if e.o.Said != nil {
		e.o.Said(text)
	}
}

// next is when somebody is to be told of a pool.
func (p *pools) next() (at time.Time, ok bool) {
	for _, a := range p.away {
		for when, over := range map[time.Time]bool{a.due: a.told, a.since.Add(leaveAwayAfter): a.left} {
			if !over && (!ok || when.Before(at)) {
				at, ok = when, true
			}
		}
	}
	return at, ok
}

// livePools tells how the pools stand.
func (e *Engine) livePools() (list []watcher.Pool) {
	if e.fleet == nil {
		return nil
	}
	for _, p := range e.fleet.Pools() {
		list = append(list, watcher.Pool{Name: p.Name, Helpers: len(p.Helpers), Workers: p.Workers, Busy: p.Busy,
			Away: p.Why})
	}
	return list
}

// livingElsewhere notes on which machine a running job's command is.
func (e *Engine) livingElsewhere(j watcher.Job) watcher.Job {
	r := e.flow.Rules().Rule(j.Rule)
	if e.fleet == nil || r == nil || !r.Travels() {
		return j
	}
	j.Pool = r.Pool.S
	j.On, j.Fetched = e.fleet.Where(j.ID)
	return j
}
