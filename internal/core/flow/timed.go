package flow

import (
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
)

// beforeTime reports whether a job must wait for its rule's schedule: only its
// first attempt does, and only for the first time after it was taken. A time
// that passed while nothing ran is thus made up once. A sweep of that rule
// alone does not wait: a person says so.
func (f *Flow) beforeTime(r *rule.Rule, row job.Job, now time.Time) bool {
	if r == nil || r.Schedule.Line == nil || row.Attempts > 0 || len(f.chosen.Rules) > 0 {
		return false
	}
	due := r.Schedule.Line.Next(row.Taken.Add(-time.Nanosecond))
	return due.After(now)
}

// holdForTime keeps a job in the ledger, and looks when its time comes.
func (f *Flow) holdForTime(j *Job, now time.Time) {
	if j.row.State != job.Held {
		j.row.Become(job.Held)
		f.record(j)
	}
	f.window.wait(j.row.Rule)
	f.awaitTime(j.rule, now)
}

func (f *Flow) awaitTime(r *rule.Rule, now time.Time) {
	if f.timed == nil {
		f.timed = map[string]time.Time{}
	}
	if _, ok := f.timed[r.Name.S]; !ok {
		f.timed[r.Name.S] = r.Schedule.Line.Next(now)
	}
}

// timesCame lets the jobs go whose time has come: they are taken from the
// ledger as there is room.
func (f *Flow) timesCame(now time.Time) {
	for name, due := range f.timed {
		if due.After(now) {
			continue
		}
		delete(f.timed, name)
		delete(f.window.timed, name)
		for _, j := range f.open {
			if j.row.Rule == name && j.row.State == job.Held && !f.rests(j) && j.rule != nil {
				j.row.Become(job.Queued)
				j.checked = time.Time{}
				f.record(j)
				f.enqueue(j)
			}
		}
		f.window.anew(name)
	}
	for name := range f.window.timed {
		if r := f.set.Rule(name); r != nil && r.Schedule.Line != nil {
			f.awaitTime(r, now)
		} else {
			delete(f.window.timed, name) // the rule has no schedule any more
			f.window.anew(name)
		}
	}
}
