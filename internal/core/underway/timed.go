package underway

import (
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
)

// beforeTime reports whether a job must wait for its rule's schedule: only its
// first attempt does, and only for the first time after it was taken. A time
// that passed while nothing ran is thus made up once. A sweep of that rule
// alone does not wait: a person says so.
func (js *Jobs) beforeTime(r *rule.Rule, row job.Job, now time.Time) bool {
	if r == nil || r.Schedule.Line == nil || row.Attempts > 0 || len(js.Chosen.Rules) > 0 {
		return false
	}
	due := r.Schedule.Line.Next(row.Taken.Add(-time.Nanosecond))
	return due.After(now)
}

// holdForTime keeps a job in the ledger, and looks when its time comes.
func (js *Jobs) holdForTime(j *Job, now time.Time) {
	if j.Row.State != job.Held {
		j.Row.Become(job.Held)
		js.Record(j)
	}
	js.Window.wait(j.Row.Rule)
	js.awaitTime(j.Rule, now)
}

func (js *Jobs) awaitTime(r *rule.Rule, now time.Time) {
	if js.Timed == nil {
		js.Timed = map[string]time.Time{}
	}
	if _, ok := js.Timed[r.Name.S]; !ok {
		js.Timed[r.Name.S] = r.Schedule.Line.Next(now)
	}
}

// TimesCame lets the jobs go whose time has come: they are taken from the
// ledger as there is room.
func (js *Jobs) TimesCame(now time.Time) {
	for name, due := range js.Timed {
		if due.After(now) {
			continue
		}
		delete(js.Timed, name)
		delete(js.Window.timed, name)
		for _, j := range js.ByID {
			if j.Row.Rule == name && j.Row.State == job.Held && !js.rests(j) && j.Rule != nil {
				j.Row.Become(job.Queued)
				j.Checked = time.Time{}
				js.Record(j)
				js.Enqueue(j)
			}
		}
		js.Window.anew(name)
	}
	for name := range js.Window.timed {
		if r := js.Set.Rule(name); r != nil && r.Schedule.Line != nil {
			js.awaitTime(r, now)
		} else {
			delete(js.Window.timed, name) // the rule has no schedule any more
			js.Window.anew(name)
		}
	}
}
