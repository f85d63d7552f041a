package flow

import (
	"time"

	"stilltide/internal/core/job"
)

// MaxQueued is how many jobs of one rule may always wait in the memory, and
// MaxTogether how many of all rules; the rest wait in the ledger alone, so
// that a long queue does not grow the program. They are variables for tests.
var (
	MaxQueued   = 1000
	MaxTogether = 20_000
)

// window is the part of the queue that is in the memory.
type window struct {
	count map[string]int   // jobs in the memory, by rule
	total int              // of all rules
	more  map[string]bool  // rules with jobs in the ledger alone
	last  map[string]int64 // the greatest number that was taken from the ledger, by rule
	timed map[string]bool  // rules with jobs in the ledger alone that wait for their schedule

	asked   map[string]*helping // by rule: what is being read from the ledger
	pause   time.Time           // nothing is read before it
	filling bool
}

// full reports whether a job must wait in the ledger alone; otherwise it counts
// as being in the memory.
func (w *window) full(f *Flow, j *Job) bool {
	if f.open[j.row.ID] == j {
		return false // it is in the memory already
	}
	behind := w.more[j.row.Rule] && !w.filling // older ones wait there, too
	much := w.count[j.row.Rule] >= MaxQueued && w.total >= MaxTogether
	if (behind || much) && j.row.State == job.Queued {
		w.leave(j.row.Rule)
		return true
	}
	w.came(j.row.Rule)
	return false
}

// wait leaves a job in the ledger until its rule's schedule says.
func (w *window) wait(rule string) {
	if w.timed == nil {
		w.timed = map[string]bool{}
	}
	w.timed[rule] = true
}

func (w *window) leave(rule string) {
	if w.more == nil {
		w.more, w.last = map[string]bool{}, map[string]int64{}
	}
	w.more[rule] = true
	if h := w.asked[rule]; h != nil {
		h.more = true
	}
}

// came counts a job that is in the memory from now on.
func (w *window) came(rule string) {
	w.count[rule]++
	w.total++
}

// left is told when a job leaves the memory.
func (w *window) left(f *Flow, j *Job) {
	if f.open[j.row.ID] == j && w.count[j.row.Rule] > 0 {
		w.count[j.row.Rule]--
		w.total--
	}
}

// refill has queued jobs be read from the ledger when the memory runs low of them.
func (w *window) refill(f *Flow, now time.Time) {
	if w.pause.After(now) {
		return
	}
	for name := range w.more {
		if w.asked[name] == nil && w.count[name] <= MaxQueued/2 && f.mayFill(name) {
			w.ask(f, name)
		}
	}
}

// mayFill reports whether jobs of a rule may begin at all.
func (f *Flow) mayFill(rule string) bool { return !f.stopping && !f.holding && !f.isHeld(rule) }

// helping is a number of a rule's jobs that is read from the ledger.
type helping struct {
	rule  string
	after int64
	more  bool // a job was left in the ledger since this was asked
	stale bool // jobs there are to be taken from the first on since
	// jobs that left the memory since: what is read may still have them as queued
	over map[int64]bool
}

// ask has one helping of a rule's jobs be read. They must be in the tables first.
func (w *window) ask(f *Flow, name string) {
	h := &helping{rule: name, after: w.last[name], over: map[int64]bool{}}
	if w.asked == nil {
		w.asked = map[string]*helping{}
	}
	w.asked[name] = h
	set := f.set
	f.read("", func(from Source) Answer {
		err := from.Flush()
		var rows []job.Job
		if err == nil {
			rows, err = from.OpenJobs(name, []job.State{job.Queued, job.Held}, h.after, MaxQueued/2)
		}
		f.lookIntoRows(from, set, rows)
		return func(now time.Time) { w.filled(f, h, rows, err, now) }
	})
}

// refillAgain is when it is tried again what could not be read.
const refillAgain = time.Second

// filled takes a helping of a rule's jobs into the memory.
func (w *window) filled(f *Flow, h *helping, rows []job.Job, err error, now time.Time) {
	name := h.rule
	delete(w.asked, name)
	switch {
	case err != nil: // the ledger says itself what is wrong
		w.pause = now.Add(refillAgain)
		return
	case h.stale || !f.mayFill(name):
		return // it is asked anew
	}
	w.filling = true
	defer func() { w.filling = false }()
	for _, row := range rows {
		w.last[name] = max(w.last[name], row.ID)
		if row.State == job.Held && f.beforeTime(f.set.Rule(name), row, now) {
			w.wait(name)
			continue
		}
		if f.open[row.ID] == nil && !h.over[row.ID] {
			was := row.State
			row.Become(job.Queued)
			f.Restore(row, was, nil, now)
		}
	}
	if len(rows) < MaxQueued/2 && !h.more {
		delete(w.more, name)
		delete(w.last, name)
	}
}

// over is told of a job that leaves the memory.
func (w *window) over(j *Job) {
	if h := w.asked[j.row.Rule]; h != nil {
		h.over[j.row.ID] = true
	}
}

// anew has all jobs of a rule that wait in the ledger be taken from there again.
func (w *window) anew(rule string) {
	if h := w.asked[rule]; h != nil {
		h.stale = true
	}
	w.leave(rule)
	w.last[rule] = 0
}

// holds reports whether the open job of a path waits in the ledger alone.
func (w *window) holds(f *Flow, path string) bool {
	if len(w.more)+len(w.timed) == 0 || f.byPath[path] != nil {
		return false
	}
	row, ok, err := f.store.OpenJob(path)
	return err == nil && ok && f.open[row.ID] == nil
}

// find brings the open job of a path into the memory, if it may be in the
// ledger alone.
func (w *window) find(f *Flow, path string) {
	if len(w.more)+len(w.timed) == 0 || f.byPath[path] != nil {
		return
	}
	row, ok, err := f.store.OpenJob(path)
	if err != nil || !ok || f.open[row.ID] != nil {
		return
	}
	j := f.adopt(row, row.State, nil)
	if j.rule != nil && row.State != job.Held {
		f.enqueue(j)
	}
}
