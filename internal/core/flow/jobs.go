package flow

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
)

// begin starts an attempt, if the job's files still are what was taken.
func (f *Flow) begin(j *Job, now time.Time) {
	if f.rests(j) {
		f.hold(j)
		return
	}
	if j.row.Event != file.Removed && (!j.checked.Equal(now) && !f.still(j, now) || f.opens(j, now)) {
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
	f.out.Starts = append(f.out.Starts, &Attempt{
		wishes: j.wishes,
		job:    j, Number: j.row.Attempts, Plan: f.planned(j, now), Unless: j.unless, Set: f.set, Chain: j.chain(),
		more: f.others(j), Left: j.setback().left,
		Hash: j.row.Event != file.Removed && !j.row.Facts.Dir && j.rule.Gather == nil &&
			(!j.rule.Moves() || j.rule.Uses("hash") || j.rule.Again == rule.AgainNever),
		Away:  f.poolOf(j.rule) != "",
		Never: j.rule.Again == rule.AgainNever && j.row.Event != file.Removed && !j.forced,
	})
}

// newAttempt makes an attempt the job's last. The one before gets a row of its own,
// unless it did not count.
func (f *Flow) newAttempt(j *Job, a job.Attempt) {
	if last := j.row.Last; last != nil && last.Number < a.Number {
		f.store.RecordAttempt(*last)
	}
	j.row.Last = &a
}

// still looks at a job's files again before it starts. One that changed must
// settle again first; one that is gone leaves the job.
func (f *Flow) still(j *Job, now time.Time) bool {
	taken := map[string]file.Facts{j.row.File: j.row.Facts}
	for _, m := range j.row.Extra {
		taken[m.File] = m.Facts
	}
	var gone []string
	for _, path := range j.row.Files() {
		facts, err := f.eyes.Look(path)
		switch {
		case err != nil:
		case !facts.Exists:
			gone = append(gone, path)
		case !facts.Same(taken[path]) || facts.Writers == file.Some && j.rule.Ready.Writers != rule.WritersIgnore:
			mark(&j.parked, path)
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
	f.settleAgain(j, now)
	return false
}

// opens has a job's file be looked into before it starts, if that is to be done still.
func (f *Flow) opens(j *Job, now time.Time) bool {
	if !f.lacks(j.rule, &j.row.Facts) {
		return false
	}
	f.dispatch.Done(j.row.ID)
	mark(&j.parked, j.row.File)
	f.settleAgain(j, now)
	return true
}

// settleAgain has the files settle for which a job is parked.
func (f *Flow) settleAgain(j *Job, now time.Time) {
	if j.recorded == "" {
		f.record(j) // it was taken in this round
	}
	j.row.Become(job.Settling)
	f.record(j)
	for path := range j.parked {
		f.wait(path, j.rule, settle.Nudged, now)
	}
}

// unpark goes on with a job whose file has settled again.
func (f *Flow) unpark(j *Job, path string, facts file.Facts, now time.Time) {
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

func (f *Flow) requeue(j *Job, now time.Time) {
	j.row.Become(job.Queued)
	j.checked = now
	f.record(j)
	f.enqueue(j)
}

// memberGone is told that a file of a job that waits is no longer there.
func (f *Flow) memberGone(j *Job, path string, now time.Time) {
	if f.dropMember(j, path, now) && len(j.parked) == 0 {
		f.requeue(j, now)
	}
}

// dropMember takes a file out of a job; false if that was its last, so that
// the job is over.
func (f *Flow) dropMember(j *Job, path string, now time.Time) bool {
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
func (f *Flow) hold(j *Job) {
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Held)
	f.record(j)
	f.held = append(f.held, j)
}

// unhold lets the jobs go on whose watched folder is there again.
func (f *Flow) unhold() {
	held := f.held
	f.held = nil
	for _, j := range held {
		if f.rests(j) {
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

func (f *Flow) planned(j *Job, now time.Time) plan.Job {
	p := plan.Job{
		Rule: j.rule, ID: j.row.ID, File: j.row.File, Watch: j.row.Watch, Facts: j.row.Facts, Event: j.row.Event,
		OldFile: j.row.OldFile,
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
func (f *Flow) others(j *Job) []job.Unit {
	var list []job.Unit
	for _, m := range j.row.Extra {
		if !m.Companion {
			list = append(list, job.Unit{Taken: m.File, At: m.File, Facts: m.Facts,
				Captures: f.capturesOf(j.rule, m.File)})
		}
	}
	return list
}

// capturesOf returns what a rule's patterns capture of a path.
func (f *Flow) capturesOf(r *rule.Rule, path string) map[string]string {
	for _, c := range f.candidates(path) {
		if c.Rule == r {
			return c.Captures
		}
	}
	return nil
}

// where reports where a file of the job is now, and how it looks there.
func (j *Job) where(path string, taken file.Facts) job.Unit {
	if u, ok := j.now[path]; ok {
		return u
	}
	return job.Unit{Taken: path, At: path, Facts: taken}
}

// follow notes where an attempt left the job's files.
func (j *Job) follow(units []job.Unit) {
	j.now = map[string]job.Unit{}
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
func putBackIn(row *job.Job, u job.Unit) {
	if u.At == row.File {
		row.Facts.Dev, row.Facts.Ino = u.Facts.Dev, u.Facts.Ino
	}
	for i := range row.Extra {
		if m := &row.Extra[i]; m.File == u.At {
			m.Facts.Dev, m.Facts.Ino = u.Facts.Dev, u.Facts.Ino
		}
	}
}

// AttemptEnded decides what follows an attempt.
func (f *Flow) AttemptEnded(res AttemptEnd, now time.Time) {
	j := f.open[res.ID]
	if j == nil {
		return
	}
	f.dispatch.Idle(res.ID)
	delete(f.running, res.ID)
	if !res.OK {
		f.hands.Leave(res.ID) // it has its files back
	}
	if res.Hash != "" {
		j.row.Hash = res.Hash
	}
	if res.Unmade {
		f.unmade(j, res, now)
		return
	}
	if res.Stopped && !j.cancel {
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
	if j.stopOld && !res.Astray {
		f.restart(j, now)
		return
	}
	j.row.Exit, j.row.Reason, j.cause = res.Exit, res.Reason, res.Reason
	j.tries = append(j.tries, plan.Try{Started: now.Add(-res.Ran), Ran: res.Ran, Reason: res.Reason})
	if j.rule.Running == rule.RunOwnWork {
		if facts, err := f.eyes.Look(j.row.File); err == nil && facts.Exists && j.where(j.row.File,
			facts).At == j.row.File {
			j.row.Facts, j.row.Hash = facts, "" // the change is the job's own work
			delete(j.now, j.row.File)
		}
	}
	f.afterAttempt(j, res, now)
}

// noteAttempt notes what an attempt has left.
func (f *Flow) noteAttempt(j *Job, res AttemptEnd, now time.Time) {
	f.newAttempt(j, job.Attempt{Job: res.ID, Number: j.row.Attempts, Started: now.Add(-res.Ran), Ended: now,
		Exit: res.Exit, Reason: res.Reason, CPU: res.CPU, Memory: res.Memory, Output: res.Output})
	j.row.Ran += res.Ran
	if len(res.Took) > 0 || j.held != nil {
		j.hold().took = res.Took
	}
	j.row.Result = res.Result
	for _, rest := range res.Rests {
		j.keepRest(rest)
	}
	j.leave(res.Left)
	if res.Units != nil {
		j.follow(res.Units)
		for i := 0; i < len(res.Units) && !res.OK; i++ {
			putBackIn(&j.row, res.Units[i])
		}
	}
}

// afterAttempt sends a job where an attempt's outcome leads.
func (f *Flow) afterAttempt(j *Job, res AttemptEnd, now time.Time) {
	switch {
	case res.Same:
		j.cause = "the same content was handled before"
		f.end(j, job.Skipped, now)
	case res.OK:
		if j.rule.Again == rule.AgainNever && j.row.Hash != "" {
			f.store.RememberContent(j.row.Rule, j.row.Hash, j.row.ID)
		}
		if j.rule.Runs() {
			f.afterCommand(j)
		}
		f.end(j, job.Processed, now)
	case res.Astray:
		f.end(j, job.Failed, now)
	case res.Missing:
		f.missingProgram(j, res)
	case res.Waits:
		f.waitForRoom(j, res, now)
	default:
		f.failed(j, res, now)
	}
}

// waitForRoom tries a job again that failed for want of room or of a disk:
// that is not the file's fault, and the attempt does not count.
func (f *Flow) waitForRoom(j *Job, res AttemptEnd, now time.Time) {
	j.row.Earlier++
	s := j.suffer()
	s.wait, s.why = min(max(2*s.wait, 2*time.Second), time.Minute), res.Reason
	first := j.row.State != job.Retrying && s.wait == 2*time.Second
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Retrying)
	j.row.Due = now.Add(s.wait)
	f.record(j)
	f.enqueue(j)
	if first {
		f.out.Outcomes = append(f.out.Outcomes, Outcome{Job: j.asItIs(), Next: j.row.Due, Waits: true})
	}
}

// missingProgram blocks a rule whose program is not there, and holds its jobs: this one, too,
// and the attempt does not count.
func (f *Flow) missingProgram(j *Job, res AttemptEnd) {
	j.row.Earlier++
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Queued)
	j.row.Reason = res.Reason
	f.record(j)
	f.enqueue(j)
	f.BlockForProgram(j.row.Rule, res.Reason)
}

// BlockForProgram blocks a rule until its program is there and a person says resume, or the
// rules are read again.
func (f *Flow) BlockForProgram(name, why string) {
	if f.troubles[name] == "" {
		mark(&f.lacking, name)
		f.trouble(name, why)
	}
}

// restart lets a job whose file changed meanwhile begin anew, once it has
// settled; the attempt that was stopped for it does not count.
func (f *Flow) restart(j *Job, now time.Time) {
	f.dispatch.Done(j.row.ID)
	j.stopOld = false
	j.row.Earlier++
	mark(&j.parked, j.row.File)
	j.row.Become(job.Settling)
	f.record(j)
	f.wait(j.row.File, j.rule, settle.Nudged, now)
}

// failed sends a job into its next attempt, or to its end.
func (f *Flow) failed(j *Job, res AttemptEnd, now time.Time) {
	exit := -1
	if res.Exit != nil {
		exit = *res.Exit
	}
	if j.row.Event != file.Removed && len(j.row.Extra) == 0 {
		if facts, err := f.eyes.Look(j.row.File); err == nil && !facts.Exists {
			f.finish(j, job.Vanished, "the file was gone when its attempt failed: "+j.cause, "", now)
			return
		}
	}
	wait, again := retryOf(j.rule).Again(j.row.Attempts-j.row.Earlier, exit, f.chance())
	if !again || res.Hopeless {
		f.end(j, job.Failed, now)
		return
	}
	f.dispatch.Done(j.row.ID)
	j.row.Become(job.Retrying)
	j.row.Due = now.Add(wait)
	f.record(j)
	f.enqueue(j)
	f.out.Outcomes = append(f.out.Outcomes, Outcome{Job: j.asItIs(), Next: j.row.Due})
}

// asItIs is a copy of a job that goes on.
func (j *Job) asItIs() *job.Job {
	row := j.row
	return &row
}

func retryOf(r *rule.Rule) dispatch.Retry {
	t := r.Retry
	return dispatch.Retry{Times: t.Times, First: t.Delay.Duration, Factor: float64(t.Factor),
		Longest: t.MaxDelay.Duration, Jitter: float64(t.Jitter), NeverOn: t.NeverExit}
}

// chain lists the rules that the job's input went through before.
func (j *Job) chain() []string {
	if j.row.Chain == "" {
		return nil
	}
	return strings.Split(j.row.Chain, ",")
}

// cancelJob takes a job out of the queue, or stops it.
func (f *Flow) cancelJob(id int64, now time.Time) error {
	j := f.open[id]
	switch {
	case j == nil:
		return errNotOpen
	case f.running[id] != nil:
		j.cancel = true
		f.out.Stops = append(f.out.Stops, id)
	case j.row.State == job.Running:
		return errors.New("its input is being placed, which cannot be stopped")
	default:
		f.letGo(j.row.File)
		f.finish(j, job.Cancelled, "it was cancelled by hand", j.row.File, now)
	}
	return nil
}

var errNotOpen = errors.New("the job is over, or there is none with this number")

// drop takes a job out of the memory.
func (f *Flow) drop(j *Job) {
	f.window.left(f, j)
	f.dispatch.Done(j.row.ID)
	f.dispatch.Remove(j.row.ID)
	f.leavePaths(j)
	f.hands.Leave(j.row.ID)
}
