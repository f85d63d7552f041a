package flow

import (
	"maps"
	"path/filepath"
	"slices"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// Batch is what a rule has done since it was last idle.
type Batch struct {
	Rule     string
	Count    map[job.State]int
	Failed   []job.Job // the first of the failed ones
	Folder   string    // that all processed inputs are in now, or below; "" for none
	Began    time.Time
	Ended    time.Time
	Returned bool // its folder had come back before: a card, a disk
}

// Jobs is how many jobs ended.
func (b Batch) Jobs() int {
	n := 0
	for _, c := range b.Count {
		n += c
	}
	return n
}

// idleFor is how long a rule must have nothing to do for its batch to be over.
const idleFor = time.Second

// maxFailedListed bounds the failed jobs that a batch lists.
const maxFailedListed = 20

// batches keeps the batches under way, by rule.
type batches struct {
	open     map[string]*Batch
	idle     map[string]time.Time // since when a rule with a batch has nothing to do
	returned map[string]bool      // rules whose folder came back
}

// ended counts a job that is over.
func (b *batches) ended(j *Job, now time.Time) {
	if b.open == nil {
		b.open, b.idle = map[string]*Batch{}, map[string]time.Time{}
	}
	name := j.row.Rule
	batch := b.open[name]
	if batch == nil {
		batch = &Batch{Rule: name, Count: map[job.State]int{}, Began: j.row.Taken, Returned: b.returned[name]}
		delete(b.returned, name)
		b.open[name] = batch
	}
	batch.Count[j.row.State]++
	if j.row.State == job.Failed && len(batch.Failed) < maxFailedListed {
		batch.Failed = append(batch.Failed, j.row)
	}
	if j.row.State == job.Processed && j.row.FileNow != "" {
		batch.Folder = above(batch.Folder, filepath.Dir(j.row.FileNow))
	}
	batch.Ended = now
	delete(b.idle, name)
}

// above is the folder that both folders are, or lie in; the second one if the first is "".
func above(a, b string) string {
	if a == "" {
		return b
	}
	for a != b {
		if _, below := plan.Below(b, a); below {
			break
		}
		a = filepath.Dir(a)
	}
	return a
}

// caughtUp returns the batches that are over by now.
func (f *Flow) caughtUp(now time.Time) {
	if len(f.batches.open) == 0 {
		return
	}
	for name, batch := range f.batches.open {
		if f.isBusy(name) || f.window.count[name] > 0 || f.window.more[name] {
			delete(f.batches.idle, name)
			continue
		}
		since, ok := f.batches.idle[name]
		if !ok {
			f.batches.idle[name] = now
			continue
		}
		if now.Sub(since) >= idleFor {
			delete(f.batches.open, name)
			delete(f.batches.idle, name)
			f.out.CaughtUp = append(f.out.CaughtUp, *batch)
		}
	}
}

// AllCaughtUp ends all batches: a sweep that is over has nothing left to do.
func (f *Flow) AllCaughtUp() {
	for _, name := range slices.Sorted(maps.Keys(f.batches.open)) {
		f.out.CaughtUp = append(f.out.CaughtUp, *f.batches.open[name])
	}
	clear(f.batches.open)
}

// isBusy reports whether files wait to settle for a rule, or are looked into.
func (f *Flow) isBusy(rule string) bool {
	if f.settle.Waits(rule) {
		return true
	}
	for _, o := range f.opening.files {
		if o.under == rule {
			return true
		}
	}
	return false
}

// next is when a batch may be over.
func (b *batches) next() (at time.Time, ok bool) {
	for _, since := range b.idle {
		if due := since.Add(idleFor); !ok || due.Before(at) {
			at, ok = due, true
		}
	}
	return at, ok
}

// cameBack notes that the folder of rules is there again.
func (f *Flow) cameBack(folder string) {
	for _, r := range f.set.Rules() {
		for _, own := range r.Folders {
			if own == folder {
				mark(&f.batches.returned, r.Name.S)
				if b := f.batches.open[r.Name.S]; b != nil {
					b.Returned = true
				}
			}
		}
	}
}
