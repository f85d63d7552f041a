package underway

import (
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
)

// Lacks reports whether a rule needs to know more of a file's inside.
func (js *Jobs) Lacks(r *rule.Rule, facts *file.Facts) bool {
	return facts.Says().Lacks(js.Set.Needs(r))
}

// Complete finds out what is not known yet of a job's file: of one that an earlier run has taken,
// or that is not its first. A file system that may not answer is asked when the job is to start.
func (js *Jobs) Complete(r *rule.Rule, path string, facts *file.Facts) {
	if js.Lacks(r, facts) && !js.Eyes.Unsure(path) {
		js.Eyes.Complete(js.Set, r, path, facts)
	}
}

// RecordTaken records the jobs that were taken in this round and have not begun
// in it: one that begins soon has its row written once.
func (js *Jobs) RecordTaken() {
	for i, j := range js.Taken {
		switch {
		case j.recorded != "":
		case len(j.Row.Extra) == 0:
			js.Store.RecordTaken(j.Row)
			j.recorded = j.Row.State
		default:
			js.Record(j)
		}
		js.Taken[i] = nil
	}
	js.Taken = js.Taken[:0]
}

// AdoptPaths makes the job known by its files, markers too.
func (js *Jobs) AdoptPaths(j *Job) {
	if js.ByID[j.Row.ID] != j {
		js.reserve(j)
	}
	js.ByID[j.Row.ID] = j
	js.ByPath[j.Row.File] = j
	for i := range j.Row.Extra {
		js.ByPath[j.Row.Extra[i].File] = j
	}
}

// leavePaths is the opposite.
func (js *Jobs) leavePaths(j *Job) {
	j.over()
	js.unreserve(j)
	delete(js.ByID, j.Row.ID)
	js.Window.over(j)
	leave := func(path string) {
		if js.ByPath[path] == j {
			delete(js.ByPath, path)
		}
	}
	leave(j.Row.File)
	for i := range j.Row.Extra {
		leave(j.Row.Extra[i].File)
	}
}

// Enqueue has a job wait for a worker: in the memory, or in the ledger if there are many.
func (js *Jobs) Enqueue(j *Job) {
	if now := j.Checked; js.ByID[j.Row.ID] != j && js.beforeTime(j.Rule, j.Row, now) {
		js.holdForTime(j, now)
		return
	}
	if js.Window.full(js, j) {
		return // it stays in the ledger until there is room
	}
	js.AdoptPaths(j)
	js.Dispatch.Add(dispatch.Job{ID: j.Row.ID, Rule: j.Row.Rule, Key: js.keyOf(j), Due: j.Row.Due, Path: j.Row.File,
		Size: j.Row.Facts.Size, Mod: j.Row.Facts.Mod, Alone: j.Row.Crashes >= aloneAfter})
}

// keyOf fills serial_by, which counts over all rules. Content that may come only once is compared one job
// at a time.
func (js *Jobs) keyOf(j *Job) string {
	switch {
	case j.Rule.Key != nil:
		p := js.planned(j, j.Row.Taken)
		if key, err := j.Rule.Key.Fill(p.Lookup); err == nil {
			return "\x01" + key
		}
	case j.Rule.Again == rule.AgainNever:
		return "\x00" + j.Rule.Name.S
	}
	return ""
}

// Record has the ledger know a job as it is now.
func (js *Jobs) Record(j *Job) {
	if j.intended && j.Row.State.Final() && !j.extras {
		js.Store.RecordEnd(&j.Row, j.recorded)
	} else {
		js.Store.Record(j.Row, j.recorded)
	}
	if had := j.extras; had && len(j.Row.Extra) == 0 {
		js.Store.RecordMembers(j.Row) // they went
	}
	j.extras = j.extras || len(j.Row.Extra) > 0
	j.recorded = j.Row.State
}

// isRenamed reports whether the file of a job that is not over got another name under its hands.
func isRenamed(row job.Job) bool { return row.FileNow == "" && row.Event != file.Removed }

// adopt takes a job of an earlier run into the memory without queueing it.
// recorded is the state that its row has in the ledger.
func (js *Jobs) adopt(row job.Job, recorded job.State, tries []plan.Try) *Job {
	j := &Job{Row: row, recorded: recorded, Rule: js.Set.Rule(row.Rule), tries: tries, Others: true,
		Renamed: isRenamed(row)}
	j.Captures = take.Captures(js.Set, js.Store, row)
	j.Unless, _ = take.Unless(j.Rule, js.Store, row) // what cannot be read is handled again, not left out
	js.Window.came(row.Rule)
	js.AdoptPaths(j)
	return j
}

// Fits reports whether a job's rule, as it is now, would have taken its files. If the ledger cannot be read, the job
// stays.
func (js *Jobs) Fits(row job.Job) bool {
	still, err := take.Still(js.Set, js.Store, row)
	return still || err != nil
}

// Restore takes up a job of an earlier run, or one that is retried by hand.
func (js *Jobs) Restore(row job.Job, recorded job.State, tries []plan.Try, now time.Time) {
	j := js.adopt(row, recorded, tries)
	if !js.Fits(row) {
		js.NotTaken(j, row.FileNow, now)
		return
	}
	if row.State != recorded {
		js.Record(j)
	}
	js.Enqueue(j)
}
