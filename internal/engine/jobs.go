package engine

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
)

// begin starts an attempt, if the job's files still are what was taken.
func (f *flow) begin(j *job, now time.Time) {
	if f.isAbsent(j.row.Watch) {
		f.hold(j)
		return
	}
	if j.row.Event != file.Removed && !j.checked.Equal(now) && !f.still(j, now) {
		return
	}
	j.row.Attempts++
	j.row.State, j.row.Due = ledger.Running, time.Time{}
	if j.row.Started.IsZero() {
		j.row.Started = now
	}
	f.record(j)
	if len(j.rule.Steps) == 0 {
		f.end(j, ledger.Processed, now)
		return
	}
	f.store.RecordAttempt(ledger.Attempt{Job: j.row.ID, Number: j.row.Attempts, Started: now})
	f.running[j.row.ID] = j
	f.starts = append(f.starts, &attempt{
		job: j, number: j.row.Attempts, plan: f.planned(j, now), unless: j.unless,
		hash:  j.row.Event != file.Removed && !j.row.Facts.Dir && j.rule.Gather == nil && (!j.rule.Moves() || j.rule.Uses("hash") || j.rule.Again == rule.AgainNever),
		never: j.rule.Again == rule.AgainNever && j.row.Event != file.Removed,
	})
}

// still looks at a job's files again before it starts. One that changed must
// settle again first; one that is gone leaves the job.
func (f *flow) still(j *job, now time.Time) bool {
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
	j.row.State = ledger.Waiting
	f.record(j)
	for path := range j.parked {
		f.wait(path, j.rule, settle.Nudged, now)
	}
	return false
}

// unpark goes on with a job whose file has settled again.
func (f *flow) unpark(j *job, path string, facts file.Facts, now time.Time) {
	delete(j.parked, path)
	if path == j.row.File {
		j.row.Facts = facts
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

func (f *flow) requeue(j *job, now time.Time) {
	j.checked, j.row.State = now, ledger.Queued
	f.record(j)
	f.enqueue(j)
}

// memberGone is told that a file of a job that waits is not there any more.
func (f *flow) memberGone(j *job, path string, now time.Time) {
	if f.dropMember(j, path, now) && len(j.parked) == 0 {
		f.requeue(j, now)
	}
}

// dropMember takes a file out of a job; false if that was its last, so that
// the job is over.
func (f *flow) dropMember(j *job, path string, now time.Time) bool {
	if len(j.row.Files()) < 2 {
		f.finish(j, ledger.Gone, "the file was gone before its job could run", "", now)
		return false
	}
	delete(f.byPath, path)
	delete(j.parked, path)
	at := 0
	for i, m := range j.row.Extra {
		if m.File == path || path == j.row.File && !m.Companion {
			at = i
			break
		}
	}
	if path == j.row.File {
		first := j.row.Extra[at]
		j.row.File, j.row.Facts, j.row.EndsIn = first.File, first.Facts, first.File
	}
	j.row.Extra = append(j.row.Extra[:at:at], j.row.Extra[at+1:]...)
	return true
}

// hold keeps a job while its watched folder is not there.
func (f *flow) hold(j *job) {
	f.dispatch.Done(j.row.ID)
	j.row.State = ledger.Held
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
		if f.jobs[j.row.ID] != j {
			continue
		}
		j.row.State, j.checked = ledger.Queued, time.Time{}
		f.record(j)
		f.enqueue(j)
	}
}

func (f *flow) planned(j *job, now time.Time) plan.Job {
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

// attemptEnded decides what follows an attempt.
func (f *flow) attemptEnded(res attemptResult, now time.Time) {
	j := f.jobs[res.id]
	if j == nil {
		return
	}
	f.dispatch.Idle(res.id)
	delete(f.running, res.id)
	if res.hash != "" {
		j.row.Hash = res.hash
	}
	if res.stopped && !j.cancel {
		j.row.Attempts--
		j.row.State = ledger.Queued
		f.record(j)
		f.drop(j)
		return
	}
	f.store.RecordAttempt(ledger.Attempt{Job: res.id, Number: j.row.Attempts, Started: now.Add(-res.ran), Ended: now,
		Exit: res.exit, Reason: res.reason, CPU: res.cpu, Memory: res.memory, Output: res.output})
	j.row.Ran += res.ran
	if j.cancel {
		f.finish(j, ledger.Cancelled, "it was cancelled by hand while it ran", j.row.File, now)
		return
	}
	if j.stopOld {
		f.restart(j, now)
		return
	}
	j.row.Exit, j.row.Reason, j.cause = res.exit, res.reason, res.reason
	j.tries = append(j.tries, plan.Try{Started: now.Add(-res.ran), Ran: res.ran, Reason: res.reason})
	if j.rule.Running == rule.RunIgnore {
		if facts, err := f.look(j.row.File); err == nil && facts.Exists {
			j.row.Facts, j.row.Hash = facts, "" // the change is the job's own work
		}
	}
	switch {
	case res.same:
		j.cause = "the same content was handled before"
		f.end(j, ledger.Skipped, now)
	case res.ok:
		if j.rule.Again == rule.AgainNever && j.row.Hash != "" {
			f.store.RememberContent(j.row.Rule, j.row.Hash, j.row.ID)
		}
		f.end(j, ledger.Processed, now)
	default:
		f.failed(j, res, now)
	}
}

// restart lets a job whose file changed meanwhile begin anew, once it has
// settled; the attempt that was stopped for it does not count.
func (f *flow) restart(j *job, now time.Time) {
	f.dispatch.Done(j.row.ID)
	j.stopOld = false
	j.row.Earlier++
	set(&j.parked, j.row.File)
	j.row.State = ledger.Waiting
	f.record(j)
	f.wait(j.row.File, j.rule, settle.Nudged, now)
}

// failed sends a job into its next attempt, or to its end.
func (f *flow) failed(j *job, res attemptResult, now time.Time) {
	exit := -1
	if res.exit != nil {
		exit = *res.exit
	}
	if j.row.Event != file.Removed && len(j.row.Extra) == 0 {
		if facts, err := f.look(j.row.File); err == nil && !facts.Exists {
			f.finish(j, ledger.Gone, "the file was gone when its attempt failed: "+j.cause, "", now)
			return
		}
	}
	wait, again := retryOf(j.rule).Again(j.row.Attempts-j.row.Earlier, exit, f.chance())
	if !again {
		f.end(j, ledger.Failed, now)
		return
	}
	f.dispatch.Done(j.row.ID)
	j.row.State, j.row.Due = ledger.Retrying, now.Add(wait)
	f.record(j)
	f.enqueue(j)
	f.outcomes = append(f.outcomes, Outcome{Job: j.row, Next: j.row.Due})
}

func retryOf(r *rule.Rule) dispatch.Retry {
	t := r.Retry
	return dispatch.Retry{Times: t.Times, First: t.First.Duration, Factor: float64(t.Factor), Longest: t.Longest.Duration, Jitter: float64(t.Jitter), NeverOn: t.NeverOn}
}

// end sends the input where it belongs, or ends the job where it is.
func (f *flow) end(j *job, state ledger.State, now time.Time) {
	target := j.rule.Processed
	if state == ledger.Failed {
		target = j.rule.Failed
	}
	if j.row.Event == file.Removed {
		f.finish(j, state, j.cause, "", now)
		return
	}
	if target == nil {
		f.finish(j, state, j.cause, j.row.File, now)
		return
	}
	e, err := f.placing(j, state, target, now)
	switch {
	case err == nil && len(e.moves) == 0:
		f.placedEnd(placedEnd{id: j.row.ID, leads: state}, now)
	case err == nil:
		f.places = append(f.places, e)
	case state == ledger.Failed:
		f.finish(j, state, join(j.cause, "it stays where it is, because "+err.Error()), j.row.File, now)
	default:
		j.cause = err.Error()
		f.end(j, ledger.Failed, now)
	}
}

// placing plans the moves of a job's files. A marker goes where its file goes.
func (f *flow) placing(j *job, state ledger.State, target *rule.Place, now time.Time) (*placing, error) {
	main := f.planned(j, now)
	e := &placing{id: j.row.ID, leads: state}
	add := func(path string, facts file.Facts, companion bool) error {
		if _, done := j.landed[path]; done {
			return nil
		}
		p := main
		if path != j.row.File && !companion {
			p.File, p.Facts, p.Captures = path, facts, nil
			f.complete(j.rule, path, &p.Facts)
			for _, c := range f.set.Candidates(path) {
				if c.Rule == j.rule {
					p.Captures = c.Captures
				}
			}
		}
		folder, name, err := p.Destination(target)
		if err != nil {
			return err
		}
		if companion { // it goes along as it is now
			name = filepath.Base(path)
			if now, err := f.look(path); err == nil && now.Exists {
				facts = now
			}
		}
		if target := filepath.Join(folder, name); f.set.Watched(target) {
			chain := append(j.chain(), j.row.Rule)
			f.book.Placed(target, j.row.Rule, chain[:len(chain)-1])
			f.book.Placed(inode(facts), j.row.Rule, chain[:len(chain)-1])
		}
		e.moves = append(e.moves, move{
			request: place.Request{Source: path, Folder: folder, Name: name, Expect: facts, Part: place.PartName(f.set.File.StateFolder(), j.row.ID)},
			record:  ledger.Placement{ID: f.intent(j, path, state), Job: j.row.ID, Source: path, Target: filepath.Join(folder, name), Facts: facts, State: ledger.Intended, Leads: state},
		})
		return nil
	}
	if err := add(j.row.File, j.row.Facts, false); err != nil {
		return nil, err
	}
	for _, m := range j.row.Extra {
		if err := add(m.File, m.Facts, m.Companion); err != nil {
			return nil, err
		}
	}
	if state == ledger.Failed {
		e.note = &plan.Failure{Job: &main, Taken: j.row.File, Attempts: j.tries, Reason: j.cause, State: f.set.File.StateFolder(), Rules: f.set.File.Path}
	}
	return e, nil
}

// intent gives the number of a placement: the same each time it is tried.
func (f *flow) intent(j *job, path string, leads ledger.State) int64 {
	key := string(leads) + "\x00" + path
	if j.intents == nil {
		j.intents = map[string]int64{}
	}
	if j.intents[key] == 0 {
		j.intents[key] = f.store.NextPlacement()
	}
	return j.intents[key]
}

// placedEnd decides what follows a placing.
func (f *flow) placedEnd(p placedEnd, now time.Time) {
	j := f.jobs[p.id]
	if j == nil {
		return
	}
	if p.err != nil {
		f.postpone(j, p.leads, p.err, now)
		return
	}
	reason, endsIn := j.cause, map[string]string{}
	for path, at := range j.landed {
		endsIn[path] = at
	}
	for _, m := range p.moved {
		endsIn[m.source] = m.target
		if !errors.Is(m.err, place.ErrChanged) {
			continue
		}
		set(&j.again, m.source)
		if m.source == j.row.File {
			reason = join(reason, "the file changed while its job ran, so it stays and counts as a new one")
		}
	}
	for i := range j.row.Extra {
		j.row.Extra[i].EndsIn = endsIn[j.row.Extra[i].File]
	}
	f.finish(j, p.leads, reason, endsIn[j.row.File], now)
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// notPlacedYet begins the reason of a job whose placement is tried again.
const notPlacedYet = "its work is done, but it cannot be placed yet"

// causeOf is a job's reason without what is said of its placement.
func causeOf(reason string) string {
	cause, _, _ := strings.Cut(reason, notPlacedYet)
	return strings.TrimSuffix(cause, "; ")
}

// postpone keeps a job whose input could not be placed and tries the
// placement again, later and later; the command is not repeated.
func (f *flow) postpone(j *job, leads ledger.State, err error, now time.Time) {
	first := j.wait == 0
	j.wait = min(max(2*j.wait, time.Second), time.Minute)
	j.leads, j.retryAt = leads, now.Add(j.wait)
	f.late = append(f.late, j)
	if first {
		j.row.Reason = join(j.cause, fmt.Sprintf("%s: %v", notPlacedYet, err))
		f.record(j)
		f.outcomes = append(f.outcomes, Outcome{Job: j.row, Next: j.retryAt})
	}
}

func (f *flow) placeLate(now time.Time) {
	due := f.late
	f.late = nil
	for _, j := range due {
		if j.retryAt.After(now) {
			f.late = append(f.late, j)
			continue
		}
		f.end(j, j.leads, now)
	}
}

// finish ends a job for good.
func (f *flow) finish(j *job, state ledger.State, reason, endsIn string, now time.Time) {
	j.row.State, j.row.Reason, j.row.EndsIn, j.row.Ended, j.row.Due = state, reason, endsIn, now, time.Time{}
	f.record(j)
	f.remember(j, j.row.File, j.row.Facts, j.row.Hash, endsIn)
	for _, m := range j.row.Extra {
		if !m.Companion {
			f.remember(j, m.File, m.Facts, "", m.EndsIn)
		}
	}
	f.outcomes = append(f.outcomes, Outcome{Job: j.row})
	f.drop(j)
	if j.rule != nil && j.rule.Share && endsIn == j.row.File && state.Final() {
		set(&j.again, j.row.File) // the rules after it come next
	}
	for path := range j.again {
		if state == ledger.Processed && f.troubles[j.row.Rule] == "" && f.book.Again(j.row.Rule, path, now) {
			f.trouble(j.row.Rule, fmt.Sprintf("it circles: %s changes each time its own job runs; stilltide resume %s goes on (while_running: ignore takes such changes as the job's own)", path, j.row.Rule))
		}
		f.offer(path, j.row.Facts.Dir, settle.Nudged, now)
	}
}

// remember notes a file that stays, so that it is not taken again.
func (f *flow) remember(j *job, path string, facts file.Facts, hash, endsIn string) {
	if endsIn == path {
		f.store.Remember(ledger.Known{Rule: j.row.Rule, File: path, Facts: facts, Hash: hash, Job: j.row.ID})
	} else {
		f.store.Forget(j.row.Rule, path)
	}
}

// chain lists the rules that the job's input went through before.
func (j *job) chain() []string {
	if j.row.Chain == "" {
		return nil
	}
	return strings.Split(j.row.Chain, ",")
}

// cancelJob takes a job out of the queue, or stops it.
func (f *flow) cancelJob(id int64, now time.Time) error {
	j := f.jobs[id]
	switch {
	case j == nil:
		return errNotOpen
	case f.running[id] != nil:
		j.cancel = true
		f.stops = append(f.stops, id)
	case j.row.State == ledger.Running:
		return errors.New("its input is being placed, which cannot be stopped")
	default:
		f.settle.Forget(j.row.File)
		f.finish(j, ledger.Cancelled, "it was cancelled by hand", j.row.File, now)
	}
	return nil
}

var errNotOpen = errors.New("the job is over, or there is none with this number")

// drop takes a job out of the memory.
func (f *flow) drop(j *job) {
	f.window.left(f, j)
	f.dispatch.Done(j.row.ID)
	f.dispatch.Remove(j.row.ID)
	delete(f.jobs, j.row.ID)
	for _, p := range j.paths() {
		if f.byPath[p] == j {
			delete(f.byPath, p)
		}
	}
}
