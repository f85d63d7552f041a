// Package dispatch decides which job runs next.
//
// The Machine is told about jobs, their limits and their ends. Asked for the
// next job, it returns one, or the time at which it makes sense to ask again.
// A free worker goes to the highest priority, then to the rule with the fewest
// running jobs, then follows that rule's own order. No worker is left idle while
// anything may run. So that slow rules cannot hold up the others, a rule that has
// a job waiting and none running gets one worker beyond the number when none has
// come free for a second.
//
// The jobs of a rule with a pool run on other machines: they need a place in that pool, and
// none of the workers here.
package dispatch

import (
	"container/heap"
	"slices"
	"time"

	"stilltide/internal/core/file"
)

// Order is the order in which one rule's jobs start.
type Order string

const (
	ByArrival Order = "arrival"
	ByName    Order = "name"
	Oldest    Order = "oldest"
	Newest    Order = "newest"
	Smallest  Order = "smallest"
)

// Job is what the machine must know of a job.
type Job struct {
	ID   int64 // grows with arrival
	Rule string
	Key  string    // jobs with the same key never run at the same time; "" for none
	Due  time.Time // not before; zero for at once
	Path string
	Size int64
	Mod  file.Time
	// Alone: no other job that holds a worker runs beside it.
	Alone bool
}

// Rule is what the machine must know of a rule.
type Rule struct {
	Name  string
	Queue string // "" for the common one
	Order Order
	Light bool   // its jobs run no command, so they need no worker
	Held  bool   // paused, or before its time: nothing starts
	Pool  string // the pool of other machines that run its jobs, "" for the workers here
}

// Queue is a named queue's own bounds.
type Queue struct {
	Workers  int           // 0 for no bound but the common one
	Count    int           // at most Count starts in Per; 0 for no bound
	Per      time.Duration //
	Priority int           // higher goes first
}

// Machine holds the jobs that are not done. Use New.
type Machine struct {
	workers int
	rules   map[string]*line
	queues  map[string]*queue
	pools   map[string]*pool
	jobs    map[int64]*entry
	keys    map[string]int64 // which job holds a key
	busy    []*line          // rules with jobs that wait, and perhaps some without
	working int              // jobs that hold a worker
	alone   int              // those of them that run alone: one or none
	full    time.Time        // since when no worker has come free, zero if one is
}

// pool is what other machines can take.
type pool struct{ places, working int }

type queue struct {
	Queue
	working int
	starts  []time.Time // the last Count starts
}

// line is one rule's jobs.
type line struct {
	Rule
	queue   *queue
	ready   readyHeap
	later   dueHeap
	blocked map[string][]*entry // by the key they wait for
	working int
	listed  bool // among the machine's busy ones
}

func (l *line) empty() bool { return len(l.ready.entries)+len(l.later.entries) == 0 }

type entry struct {
	Job
	line    *line
	running bool
	holds   *queue // in which it has a worker, nil if it has none
	far     *pool  // in which that is a place on another machine, nil if it is not
	slot    int    // place in ready or later
	where   place
}

type place int

const (
	nowhere place = iota
	inReady
	inLater
	inBlocked
)

// New makes a machine that lets so many jobs run at once.
func New(workers int) *Machine {
	return &Machine{workers: max(1, workers), rules: map[string]*line{}, queues: map[string]*queue{"": {}},
		pools: map[string]*pool{}, jobs: map[int64]*entry{}, keys: map[string]int64{}}
}

// SetWorkers changes the bound; running jobs go on.
func (m *Machine) SetWorkers(n int) { m.workers = max(1, n) }

// SetPool sets how many jobs the machines of a pool can take at once; running ones go on.
func (m *Machine) SetPool(name string, places int) { m.pool(name).places = places }

func (m *Machine) pool(name string) *pool {
	if m.pools[name] == nil {
		m.pools[name] = &pool{}
	}
	return m.pools[name]
}

// SetQueue sets a named queue's bounds.
func (m *Machine) SetQueue(name string, q Queue) {
	if old := m.queues[name]; old != nil {
		old.Queue = q
		return
	}
	m.queues[name] = &queue{Queue: q}
}

// SetRule reports a rule, or changes what is known of it.
func (m *Machine) SetRule(r Rule) {
	q := m.queues[r.Queue]
	if q == nil {
		q = &queue{}
		m.queues[r.Queue] = q
	}
	if l := m.rules[r.Name]; l != nil {
		reorder := l.Order != r.Order
		l.Rule, l.queue, l.ready.order = r, q, r.Order
		if reorder {
			heap.Init(&l.ready)
		}
		return
	}
	m.rules[r.Name] = &line{Rule: r, queue: q, ready: readyHeap{order: r.Order}, blocked: map[string][]*entry{}}
}

// HoldRule lets nothing more of a rule start; what runs goes on.
func (m *Machine) HoldRule(name string) {
	if l := m.rules[name]; l != nil {
		l.Held = true
	}
}

// Add puts a job in. Its rule must be known; a job that is already there is replaced.
func (m *Machine) Add(j Job) {
	m.Remove(j.ID)
	l := m.rules[j.Rule]
	e := &entry{Job: j, line: l}
	m.jobs[j.ID] = e
	m.list(l)
	if j.Due.IsZero() {
		e.pushReady()
		return
	}
	e.where = inLater
	heap.Push(&l.later, e)
}

// list notes that a rule has something to do: of many rules few have at a time.
func (m *Machine) list(l *line) {
	if !l.listed {
		l.listed = true
		m.busy = append(m.busy, l)
	}
}

// unlist drops the rules that have nothing to do any more.
func (m *Machine) unlist() {
	m.busy = slices.DeleteFunc(m.busy, func(l *line) bool {
		l.listed = !l.empty()
		return !l.listed
	})
}

// Remove takes a job out that is not running.
func (m *Machine) Remove(id int64) bool {
	e := m.jobs[id]
	if e == nil || e.running {
		return false
	}
	switch e.where {
	case inReady:
		heap.Remove(&e.line.ready, e.slot)
	case inLater:
		heap.Remove(&e.line.later, e.slot)
	case inBlocked:
		e.unblock()
	}
	delete(m.jobs, id)
	return true
}

// Len is the number of jobs, running ones included.
func (m *Machine) Len() int { return len(m.jobs) }

// Next returns a job that may start now and counts it as running.
func (m *Machine) Next(now time.Time) (Job, bool) {
	for {
		best := m.best(now)
		if best == nil {
			return Job{}, false
		}
		e := heap.Pop(&best.ready).(*entry)
		e.where = nowhere
		if holder, taken := m.keys[e.Key]; e.Key != "" && taken && holder != e.ID {
			e.where = inBlocked
			best.blocked[e.Key] = append(best.blocked[e.Key], e)
			continue
		}
		m.start(e, now)
		return e.Job, true
	}
}

func (m *Machine) start(e *entry, now time.Time) {
	e.running = true
	if e.Key != "" {
		m.keys[e.Key] = e.ID
	}
	q := e.line.queue
	if q.Count > 0 {
		q.starts = append(q.starts, now)
		if len(q.starts) > q.Count {
			q.starts = q.starts[1:]
		}
	}
	if !e.line.Light {
		e.holds = q // also if the rule moves to another one
		if e.line.Pool != "" {
			e.far = m.pool(e.line.Pool)
			e.far.working++
		} else {
			m.working++
		}
		if e.Alone {
			m.alone++
		}
		q.working++
		e.line.working++
	}
}

// best finds the rule whose turn it is.
func (m *Machine) best(now time.Time) *line {
	if m.working >= m.workers && m.full.IsZero() {
		m.full = now
	}
	var best *line
	idle := 0
	for _, l := range m.busy {
		if l.empty() {
			idle++
		}
		if l.Held {
			continue
		}
		l.wake(now)
		if len(l.ready.entries) > 0 && m.free(l, now) && (best == nil || m.before(l, best)) {
			best = l
		}
	}
	if idle > 0 {
		m.unlist()
	}
	return best
}

func (m *Machine) before(a, b *line) bool {
	pa, pb := a.queue.Priority, b.queue.Priority
	if pa != pb {
		return pa > pb
	}
	if a.working != b.working {
		return a.working < b.working
	}
	return a.ready.entries[0].ID < b.ready.entries[0].ID
}

// free reports whether a rule may have one more worker.
func (m *Machine) free(l *line, now time.Time) bool {
	q := l.queue
	if q.Count > 0 && len(q.starts) >= q.Count && now.Sub(q.starts[0]) < q.Per {
		return false
	}
	if l.Light {
		return true
	}
	if m.alone > 0 || l.ready.entries[0].Alone && m.anyWorks() {
		return false
	}
	if q.Workers > 0 && q.working >= q.Workers {
		return false
	}
	if l.Pool != "" {
		p := m.pool(l.Pool)
		return p.working < p.places
	}
	return m.working < m.workers || m.mayHelp(l) && !m.full.Add(helpAfter).After(now)
}

// anyWorks reports whether a job holds a worker, here or elsewhere.
func (m *Machine) anyWorks() bool {
	for _, p := range m.pools {
		if p.working > 0 {
			return true
		}
	}
	return m.working > 0
}

// helpAfter is how long no worker comes free until a rule that has none gets one more.
const helpAfter = time.Second

// mayHelp reports whether a rule could have the worker beyond the number: there is one in all,
// and none beside a single worker.
func (m *Machine) mayHelp(l *line) bool {
	return l.Pool == "" && m.workers > 1 && m.working == m.workers && l.working == 0 && !m.full.IsZero()
}

// Idle gives a running job's worker back; its key stays held.
func (m *Machine) Idle(id int64) {
	e := m.jobs[id]
	if e == nil || e.holds == nil {
		return
	}
	e.holds.working--
	e.holds = nil
	if e.far != nil {
		e.far.working--
		e.far = nil
	} else {
		m.working--
		m.full = time.Time{}
	}
	if e.Alone {
		m.alone--
	}
	e.line.working--
}

// Done forgets a running job and gives back all it held.
func (m *Machine) Done(id int64) {
	e := m.jobs[id]
	if e == nil || !e.running {
		return
	}
	m.Idle(id)
	delete(m.jobs, id)
	if e.Key == "" || m.keys[e.Key] != id {
		return
	}
	delete(m.keys, e.Key)
	for _, l := range m.rules {
		for _, b := range l.blocked[e.Key] {
			m.list(l)
			b.pushReady()
		}
		delete(l.blocked, e.Key)
	}
}

// Wake is the time at which a job becomes due or a rate allows another start;
// ok is false if only an event can change anything.
func (m *Machine) Wake(now time.Time) (at time.Time, ok bool) {
	sooner := func(t time.Time) {
		if !ok || t.Before(at) {
			at, ok = t, true
		}
	}
	for _, l := range m.busy {
		if l.Held {
			continue
		}
		if len(l.later.entries) > 0 {
			sooner(l.later.entries[0].Due)
		}
		q := l.queue
		if len(l.ready.entries) > 0 && !l.Light && m.alone == 0 && m.mayHelp(l) {
			if t := m.full.Add(helpAfter); t.After(now) {
				sooner(t)
			}
		}
		if len(l.ready.entries) > 0 && q.Count > 0 && len(q.starts) >= q.Count {
			if t := q.starts[0].Add(q.Per); t.After(now) {
				sooner(t)
			}
		}
	}
	return at, ok
}

// wake moves the jobs that are due to the ready ones.
func (l *line) wake(now time.Time) {
	for len(l.later.entries) > 0 && !l.later.entries[0].Due.After(now) {
		heap.Pop(&l.later).(*entry).pushReady()
	}
}

func (e *entry) pushReady() {
	e.where = inReady
	heap.Push(&e.line.ready, e)
}

func (e *entry) unblock() {
	list := e.line.blocked[e.Key]
	for i, b := range list {
		if b == e {
			e.line.blocked[e.Key] = append(list[:i], list[i+1:]...)
			return
		}
	}
}
