package underway

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
)

// lookIntoRows looks into the files of jobs that come from the ledger, which does not keep what was
// found. A file system that may not answer is asked when the job is to start.
func (js *Jobs) lookIntoRows(from turn.Source, set *plan.Set, rows []job.Job) {
	for i := range rows {
		if r := set.Rule(rows[i].Rule); r != nil && rows[i].Event != file.Removed && !js.Eyes.Unsure(rows[i].File) {
			from.Complete(set, r, rows[i].File, &rows[i].Facts)
		}
	}
}

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
	More  map[string]bool  // rules with jobs in the ledger alone
	last  map[string]int64 // the greatest number that was taken from the ledger, by rule
	timed map[string]bool  // rules with jobs in the ledger alone that wait for their schedule

	asked   map[string]*helping // by rule: what is being read from the ledger
	pause   time.Time           // nothing is read before it
	filling bool
}

// full reports whether a job must wait in the ledger alone; otherwise it counts
// as being in the memory.
func (w *window) full(js *Jobs, j *Job) bool {
	if js.ByID[j.Row.ID] == j {
		return false // it is in the memory already
	}
	behind := w.More[j.Row.Rule] && !w.filling // older ones wait there, too
	much := w.count[j.Row.Rule] >= MaxQueued && w.total >= MaxTogether
	if (behind || much) && j.Row.State == job.Queued {
		w.Leave(j.Row.Rule)
		return true
	}
	w.came(j.Row.Rule)
	return false
}

// wait leaves a job in the ledger until its rule's schedule says.
func (w *window) wait(rule string) {
	if w.timed == nil {
		w.timed = map[string]bool{}
	}
	w.timed[rule] = true
}

// Leave notes that jobs of a rule wait in the ledger alone.
func (w *window) Leave(rule string) {
	if w.More == nil {
		w.More, w.last = map[string]bool{}, map[string]int64{}
	}
	w.More[rule] = true
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
func (w *window) left(js *Jobs, j *Job) {
	if js.ByID[j.Row.ID] == j && w.count[j.Row.Rule] > 0 {
		w.count[j.Row.Rule]--
		w.total--
	}
}

// Refill has queued jobs be read from the ledger when the memory runs low of them.
func (w *window) Refill(js *Jobs, now time.Time) {
	if w.pause.After(now) {
		return
	}
	for name := range w.More {
		if w.asked[name] == nil && w.count[name] <= MaxQueued/2 && js.mayFill(name) {
			w.ask(js, name)
		}
	}
}

// mayFill reports whether jobs of a rule may begin at all.
func (js *Jobs) mayFill(rule string) bool { return !js.Ending && !js.Holding && !js.IsHeld(rule) }

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
func (w *window) ask(js *Jobs, name string) {
	h := &helping{rule: name, after: w.last[name], over: map[int64]bool{}}
	if w.asked == nil {
		w.asked = map[string]*helping{}
	}
	w.asked[name] = h
	set := js.Set
	js.Read("", func(from turn.Source) turn.Answer {
		err := from.Flush()
		var rows []job.Job
		if err == nil {
			rows, err = from.OpenJobs(name, []job.State{job.Queued, job.Held}, h.after, MaxQueued/2)
		}
		js.lookIntoRows(from, set, rows)
		return func(now time.Time) { w.filled(js, h, rows, err, now) }
	})
}

// refillAgain is when it is tried again what could not be read.
const refillAgain = time.Second

// filled takes a helping of a rule's jobs into the memory.
func (w *window) filled(js *Jobs, h *helping, rows []job.Job, err error, now time.Time) {
	name := h.rule
	delete(w.asked, name)
	switch {
	case err != nil: // the ledger says itself what is wrong
		w.pause = now.Add(refillAgain)
		return
	case h.stale || !js.mayFill(name):
		return // it is asked anew
	}
	w.filling = true
	defer func() { w.filling = false }()
	for _, row := range rows {
		w.last[name] = max(w.last[name], row.ID)
		if row.State == job.Held && js.beforeTime(js.Set.Rule(name), row, now) {
			w.wait(name)
			continue
		}
		if js.ByID[row.ID] == nil && !h.over[row.ID] {
			was := row.State
			row.Become(job.Queued)
			js.Restore(row, was, nil, now)
		}
	}
	if len(rows) < MaxQueued/2 && !h.more {
		delete(w.More, name)
		delete(w.last, name)
	}
}

// over is told of a job that leaves the memory.
func (w *window) over(j *Job) {
	if h := w.asked[j.Row.Rule]; h != nil {
		h.over[j.Row.ID] = true
	}
}

// anew has all jobs of a rule that wait in the ledger be taken from there again.
func (w *window) anew(rule string) {
	if h := w.asked[rule]; h != nil {
		h.stale = true
	}
	w.Leave(rule)
	w.last[rule] = 0
}

// Holds reports whether the open job of a path waits in the ledger alone.
func (w *window) Holds(js *Jobs, path string) bool {
	if len(w.More)+len(w.timed) == 0 || js.ByPath[path] != nil {
		return false
	}
	row, ok, err := js.Store.OpenJob(path)
	return err == nil && ok && js.ByID[row.ID] == nil
}

// Find brings the open job of a path into the memory, if it may be in the
// ledger alone.
func (w *window) Find(js *Jobs, path string) {
	if len(w.More)+len(w.timed) == 0 || js.ByPath[path] != nil {
		return
	}
	row, ok, err := js.Store.OpenJob(path)
	if err != nil || !ok || js.ByID[row.ID] != nil || row.State != job.Queued && row.State != job.Held {
		return // one that had begun, and is not in the memory, waits for its folder
	}
	if js.Set.Rule(row.Rule) != nil && !js.Fits(row) {
		return // it ends when its turn comes to be taken from the ledger
	}
	j := js.adopt(row, row.State, nil)
	if j.Rule != nil && row.State != job.Held {
		js.Enqueue(j)
	}
}
