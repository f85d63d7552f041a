package engine

import (
	"errors"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/work"
)

// begin starts an attempt, if the job's files still are what was taken.
func (f *flow) begin(j *openJob, now time.Time) {
	if f.isAbsent(j.row.Watch) {
		f.hold(j)
		return
	}
	if j.row.Event != file.Removed && !j.checked.Equal(now) && !f.still(j, now) {
		return
	}
	j.row.Attempts++
	j.row.Become(job.Running)
	j.row.Due = time.Time{}
	if j.row.Started.IsZero() {
		j.row.Started = now
	}
	if len(j.rule.Steps) == 0 {
		f.record(j)
		f.end(j, job.Processed, now)
		return
	}
	f.newAttempt(j, job.Attempt{Job: j.row.ID, Number: j.row.Attempts, Started: now})
	f.record(j)
	f.running[j.row.ID] = j
	f.starts = append(f.starts, &attempt{
		wishes: j.wishes,
		job:    j, number: j.row.Attempts, plan: f.planned(j, now), unless: j.unless, set: f.set, chain: j.chain(),
		more: f.others(j), left: j.setback().left,
		hash: j.row.Event != file.Removed && !j.row.Facts.Dir && j.rule.Gather == nil &&
			(!j.rule.Moves() || j.rule.Uses("hash") || j.rule.Again == rule.AgainNever),
		never: j.rule.Again == rule.AgainNever && j.row.Event != file.Removed,
	})
}

// newAttempt makes an attempt the job's last. The one before gets a row of its own,
// unless it did not count.
func (f *flow) newAttempt(j *openJob, a job.Attempt) {
	if last := j.row.Last; last != nil && last.Number < a.Number {
		f.store.RecordAttempt(*last)
	}
	j.row.Last = &a
}

// still looks at a job's files again before it starts. One that changed must
// settle again first; one that is gone leaves the job.
func (f *flow) still(j *openJob, now time.Time) bool {
	taken := map[string]file.Facts{j.row.File: j.row.Facts}
	for _, m := range j.row.Extra {
		taken[m.File] = m.Facts
	}
	var gone []string
	for _, path := range j.row.Files() {
		facts, err := f.look(path)
		switch {
		case err != nil:
		case !facts.Exists:
			gone = append(gone, path)
		case !facts.Same(taken[path]) || facts.Writers == file.Some && j.rule.Ready.Writers != rule.WritersIgnore:
			set(&j.parked, path)
		}
	}
	if len(gone) == 0 && len(j.parked) == 0 {
		return true
	}
	f.dispatch.Done(j.row.ID)
	for _, path := range gone {
		if !f.dropMember(j, path, now) {
			return false
		}
	}
	if len(j.parked) == 0 {
		f.requeue(j, now)
		return false
	}
	j.row.Become(job.Settling)
	f.record(j)
	for path := range j.parked {
		f.wait(path, j.rule, settle.Nudged, now)
	}
	return false
}

// unpark goes on with a job whose file has settled again.
func (f *flow) unpark(j *openJob, path string, facts file.Facts, now time.Time) {
	delete(j.parked, path)
	if path == j.row.File {
		j.row.Facts, j.spot = facts, plan.Spot{} // its size or time may be part of its place
	}
	for i := range j.row.Extra {
		if j.row.Extra[i].File == path {
			j.row.Extra[i].Facts = facts
		}
	}
	if len(j.parked) == 0 {
		f.requeue(j, now)
	}
}

func (f *flow) requeue(j *openJob, now time.Time) {
	j.row.Become(job.Queued)
	j.checked = now
	f.record(j)
	f.enqueue(j)
}

// memberGone is told that a file of a job that waits is no longer there.
func (f *flow) memberGone(j *openJob, path string, now time.Time) {
	if f.dropMember(j, path, now) && len(j.parked) == 0 {
		f.requeue(j, now)
	}
}

// dropMember takes a file out of a job; false if that was its last, so that
// the job is over.
func (f *flow) dropMember(j *openJob, path string, now time.Time) bool {
	if len(j.row.Files()) < 2 {
		f.finish(j, job.Vanished, "the file was gone before its job could run", "", now)
		return false
	}
	delete(f.byPath, path)
	delete(j.parked, path)
	marker := plan.MarkerOf(j.rule, path)
	if path == j.row.File {
		at := slices.IndexFunc(j.row.Extra, func(m job.Member) bool { return !m.Companion })
		first := j.row.Extra[at]
		j.row.File, j.row.Facts, j.row.FileNow, j.spot = first.File, first.Facts, first.File, plan.Spot{}
		path = first.File
	}
	j.row.Extra = slices.DeleteFunc(slices.Clone(j.row.Extra), func(m job.Member) bool {
		return m.File == path || m.Companion && m.File == marker && marker != ""
	})
	return true
}

// hold keeps a job while its watched folder is not there.
func (f *flow) hold(j *openJob) {
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Held)
	f.record(j)
	f.held = append(f.held, j)
}

// unhold lets the jobs go on whose watched folder is there again.
func (f *flow) unhold() {
	held := f.held
	f.held = nil
	for _, j := range held {
		if f.isAbsent(j.row.Watch) {
			f.held = append(f.held, j)
			continue
		}
		if f.open[j.row.ID] != j {
			continue
		}
		j.row.Become(job.Queued)
		j.checked = time.Time{}
		f.record(j)
		f.enqueue(j)
	}
}

func (f *flow) planned(j *openJob, now time.Time) plan.Job {
	p := plan.Job{
		Rule: j.rule, ID: j.row.ID, File: j.row.File, Watch: j.row.Watch, Facts: j.row.Facts, Event: j.row.Event,
		Attempt: j.row.Attempts, Captures: j.captures, Hash: j.row.Hash, Now: now,
	}
	if j.row.Event != file.Removed {
		f.complete(j.rule, p.File, &p.Facts)
	}
	if j.rule.Gather != nil {
		p.Files = j.row.Files()
	}
	return p
}

// others are the further files of a batch or group.
func (f *flow) others(j *openJob) []work.Unit {
	var list []work.Unit
	for _, m := range j.row.Extra {
		if !m.Companion {
			list = append(list, work.Unit{Taken: m.File, At: m.File, Facts: m.Facts,
				Captures: f.capturesOf(j.rule, m.File)})
		}
	}
	return list
}

// capturesOf returns what a rule's patterns capture of a path.
func (f *flow) capturesOf(r *rule.Rule, path string) map[string]string {
	for _, c := range f.candidates(path) {
		if c.Rule == r {
			return c.Captures
		}
	}
	return nil
}

// where reports where a file of the job is now, and how it looks there.
func (j *openJob) where(path string, taken file.Facts) work.Unit {
	if u, ok := j.now[path]; ok {
		return u
	}
	return work.Unit{Taken: path, At: path, Facts: taken}
}

// follow notes where an attempt left the job's files.
func (j *openJob) follow(units []work.Unit) {
	j.now = map[string]work.Unit{}
	for _, u := range units {
		j.now[u.Taken] = u
	}
	j.row.FileNow = j.where(j.row.File, j.row.Facts).At
	for i := range j.row.Extra {
		m := &j.row.Extra[i]
		m.FileNow = j.where(m.File, m.Facts).At
	}
}

// putBackIn notes how a file looks that was put back where it was taken.
func putBackIn(row *job.Job, u work.Unit) {
	if u.At == row.File {
		row.Facts.Dev, row.Facts.Ino = u.Facts.Dev, u.Facts.Ino
	}
	for i := range row.Extra {
		if m := &row.Extra[i]; m.File == u.At {
			m.Facts.Dev, m.Facts.Ino = u.Facts.Dev, u.Facts.Ino
		}
	}
}

// attemptEnded decides what follows an attempt.
func (f *flow) attemptEnded(res attemptResult, now time.Time) {
	j := f.open[res.id]
	if j == nil {
		return
	}
	f.dispatch.Idle(res.id)
	delete(f.running, res.id)
	if !res.ok {
		f.inHand.leave(res.id) // it has its files back
	}
	if res.hash != "" {
		j.row.Hash = res.hash
	}
	if res.unmade {
		f.unmade(j, res, now)
		return
	}
	if res.stopped && !j.cancel {
		j.row.Attempts--
		j.row.Become(job.Queued)
		f.record(j)
		f.drop(j)
		return
	}
	f.noteAttempt(j, res, now)
	if j.cancel {
		f.finish(j, job.Cancelled, "it was cancelled by hand while it ran", j.row.FileNow, now)
		return
	}
	if j.stopOld && !res.astray {
		f.restart(j, now)
		return
	}
	j.row.Exit, j.row.Reason, j.cause = res.exit, res.reason, res.reason
	j.tries = append(j.tries, plan.Try{Started: now.Add(-res.ran), Ran: res.ran, Reason: res.reason})
	if j.rule.Running == rule.RunOwnWork {
		if facts, err := f.look(j.row.File); err == nil && facts.Exists && j.where(j.row.File,
			facts).At == j.row.File {
			j.row.Facts, j.row.Hash = facts, "" // the change is the job's own work
			delete(j.now, j.row.File)
		}
	}
	f.afterAttempt(j, res, now)
}

// noteAttempt notes what an attempt has left.
func (f *flow) noteAttempt(j *openJob, res attemptResult, now time.Time) {
	f.newAttempt(j, job.Attempt{Job: res.id, Number: j.row.Attempts, Started: now.Add(-res.ran), Ended: now,
		Exit: res.exit, Reason: res.reason, CPU: res.cpu, Memory: res.memory, Output: res.output})
	j.row.Ran += res.ran
	if len(res.took) > 0 || j.held != nil {
		j.hold().took = res.took
	}
	j.row.Result = res.result
	for _, rest := range res.rests {
		j.keepRest(rest)
	}
	j.leave(res.left)
	if res.units != nil {
		j.follow(res.units)
		for i := 0; i < len(res.units) && !res.ok; i++ {
			putBackIn(&j.row, res.units[i])
		}
	}
}

// afterAttempt sends a job where an attempt's outcome leads.
func (f *flow) afterAttempt(j *openJob, res attemptResult, now time.Time) {
	switch {
	case res.same:
		j.cause = "the same content was handled before"
		f.end(j, job.Skipped, now)
	case res.ok:
		if j.rule.Again == rule.AgainNever && j.row.Hash != "" {
			f.store.RememberContent(j.row.Rule, j.row.Hash, j.row.ID)
		}
		if j.rule.Runs() {
			f.afterCommand(j)
		}
		f.end(j, job.Processed, now)
	case res.astray:
		f.end(j, job.Failed, now)
	case res.missing:
		f.missingProgram(j, res)
	case res.waits:
		f.waitForRoom(j, res, now)
	default:
		f.failed(j, res, now)
	}
}

// waitForRoom tries a job again that failed for want of room or of a disk:
// that is not the file's fault, and the attempt does not count.
func (f *flow) waitForRoom(j *openJob, res attemptResult, now time.Time) {
	j.row.Earlier++
	s := j.suffer()
	s.wait, s.why = min(max(2*s.wait, 2*time.Second), time.Minute), res.reason
	first := j.row.State != job.Retrying && s.wait == 2*time.Second
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Retrying)
	j.row.Due = now.Add(s.wait)
	f.record(j)
	f.enqueue(j)
	if first {
		f.outcomes = append(f.outcomes, Outcome{Job: j.asItIs(), Next: j.row.Due, Waits: true})
	}
}

// missingProgram blocks a rule whose program is not there, and holds its jobs: this one, too,
// and the attempt does not count.
func (f *flow) missingProgram(j *openJob, res attemptResult) {
	j.row.Earlier++
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Queued)
	j.row.Reason = res.reason
	f.record(j)
	f.enqueue(j)
	f.blockForProgram(j.row.Rule, res.reason)
}

// blockForProgram blocks a rule until its program is there and a person says resume, or the
// rules are read again.
func (f *flow) blockForProgram(name, why string) {
	if f.troubles[name] == "" {
		set(&f.lacking, name)
		f.trouble(name, why)
	}
}

// restart lets a job whose file changed meanwhile begin anew, once it has
// settled; the attempt that was stopped for it does not count.
func (f *flow) restart(j *openJob, now time.Time) {
	f.dispatch.Done(j.row.ID)
	j.stopOld = false
	j.row.Earlier++
	set(&j.parked, j.row.File)
	j.row.Become(job.Settling)
	f.record(j)
	f.wait(j.row.File, j.rule, settle.Nudged, now)
}

// failed sends a job into its next attempt, or to its end.
func (f *flow) failed(j *openJob, res attemptResult, now time.Time) {
	exit := -1
	if res.exit != nil {
		exit = *res.exit
	}
	if j.row.Event != file.Removed && len(j.row.Extra) == 0 {
		if facts, err := f.look(j.row.File); err == nil && !facts.Exists {
			f.finish(j, job.Vanished, "the file was gone when its attempt failed: "+j.cause, "", now)
			return
		}
	}
	wait, again := retryOf(j.rule).Again(j.row.Attempts-j.row.Earlier, exit, f.chance())
	if !again || res.hopeless {
		f.end(j, job.Failed, now)
		return
	}
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Retrying)
	j.row.Due = now.Add(wait)
	f.record(j)
	f.enqueue(j)
	f.outcomes = append(f.outcomes, Outcome{Job: j.asItIs(), Next: j.row.Due})
}

// asItIs is a copy of a job that goes on.
func (j *openJob) asItIs() *job.Job {
	row := j.row
	return &row
}

func retryOf(r *rule.Rule) dispatch.Retry {
	t := r.Retry
	return dispatch.Retry{Times: t.Times, First: t.Delay.Duration, Factor: float64(t.Factor),
		Longest: t.MaxDelay.Duration, Jitter: float64(t.Jitter), NeverOn: t.NeverExit}
}

// chain lists the rules that the job's input went through before.
func (j *openJob) chain() []string {
	if j.row.Chain == "" {
		return nil
	}
	return strings.Split(j.row.Chain, ",")
}

// cancelJob takes a job out of the queue, or stops it.
func (f *flow) cancelJob(id int64, now time.Time) error {
	j := f.open[id]
	switch {
	case j == nil:
		return errNotOpen
	case f.running[id] != nil:
		j.cancel = true
		f.stops = append(f.stops, id)
	case j.row.State == job.Running:
		return errors.New("its input is being placed, which cannot be stopped")
	default:
		f.settle.Forget(j.row.File)
		f.finish(j, job.Cancelled, "it was cancelled by hand", j.row.File, now)
	}
	return nil
}

var errNotOpen = errors.New("the job is over, or there is none with this number")

// drop takes a job out of the memory.
func (f *flow) drop(j *openJob) {
	f.window.left(f, j)
	f.dispatch.Done(j.row.ID)
	f.dispatch.Remove(j.row.ID)
	f.leavePaths(j)
	f.inHand.leave(j.row.ID)
}
