package underway

import (
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
)

// Begin starts an attempt, if the job's files still are what was taken.
func (js *Jobs) Begin(j *Job, now time.Time) {
	if js.rests(j) {
		js.hold(j)
		return
	}
	if j.Row.Event != file.Removed && (!j.Checked.Equal(now) && !js.still(j, now) || js.opens(j, now)) {
		return
	}
	j.Row.Attempts++
	j.Row.Become(job.Running)
	j.Row.Due, j.Outdated = time.Time{}, false
	if j.Row.Started.IsZero() {
		j.Row.Started = now
	}
	if len(j.Rule.Steps) == 0 {
		js.Record(j)
		js.End(j, job.Processed, now)
		return
	}
	js.newAttempt(j, job.Attempt{Job: j.Row.ID, Number: j.Row.Attempts, Started: now})
	js.Record(j)
	js.AtWork[j.Row.ID] = j
	p := js.planned(j, now)
	js.Out.Starts = append(js.Out.Starts, &turn.Attempt{
		Wishes: j.wishes,
		Number: j.Row.Attempts, Plan: p, Content: turn.ContentOf(&p, j.Unless, j.Forced), Set: js.Set, Chain: j.chain(),
		More: js.others(j), Left: j.Setback().left,
		Away: js.poolOf(j.Rule) != "",
	})
}

// newAttempt makes an attempt the job's last. The one before gets a row of its own, unless it did not count.
func (js *Jobs) newAttempt(j *Job, a job.Attempt) {
	if last := j.Row.Last; last != nil && last.Number < a.Number {
		js.Store.RecordAttempt(*last)
	}
	j.Row.Last = &a
}

// still looks at a job's files again before it starts. One that changed must
// settle again first; one that is gone leaves the job.
func (js *Jobs) still(j *Job, now time.Time) bool {
	taken := map[string]file.Facts{j.Row.File: j.Row.Facts}
	for _, m := range j.Row.Extra {
		taken[m.File] = m.Facts
	}
	var gone []string
	for _, path := range j.Row.Files() {
		facts, err := js.Eyes.Look(path)
		switch {
		case err != nil:
		case !facts.Exists && js.outOfSight(j, true) != nil:
			js.hold(j)
			return false
		case !facts.Exists:
			gone = append(gone, path)
		case !facts.Same(taken[path]) || facts.Writers == file.Some && j.Rule.Ready.Writers != rule.WritersIgnore:
			Mark(&j.Parked, path)
		}
	}
	if len(gone) == 0 && len(j.Parked) == 0 {
		return true
	}
	js.Dispatch.Done(j.Row.ID)
	for _, path := range gone {
		if !js.dropMember(j, path, now) {
			return false
		}
	}
	if len(j.Parked) == 0 {
		js.requeue(j, now, now)
		return false
	}
	js.settleAgain(j, now)
	return false
}

// opens has a job's file be looked into before it starts, if that is to be done still.
func (js *Jobs) opens(j *Job, now time.Time) bool {
	if !js.Lacks(j.Rule, &j.Row.Facts) {
		return false
	}
	js.Dispatch.Done(j.Row.ID)
	Mark(&j.Parked, j.Row.File)
	js.settleAgain(j, now)
	return true
}

// settleAgain has the files settle for which a job is parked.
func (js *Jobs) settleAgain(j *Job, now time.Time) {
	if j.recorded == "" {
		js.Record(j) // it was taken in this round
	}
	j.Row.Become(job.Settling)
	js.Record(j)
	for path := range j.Parked {
		js.ways.Wait(path, j.Rule, settle.Nudged, now)
	}
}

// Unpark goes on with a job whose file has settled again.
func (js *Jobs) Unpark(j *Job, path string, facts file.Facts, now time.Time) {
	delete(j.Parked, path)
	if path == j.Row.File {
		j.Row.Facts, j.Spot = facts, plan.Spot{} // its size or time may be part of its place
	}
	for i := range j.Row.Extra {
		if j.Row.Extra[i].File == path {
			j.Row.Extra[i].Facts = facts
		}
	}
	if len(j.Parked) > 0 {
		return
	}
	checked := now
	if len(j.Row.Extra) > 0 {
		checked = time.Time{} // the others settled before, perhaps long ago
	}
	js.requeue(j, checked, now)
}

// requeue has a job wait for a worker again; checked is when all of its files were looked at, zero
// if that is to be done before it starts.
func (js *Jobs) requeue(j *Job, checked, now time.Time) {
	j.Row.Become(job.Queued)
	j.Checked = checked
	js.Record(j)
	js.Enqueue(j)
}

// MemberGone is told that a file of a job that waits is no longer there. While its folder is not there, it may be.
func (js *Jobs) MemberGone(j *Job, path string, now time.Time) {
	if js.outOfSight(j, true) != nil {
		if delete(j.Parked, path); len(j.Parked) == 0 {
			js.hold(j)
		}
		return
	}
	if js.dropMember(j, path, now) && len(j.Parked) == 0 {
		js.requeue(j, time.Time{}, now)
	}
}

// dropMember takes a file out of a job; false if that was its last, so that the job is over.
func (js *Jobs) dropMember(j *Job, path string, now time.Time) bool {
	if len(j.Row.Files()) < 2 {
		js.Finish(j, job.Vanished, "the file was gone before its job could run", "", now)
		return false
	}
	delete(js.ByPath, path)
	delete(j.Parked, path)
	marker := plan.MarkerOf(j.Rule, path)
	if path == j.Row.File {
		at := slices.IndexFunc(j.Row.Extra, func(m job.Member) bool { return !m.Companion })
		first := j.Row.Extra[at]
		j.Row.File, j.Row.Facts, j.Row.FileNow, j.Spot = first.File, first.Facts, first.File, plan.Spot{}
		path = first.File
	}
	j.Row.Extra = slices.DeleteFunc(slices.Clone(j.Row.Extra), func(m job.Member) bool {
		return m.File == path || m.Companion && m.File == marker && marker != ""
	})
	return true
}

// hold keeps a job while its watched folder is not there.
func (js *Jobs) hold(j *Job) {
	js.Dispatch.Done(j.Row.ID)
	j.Row.Become(job.Held)
	js.Record(j)
	js.held = append(js.held, j)
}

// Unhold lets the jobs go on whose watched folder is there again.
func (js *Jobs) Unhold() {
	held := js.held
	js.held = nil
	for _, j := range held {
		if js.rests(j) {
			js.held = append(js.held, j)
			continue
		}
		if js.ByID[j.Row.ID] != j {
			continue
		}
		j.Row.Become(job.Queued)
		j.Checked = time.Time{}
		js.Record(j)
		js.Enqueue(j)
	}
}

func (js *Jobs) planned(j *Job, now time.Time) plan.Job {
	p := plan.Job{
		Rule: j.Rule, ID: j.Row.ID, File: j.Row.File, Watch: j.Row.Watch, Facts: j.Row.Facts, Event: j.Row.Event,
		OldFile: j.Row.OldFile,
		Attempt: j.Row.Attempts, Captures: j.Captures, Hash: j.Row.Hash, Now: now,
	}
	if j.Row.Event != file.Removed {
		js.Complete(j.Rule, p.File, &p.Facts)
	}
	if j.Rule.Gather != nil {
		p.Files = j.Row.Files()
	}
	return p
}

// others are the further files of a batch or group.
func (js *Jobs) others(j *Job) []job.Unit {
	var list []job.Unit
	for _, m := range j.Row.Extra {
		if !m.Companion {
			list = append(list, job.Unit{Taken: m.File, At: m.File, Facts: m.Facts,
				Captures: js.capturesOf(j.Rule, m.File)})
		}
	}
	return list
}

// capturesOf returns what a rule's patterns capture of a path.
func (js *Jobs) capturesOf(r *rule.Rule, path string) map[string]string {
	for _, c := range js.ways.Candidates(path) {
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
	if at := j.where(j.Row.File, j.Row.Facts).At; !j.Renamed || at != j.Row.File {
		j.Row.FileNow = at
	}
	for i := range j.Row.Extra {
		m := &j.Row.Extra[i]
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
func (js *Jobs) AttemptEnded(res turn.AttemptEnd, now time.Time) {
	j := js.ByID[res.ID]
	if j == nil {
		return
	}
	js.Dispatch.Idle(res.ID)
	delete(js.AtWork, res.ID)
	if !res.OK {
		js.hands.Leave(res.ID) // it has its files back
	}
	if res.Hash != "" {
		j.Row.Hash = res.Hash
	}
	if res.Unmade {
		js.unmade(j, res, now)
		return
	}
	if res.Stopped && !j.cancel {
		j.Row.Attempts--
		j.Row.Become(job.Queued)
		js.Record(j)
		js.drop(j)
		return
	}
	js.noteAttempt(j, res, now)
	if j.cancel && !res.OK { // else it came too late: all that the steps did is done
		js.Finish(j, job.Cancelled, "it was cancelled by hand while it ran", j.Row.FileNow, now)
		return
	}
	if j.StopOld && !res.Astray {
		js.restart(j, now)
		return
	}
	j.Row.Exit, j.Row.Reason, j.Cause = res.Exit, res.Reason, res.Reason
	j.tries = append(j.tries, plan.Try{Started: now.Add(-res.Ran), Ran: res.Ran, Reason: res.Reason})
	if j.Rule.Running == rule.RunOwnWork {
		if facts, err := js.Eyes.Look(j.Row.File); err == nil && facts.Exists && j.where(j.Row.File,
			facts).At == j.Row.File {
			j.Row.Facts, j.Row.Hash = facts, "" // the change is the job's own work
			delete(j.now, j.Row.File)
		}
	}
	js.afterAttempt(j, res, now)
}

// noteAttempt notes what an attempt has left.
func (js *Jobs) noteAttempt(j *Job, res turn.AttemptEnd, now time.Time) {
	js.newAttempt(j, job.Attempt{Job: res.ID, Number: j.Row.Attempts, Started: now.Add(-res.Ran), Ended: now,
		Exit: res.Exit, Reason: res.Reason, CPU: res.CPU, Memory: res.Memory, Output: res.Output})
	j.Row.Ran += res.Ran
	if len(res.Took) > 0 || j.held != nil {
		j.Hold().took = res.Took
	}
	j.Row.Result = res.Result
	for _, rest := range res.Rests {
		j.keepRest(rest)
	}
	j.leave(res.Left)
	if res.Units != nil {
		j.follow(res.Units)
		for i := 0; i < len(res.Units) && !res.OK; i++ {
			putBackIn(&j.Row, res.Units[i])
		}
	}
}

// rememberContent has a rule that handles no content twice know what it took, and what that has become.
func (js *Jobs) rememberContent(j *Job, res turn.AttemptEnd) {
	if j.Rule.Again != rule.AgainNever {
		return
	}
	if res.Handled != "" {
		js.Store.RememberContent(j.Row.Rule, res.Handled, j.Row.ID)
	}
	if j.Row.Hash != "" && j.Row.Hash != res.Handled {
		js.Store.RememberContent(j.Row.Rule, j.Row.Hash, j.Row.ID)
	}
}

// afterAttempt sends a job where an attempt's outcome leads.
func (js *Jobs) afterAttempt(j *Job, res turn.AttemptEnd, now time.Time) {
	switch {
	case res.Same:
		j.Cause = "the same content was handled before"
		js.End(j, job.Skipped, now)
	case res.OK:
		js.rememberContent(j, res)
		if j.Rule.Runs() {
			js.afterCommand(j)
		}
		js.End(j, job.Processed, now)
	case res.Astray:
		js.End(j, job.Failed, now)
	case res.Missing:
		js.missingProgram(j, res)
	case res.Waits:
		js.waitForRoom(j, res, now)
	default:
		if err := js.outOfSight(j, true); err != nil { // that is why it failed
			res.Reason = err.Error()
			js.waitForRoom(j, res, now)
			return
		}
		js.failed(j, res, now)
	}
}

// byDay is the time of day so much later: that is what is shown, and what the ledger keeps. The running clock, by which
// Go would go else, stands still while the machine sleeps.
func byDay(now time.Time, wait time.Duration) time.Time { return now.Round(0).Add(wait) }

// waitForRoom tries a job again that failed for want of room or of a disk:
// that is not the file's fault, and the attempt does not count.
func (js *Jobs) waitForRoom(j *Job, res turn.AttemptEnd, now time.Time) {
	j.Row.Earlier++
	s := j.suffer()
	s.wait, s.why = min(max(2*s.wait, 2*time.Second), time.Minute), res.Reason
	first := j.Row.State != job.Retrying && s.wait == 2*time.Second
	js.Dispatch.Done(j.Row.ID)
	j.Row.Become(job.Retrying)
	j.Row.Due = byDay(now, s.wait)
	js.Record(j)
	js.Enqueue(j)
	if first {
		js.Out.Outcomes = append(js.Out.Outcomes, turn.Outcome{Job: j.asItIs(), Next: j.Row.Due, Waits: true})
	}
}

// missingProgram blocks a rule whose program is not there, and holds its jobs: this one, too,
// and the attempt does not count.
func (js *Jobs) missingProgram(j *Job, res turn.AttemptEnd) {
	j.Row.Earlier++
	js.Dispatch.Done(j.Row.ID)
	j.Row.Become(job.Queued)
	j.Row.Reason = res.Reason
	js.Record(j)
	js.Enqueue(j)
	js.BlockForProgram(j.Row.Rule, res.Reason)
}

// BlockForProgram blocks a rule until its program is there and a person says resume, or the rules are read again.
func (js *Jobs) BlockForProgram(name, why string) {
	if js.InTrouble[name] == "" {
		Mark(&js.Lacking, name)
		js.Trouble(name, why)
	}
}

// restart lets a job whose file changed meanwhile begin anew, once it has
// settled; the attempt that was stopped for it does not count.
func (js *Jobs) restart(j *Job, now time.Time) {
	js.Dispatch.Done(j.Row.ID)
	j.StopOld = false
	j.Row.Earlier++
	Mark(&j.Parked, j.Row.File)
	j.Row.Become(job.Settling)
	js.Record(j)
	js.ways.Wait(j.Row.File, j.Rule, settle.Nudged, now)
}

// failed sends a job into its next attempt, or to its end.
func (js *Jobs) failed(j *Job, res turn.AttemptEnd, now time.Time) {
	exit := -1
	if res.Exit != nil {
		exit = *res.Exit
	}
	if j.Row.Event != file.Removed && len(j.Row.Extra) == 0 {
		if facts, err := js.Eyes.Look(j.Row.File); err == nil && !facts.Exists {
			js.Finish(j, job.Vanished, "the file was gone when its attempt failed: "+j.Cause, "", now)
			return
		}
	}
	wait, again := retryOf(j.Rule).Again(j.Row.Attempts-j.Row.Earlier, exit, js.chance())
	if !again || res.Hopeless {
		if j.Rule.Runs() {
			js.afterCommand(j)
		}
		js.End(j, job.Failed, now)
		return
	}
	js.Dispatch.Done(j.Row.ID)
	j.Row.Become(job.Retrying)
	j.Row.Due = byDay(now, wait)
	js.Record(j)
	js.Enqueue(j)
	js.Out.Outcomes = append(js.Out.Outcomes, turn.Outcome{Job: j.asItIs(), Next: j.Row.Due})
}

// asItIs is a copy of a job that goes on.
func (j *Job) asItIs() *job.Job {
	row := j.Row
	return &row
}

func retryOf(r *rule.Rule) dispatch.Retry {
	t := r.Retry
	return dispatch.Retry{Times: t.Times, First: t.Delay.Duration, Factor: float64(t.Factor),
		Longest: t.Longest(), Jitter: float64(t.Jitter), NeverOn: t.NeverExit}
}

// chain lists the rules that the job's input went through before.
func (j *Job) chain() []string {
	if j.Row.Chain == "" {
		return nil
	}
	return strings.Split(j.Row.Chain, ",")
}

// drop takes a job out of the memory.
func (js *Jobs) drop(j *Job) {
	js.Window.left(js, j)
	js.Dispatch.Done(j.Row.ID)
	js.Dispatch.Remove(j.Row.ID)
	js.leavePaths(j)
	js.hands.Leave(j.Row.ID)
}
