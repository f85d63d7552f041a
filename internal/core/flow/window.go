package flow

import (
	"time"

	"stilltide/internal/core/job"
)

// MaxQueued is how many jobs of one rule may always wait in the memory, and
// maxTogether how many of all rules; the rest wait in the ledger alone, so
// that a long queue does not grow the program.
const MaxQueued = 1000

var MaxTogether = 20_000 // a variable for tests

// window is the part of the queue that is in the memory.
type window struct {
	count map[string]int   // jobs in the memory, by rule
	total int              // of all rules
	more  map[string]bool  // rules with jobs in the ledger alone
	last  map[string]int64 // the greatest number that was taken from the ledger, by rule
	timed map[string]bool  // rules with jobs in the ledger alone that wait for their schedule

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

// refill takes queued jobs from the ledger when the memory runs low of them.
func (w *window) refill(f *Flow, now time.Time) {
	w.filling = true
	defer func() { w.filling = false }()
	for name := range w.more {
		for w.more[name] && w.count[name] <= MaxQueued/2 && !f.stopping && !f.holding && !f.isHeld(name) {
			if !w.fill(f, name, now) {
				break // the ledger says itself what is wrong
			}
		}
	}
}

// fill takes one helping of a rule's jobs from the ledger.
func (w *window) fill(f *Flow, name string, now time.Time) bool {
	if f.store.Flush() != nil {
		return false
	}
	const helping = MaxQueued / 2
	rows, err := f.store.OpenJobs(name, []job.State{job.Queued, job.Held}, w.last[name], helping)
	if err != nil {
		return false
	}
	for _, row := range rows {
		w.last[name] = max(w.last[name], row.ID)
		if row.State == job.Held && f.beforeTime(f.set.Rule(name), row, now) {
			w.wait(name)
			continue
		}
		if f.open[row.ID] == nil {
			was := row.State
			row.Become(job.Queued)
			f.Restore(row, was, nil, now)
		}
	}
	if len(rows) < helping {
		delete(w.more, name)
		delete(w.last, name)
	}
	return true
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
