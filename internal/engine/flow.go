package engine

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// store is what the flow needs of the ledger.
type store interface {
	NextID() int64
	NextPlacement() int64
	Record(j ledger.Job, was ledger.State)
	RecordAttempt(a ledger.Attempt)
	RecordPlacement(p ledger.Placement)
	Remember(k ledger.Known)
	Forget(rule, path string)
	Known(rule, path string) (ledger.Known, bool, error)
}

// flow decides, step by step, what becomes of every file: event, settled,
// taken, recorded, run, placed, recorded. It has no goroutine and no clock:
// the engine brings events, looks, results and the time, and carries out the
// effects that the flow leaves in starts, places and outcomes.
type flow struct {
	set      *plan.Set
	store    store
	look     func(path string) (file.Facts, error)
	chance   func() float64
	settle   settle.Machine
	dispatch *dispatch.Machine
	jobs     map[int64]*job
	byPath   map[string]*job // the job that is not over for a path
	reserved map[string]bool // paths that a command is putting back
	untaken  map[string]int  // files that no rule took, by folder
	late     []*job          // placements to be tried again
	stopping bool
	holding  bool // the ledger cannot be written: nothing starts

	starts   []*attempt
	places   []*placing
	outcomes []Outcome
}

// job is a job that is not over.
type job struct {
	row      ledger.Job
	recorded ledger.State
	rule     *rule.Rule
	captures map[string]string
	unless   string // skip if the content has this hash
	again    bool   // the file changed while the job ran: offer it when the job ends
	parked   bool   // taken, but no longer settled
	checked  time.Time
	tries    []plan.Try
	cause    string        // why the last attempt failed
	leads    ledger.State  // where a placement that is tried again leads
	retryAt  time.Time     // when that is
	wait     time.Duration // the last wait before that
}

// attempt is a job's steps to be run.
type attempt struct {
	job    *job
	number int
	plan   plan.Job
	unless string
	hash   bool // the content's hash is wanted
}

// attemptResult is how an attempt ended.
type attemptResult struct {
	id      int64
	stopped bool // by the watcher's end: it does not count
	same    bool // the content was handled before; nothing was run
	ok      bool
	exit    *int
	reason  string
	hash    string
	ran     time.Duration
	cpu     time.Duration
	memory  int64
	output  string // file below the state folder, "" if nothing was printed
}

// placing is an end move to be done.
type placing struct {
	job    *job
	leads  ledger.State
	record ledger.Placement
	move   place.Request
	note   *plan.Failure // beside the input, for the failed folder
}

// placedEnd is how an end move ended.
type placedEnd struct {
	id     int64
	leads  ledger.State
	target string
	err    error
}

// Outcome is a job whose state changed in a way that people want to see.
type Outcome struct {
	Job  ledger.Job
	Next time.Time // when a retrying job is tried again
	Note string    // failure note, "" if there is none
}

func newFlow(set *plan.Set, s store, look func(string) (file.Facts, error)) *flow {
	f := &flow{
		set: set, store: s, look: look, chance: rand.Float64, dispatch: dispatch.New(set.File.WorkerCount()),
		jobs: map[int64]*job{}, byPath: map[string]*job{}, reserved: map[string]bool{}, untaken: map[string]int{},
	}
	for _, r := range set.Rules() {
		f.dispatch.SetRule(dispatch.Rule{Name: r.Name.S, Light: len(r.Steps) == 0})
	}
	return f
}

// event takes what the watcher says about a file.
func (f *flow) event(e watchfs.Event, now time.Time) {
	if e.Dir {
		return
	}
	switch e.Kind {
	case watchfs.Created:
		f.offer(e.Path, settle.Created, now)
	case watchfs.Closed:
		f.offer(e.Path, settle.Closed, now)
	case watchfs.Moved:
		f.offer(e.Path, settle.Moved, now)
	case watchfs.Found:
		f.offer(e.Path, settle.Found, now)
	case watchfs.Removed:
		if f.settle.Has(e.Path) {
			f.offer(e.Path, settle.Nudged, now)
		}
	}
}

// offer begins to wait for a file if a rule could take it.
func (f *flow) offer(path string, kind settle.Kind, now time.Time) {
	if f.reserved[path] {
		return
	}
	if j := f.byPath[path]; j != nil && !j.parked {
		if kind != settle.Found {
			j.again = j.row.State == ledger.Running
		}
		return
	}
	candidates := f.set.Candidates(path)
	if len(candidates) == 0 {
		return
	}
	f.settle.Event(path, kind, plan.Policy(candidates[0].Rule), now)
}

// advance does all that is due by now.
func (f *flow) advance(now time.Time) {
	for _, path := range f.settle.Asks(now) {
		facts, err := f.look(path)
		if err != nil {
			facts = file.Facts{Exists: true} // there, but it cannot be looked at: no rule takes it
		}
		switch d := f.settle.Answer(path, facts, now); d.Verdict {
		case settle.Ready:
			f.settled(path, facts, now)
		case settle.Gone:
			if j := f.byPath[path]; j != nil && j.parked {
				f.finish(j, ledger.Gone, "the file was gone before its job could run", "", now)
			}
		}
	}
	f.placeLate(now)
	for !f.stopping && !f.holding {
		next, ok := f.dispatch.Next(now)
		if !ok {
			return
		}
		f.begin(f.jobs[next.ID], now)
	}
}

// wake is the time at which advance has something to do by itself.
func (f *flow) wake(now time.Time) (at time.Time, ok bool) {
	sooner := func(t time.Time, is bool) {
		if is && (!ok || t.Before(at)) {
			at, ok = t, true
		}
	}
	sooner(f.settle.Next())
	if !f.stopping && !f.holding {
		sooner(f.dispatch.Wake(now))
	}
	for _, j := range f.late {
		sooner(j.retryAt, true)
	}
	return at, ok
}

// settled gives a file that is ready to the first rule that takes it.
func (f *flow) settled(path string, facts file.Facts, now time.Time) {
	if j := f.byPath[path]; j != nil {
		if j.parked {
			f.unpark(j, facts, now)
		}
		return
	}
	for _, c := range f.set.Candidates(path) {
		known, ok, err := f.store.Known(c.Rule.Name.S, path)
		if err == nil && ok && known.Facts.Same(facts) {
			return // this rule has handled it already
		}
		if !c.Takes(facts) {
			continue
		}
		event := file.Added
		if ok {
			event = file.Changed
		}
		f.take(c, path, facts, event, known.Hash, now)
		return
	}
}

func (f *flow) take(c plan.Candidate, path string, facts file.Facts, event file.Event, unless string, now time.Time) {
	j := &job{
		rule: c.Rule, captures: c.Captures, unless: unless, checked: now,
		row: ledger.Job{ID: f.store.NextID(), Rule: c.Rule.Name.S, File: path, Watch: c.Watch, State: ledger.Queued, Event: event, Facts: facts, Taken: now, EndsIn: path},
	}
	f.record(j)
	f.enqueue(j)
}

func (f *flow) enqueue(j *job) {
	f.jobs[j.row.ID], f.byPath[j.row.File] = j, j
	f.dispatch.Add(dispatch.Job{ID: j.row.ID, Rule: j.row.Rule, Due: j.row.Due, Path: j.row.File, Size: j.row.Facts.Size, Mod: j.row.Facts.Mod})
}

func (f *flow) record(j *job) {
	f.store.Record(j.row, j.recorded)
	j.recorded = j.row.State
}

// adopt takes a job of an earlier run into the memory without queueing it.
// recorded is the state that its row has in the ledger.
func (f *flow) adopt(row ledger.Job, recorded ledger.State, tries []plan.Try) *job {
	j := &job{row: row, recorded: recorded, rule: f.set.Rule(row.Rule), tries: tries}
	for _, c := range f.set.Candidates(row.File) {
		if c.Rule == j.rule {
			j.captures = c.Captures
			break
		}
	}
	f.jobs[row.ID], f.byPath[row.File] = j, j
	return j
}

// restore takes up a job of an earlier run, or one that is sent round again.
func (f *flow) restore(row ledger.Job, recorded ledger.State, tries []plan.Try, now time.Time) {
	j := f.adopt(row, recorded, tries)
	if j.rule == nil {
		f.finish(j, ledger.Cancelled, "its rule is not in the rules file any more", row.EndsIn, now)
		return
	}
	if row.State != recorded {
		f.record(j)
	}
	f.enqueue(j)
}

// unpark goes on with a job whose file has settled again.
func (f *flow) unpark(j *job, facts file.Facts, now time.Time) {
	j.parked, j.checked, j.row.Facts, j.row.State = false, now, facts, ledger.Queued
	f.record(j)
	f.enqueue(j)
}

// begin starts an attempt, if the file still is what was taken.
func (f *flow) begin(j *job, now time.Time) {
	if !j.checked.Equal(now) {
		facts, err := f.look(j.row.File)
		switch {
		case err == nil && !facts.Exists:
			f.finish(j, ledger.Gone, "the file was gone before its job could run", "", now)
			return
		case err == nil && (!facts.Same(j.row.Facts) || facts.Writers == file.Some):
			f.park(j, now)
			return
		}
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
	f.starts = append(f.starts, &attempt{
		job: j, number: j.row.Attempts, plan: f.planned(j, now), unless: j.unless,
		hash: !j.rule.Moves() || j.rule.Uses("hash"),
	})
}

// park waits until a file that changed after it was taken has settled again.
func (f *flow) park(j *job, now time.Time) {
	f.dispatch.Done(j.row.ID)
	j.parked, j.row.State = true, ledger.Waiting
	f.record(j)
	f.settle.Event(j.row.File, settle.Nudged, plan.Policy(j.rule), now)
}

func (f *flow) planned(j *job, now time.Time) plan.Job {
	return plan.Job{
		Rule: j.rule, ID: j.row.ID, File: j.row.File, Watch: j.row.Watch, Facts: j.row.Facts, Event: j.row.Event,
		Attempt: j.row.Attempts, Captures: j.captures, Hash: j.row.Hash, Now: now,
	}
}

// attemptEnded decides what follows an attempt.
func (f *flow) attemptEnded(res attemptResult, now time.Time) {
	j := f.jobs[res.id]
	if j == nil {
		return
	}
	f.dispatch.Idle(res.id)
	if res.hash != "" {
		j.row.Hash = res.hash
	}
	if res.stopped {
		j.row.Attempts--
		j.row.State = ledger.Queued
		f.record(j)
		f.drop(j)
		return
	}
	j.row.Exit, j.row.Reason, j.cause = res.exit, res.reason, res.reason
	j.row.Ran += res.ran
	f.store.RecordAttempt(ledger.Attempt{Job: res.id, Number: j.row.Attempts, Started: now.Add(-res.ran), Ended: now,
		Exit: res.exit, Reason: res.reason, CPU: res.cpu, Memory: res.memory, Output: res.output})
	j.tries = append(j.tries, plan.Try{Started: now.Add(-res.ran), Ran: res.ran, Reason: res.reason})
	switch {
	case res.same:
		j.cause = "the same content was handled before"
		f.end(j, ledger.Skipped, now)
	case res.ok:
		f.end(j, ledger.Processed, now)
	default:
		f.failed(j, res, now)
	}
}

// failed sends a job into its next attempt, or to its end.
func (f *flow) failed(j *job, res attemptResult, now time.Time) {
	exit := -1
	if res.exit != nil {
		exit = *res.exit
	}
	facts, err := f.look(j.row.File)
	if err == nil && !facts.Exists {
		f.finish(j, ledger.Gone, "the file was gone when its attempt failed: "+j.cause, "", now)
		return
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
	if target == nil {
		f.finish(j, state, j.cause, j.row.File, now)
		return
	}
	p := f.planned(j, now)
	folder, name, err := p.Destination(target)
	if err != nil && state == ledger.Failed {
		f.finish(j, state, join(j.cause, "it stays where it is, because "+err.Error()), j.row.File, now)
		return
	}
	if err != nil {
		j.cause = err.Error()
		f.end(j, ledger.Failed, now)
		return
	}
	f.place(j, state, folder, name, p)
}

func (f *flow) place(j *job, state ledger.State, folder, name string, p plan.Job) {
	e := &placing{
		job: j, leads: state,
		move: place.Request{Source: j.row.File, Folder: folder, Name: name, Expect: j.row.Facts, Part: place.PartName(f.set.File.StateFolder(), j.row.ID)},
		record: ledger.Placement{ID: f.store.NextPlacement(), Job: j.row.ID, Source: j.row.File, Target: filepath.Join(folder, name),
			Facts: j.row.Facts, State: ledger.Intended, Leads: state},
	}
	if state == ledger.Failed {
		e.note = &plan.Failure{Job: &p, Taken: j.row.File, Attempts: j.tries, Reason: j.cause, State: f.set.File.StateFolder(), Rules: f.set.File.Path}
	}
	f.places = append(f.places, e)
}

// placedEnd decides what follows an end move.
func (f *flow) placedEnd(p placedEnd, now time.Time) {
	j, leads := f.jobs[p.id], p.leads
	if j == nil {
		return
	}
	switch {
	case p.err == nil:
		f.finish(j, leads, j.cause, p.target, now)
	case p.err == place.ErrGone:
		f.finish(j, leads, j.cause, "", now)
	case p.err == place.ErrChanged:
		j.again = true
		f.finish(j, leads, join(j.cause, "the file changed while its job ran, so it stays and counts as a new one"), "", now)
	default:
		f.postpone(j, leads, p.err, now)
	}
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// postpone keeps a job whose input could not be placed and tries the
// placement again, later and later; the command is not repeated.
func (f *flow) postpone(j *job, leads ledger.State, err error, now time.Time) {
	first := j.wait == 0
	j.wait = min(max(2*j.wait, time.Second), time.Minute)
	j.leads, j.retryAt = leads, now.Add(j.wait)
	f.late = append(f.late, j)
	if first {
		j.row.Reason = join(j.cause, fmt.Sprintf("its work is done, but it cannot be placed yet: %v", err))
		f.record(j)
		f.outcomes = append(f.outcomes, Outcome{Job: j.row, Next: j.retryAt})
	}
}

func (f *flow) placeLate(now time.Time) {
	var rest []*job
	due := f.late
	f.late = nil
	for _, j := range due {
		if j.retryAt.After(now) {
			rest = append(rest, j)
			continue
		}
		f.end(j, j.leads, now)
	}
	f.late = append(f.late, rest...)
}

// finish ends a job for good.
func (f *flow) finish(j *job, state ledger.State, reason, endsIn string, now time.Time) {
	j.row.State, j.row.Reason, j.row.EndsIn, j.row.Ended, j.row.Due = state, reason, endsIn, now, time.Time{}
	f.record(j)
	if endsIn == j.row.File {
		f.store.Remember(ledger.Known{Rule: j.row.Rule, File: j.row.File, Facts: j.row.Facts, Hash: j.row.Hash, Job: j.row.ID})
	} else {
		f.store.Forget(j.row.Rule, j.row.File)
	}
	f.outcomes = append(f.outcomes, Outcome{Job: j.row})
	f.drop(j)
	if j.again {
		f.offer(j.row.File, settle.Nudged, now)
	}
}

// drop takes a job out of the memory.
func (f *flow) drop(j *job) {
	f.dispatch.Done(j.row.ID)
	f.dispatch.Remove(j.row.ID)
	delete(f.jobs, j.row.ID)
	if f.byPath[j.row.File] == j {
		delete(f.byPath, j.row.File)
	}
}
