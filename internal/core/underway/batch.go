package underway

import (
	"maps"
	"path/filepath"
	"slices"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
)

// idleFor is how long a rule must have nothing to do for its batch to be over.
const idleFor = time.Second

// maxFailedListed bounds the failed jobs that a batch lists.
const maxFailedListed = 20

// batches keeps the batches under way, by rule.
type batches struct {
	open     map[string]*turn.Batch
	idle     map[string]time.Time // since when a rule with a batch has nothing to do
	returned map[string]bool      // rules whose folder came back
}

// ended counts a job that is over.
func (b *batches) ended(j *Job, now time.Time) {
	if b.open == nil {
		b.open, b.idle = map[string]*turn.Batch{}, map[string]time.Time{}
	}
	name := j.Row.Rule
	batch := b.open[name]
	if batch == nil {
		batch = &turn.Batch{Rule: name, Count: map[job.State]int{}, Began: j.Row.Taken, Returned: b.returned[name]}
		delete(b.returned, name)
		b.open[name] = batch
	}
	batch.Count[j.Row.State]++
	if j.Row.State == job.Failed && len(batch.Failed) < maxFailedListed {
		batch.Failed = append(batch.Failed, j.Row)
	}
	if j.Row.State == job.Processed && j.Row.FileNow != "" {
		batch.Folder = above(batch.Folder, filepath.Dir(j.Row.FileNow))
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

// CaughtUp returns the batches that are over by now.
func (js *Jobs) CaughtUp(now time.Time) {
	if len(js.Batches.open) == 0 {
		return
	}
	for name, batch := range js.Batches.open {
		if js.ways.IsBusy(name) || js.Window.count[name] > 0 || js.Window.More[name] {
			delete(js.Batches.idle, name)
			continue
		}
		since, ok := js.Batches.idle[name]
		if !ok {
			js.Batches.idle[name] = now
			continue
		}
		if now.Sub(since) >= idleFor {
			delete(js.Batches.open, name)
			delete(js.Batches.idle, name)
			js.Out.CaughtUp = append(js.Out.CaughtUp, *batch)
		}
	}
}

// AllCaughtUp ends all batches: a sweep that is over has nothing left to do.
func (js *Jobs) AllCaughtUp() {
	for _, name := range slices.Sorted(maps.Keys(js.Batches.open)) {
		js.Out.CaughtUp = append(js.Out.CaughtUp, *js.Batches.open[name])
	}
	clear(js.Batches.open)
}

// Next is when a batch may be over.
func (b *batches) Next() (at time.Time, ok bool) {
	for _, since := range b.idle {
		if due := since.Add(idleFor); !ok || due.Before(at) {
			at, ok = due, true
		}
	}
	return at, ok
}

// CameBack notes that the folder of rules is there again.
func (js *Jobs) CameBack(folder string) {
	for _, r := range js.Set.Rules() {
		for _, own := range r.Folders {
			if own == folder {
				Mark(&js.Batches.returned, r.Name.S)
				if b := js.Batches.open[r.Name.S]; b != nil {
					b.Returned = true
				}
			}
		}
	}
}
