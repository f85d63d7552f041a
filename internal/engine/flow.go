package engine

import (
	"math/rand/v2"
	"slices"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
)

// flow decides, step by step, what becomes of every file: event, settled,
// taken, recorded, run, placed, recorded. It has no goroutine and no clock:
// the engine brings events, looks, results and the time, and carries out the
// effects that the flow leaves in starts, places and outcomes.
type flow struct {
	set   *plan.Set
	store store
	look  func(path string) (file.Facts, error)
	looks [maxLooks]seen // of lookAll
	// whether a path may not be answered, so that it is looked at beside the flow; nil for never
	unsure func(path string) bool
	// paths that are looked at beside the flow, and whether something happened to them meanwhile
	asking map[string]bool
	beside []string // of those, to be looked at from now on
	// by path: rules that leave it alone, as soon as it has been looked at
	owed     map[string]map[string]bool
	chance   func() float64
	settle   settle.Machine
	gather   gather.Machine
	inHand   inHand
	dispatch *dispatch.Machine
	open     map[int64]*openJob
	byPath   map[string]*openJob  // the job that is not over for a path
	claims   map[string]*openJob  // by path and by inode: what a job that is not over has placed, or taken away
	wanted   map[string]wanting   // by path: the jobs that reserved it
	sources  take.Sources         // what a decision asks
	offered  take.Offer           // what was decided on last
	verdict  take.Verdict         // and how
	unread   map[string]bool      // paths of which was said that the ledger cannot be asked about them
	reserved map[string]bool      // paths that a command is putting back
	markers  map[string]string    // by a marker that is waited for: its file
	removing map[string]time.Time // known files that went: when that counts
	absent   map[string]bool      // watched folders that are not there
	looking  map[string]bool      // watched folders that are being looked through for the first time
	taken    []*openJob           // in this round, and not recorded yet
	held     []*openJob           // jobs whose watched folder is not there
	late     []*openJob           // placements to be tried again
	troubles map[string]string    // by rule: why it needs your attention
	paused   map[string]bool      // rules that are paused; "" for all
	lacking  map[string]bool      // rules that are blocked because their program is not there
	book     loop.Book
	running  map[int64]*openJob // jobs whose attempt is under way
	window   window
	timed    map[string]time.Time       // by rule with held jobs: when its schedule is due next
	aging    map[string]time.Time       // files that are too young for a rule: when they are not
	leaving  map[string]map[string]bool // by folder: rules that leave what is there (existing: leave)
	seen     time.Time                  // when the first event came for the file that has just settled
	more     bool                       // the last round ended before all had begun that could
	once     bool
	chained  bool   // something was placed where a rule watches
	only     string // the one rule that is worked for, "" for all
	stopping bool
	holding  bool // the ledger cannot be written: nothing starts

	starts    []*attempt
	stops     []int64 // jobs whose attempt is to be stopped
	places    []*placing
	outcomes  []Outcome
	overdue   []OverdueFile
	notices   []Notice
	over      []Batch
	recovered []string // rules that are out of trouble

	batches   batches
	unmatched unmatched
	asked     map[string][]plan.Candidate // what candidates has answered
}

// Notice is what a notify step says.
type Notice struct {
	Channel, Text string
	Rule          string
	Job           int64
	File          string
}

// OverdueFile is a file that did not become ready in time.
type OverdueFile struct {
	Rule, File, Why string
}

func newFlow(set *plan.Set, s store, look func(string) (file.Facts, error)) *flow {
	f := &flow{
		set: set, store: s, look: look, chance: rand.Float64, dispatch: dispatch.New(set.File.WorkerCount()),
		open: map[int64]*openJob{}, byPath: map[string]*openJob{}, claims: map[string]*openJob{},
		asking: map[string]bool{},
		wanted: map[string]wanting{}, unread: map[string]bool{}, reserved: map[string]bool{},
		markers: map[string]string{}, removing: map[string]time.Time{}, aging: map[string]time.Time{},
		leaving: map[string]map[string]bool{}, absent: map[string]bool{}, looking: map[string]bool{},
		troubles: map[string]string{},
		paused:   map[string]bool{}, running: map[int64]*openJob{},
	}
	f.window.count = map[string]int{}
	f.sources = f.asks()
	f.applyRules()
	return f
}

// applyRules tells the dispatching machine how the rules stand now.
func (f *flow) applyRules() {
	f.dispatch.SetWorkers(f.set.File.WorkerCount())
	for name, q := range f.set.File.Queues {
		f.dispatch.SetQueue(name, q.Bounds())
	}
	for _, r := range f.set.Rules() {
		f.dispatch.SetRule(dispatch.Rule{Name: r.Name.S, Queue: r.Queue.S, Order: dispatch.Order(r.Order),
			Light: len(r.Steps) == 0, Held: f.isHeld(r.Name.S) || f.isIncomplete(r)})
	}
}

// isIncomplete reports whether a rule's order cannot be kept yet, since its folders
// have not been looked through.
func (f *flow) isIncomplete(r *rule.Rule) bool {
	return ordered(r) && slices.ContainsFunc(r.Folders, func(folder string) bool { return f.looking[folder] })
}

// ordered reports whether a rule's jobs start in another order than they come in.
func ordered(r *rule.Rule) bool { return dispatch.Order(r.Order) != dispatch.ByArrival }

// lookedThrough notes that what was in a folder is known now, or cannot be.
func (f *flow) lookedThrough(folder string) {
	if !f.looking[folder] {
		return
	}
	delete(f.looking, folder)
	if slices.ContainsFunc(f.set.Rules(), func(r *rule.Rule) bool {
		return ordered(r) && slices.Contains(r.Folders,
			folder)
	}) {
		f.applyRules()
	}
}

// isHeld reports whether nothing of a rule may start.
func (f *flow) isHeld(rule string) bool {
	return f.paused[""] || f.paused[rule] || f.troubles[rule] != "" || f.only != "" && f.only != rule
}

// trouble stops a rule until a person says resume.
func (f *flow) trouble(rule, why string) {
	f.troubles[rule] = why
	f.applyRules()
	f.outcomes = append(f.outcomes, Outcome{Job: &job.Job{Rule: rule, Reason: why}})
}

// setPaused pauses rules, or lets them go on; no names mean all. Resuming
// ends a rule's trouble, too.
func (f *flow) setPaused(names []string, paused bool) {
	if len(names) == 0 {
		names = []string{""}
		if !paused {
			for name := range f.paused {
				names = append(names, name)
			}
			for name := range f.troubles {
				names = append(names, name)
			}
		}
	}
	for _, name := range names {
		f.store.RecordPause(name, paused)
		if paused {
			f.paused[name] = true
			continue
		}
		delete(f.paused, name)
		if _, ok := f.troubles[name]; ok {
			f.accept(name)
		}
	}
	f.applyRules()
}

// accept ends a rule's trouble: what it waited to be told is so.
func (f *flow) accept(rule string) {
	delete(f.troubles, rule)
	delete(f.lacking, rule)
	f.recovered = append(f.recovered, rule)
	for _, list := range f.removalsByRule() {
		for _, g := range list {
			if g.rule() == rule {
				delete(f.removing, g.path)
				f.removed(g, g.due)
			}
		}
	}
}

func set(m *map[string]bool, path string) {
	if *m == nil {
		*m = map[string]bool{}
	}
	(*m)[path] = true
}

// maxBegun bounds the jobs that begin in one round: many may end at once,
// because their files are gone.
const maxBegun = 4000

// advance does all that is due by now.
func (f *flow) advance(now time.Time) {
	for paths := range slices.Chunk(f.settle.Asks(now), maxLooks) {
		paths = f.surely(paths)
		for i, look := range f.lookAll(paths) {
			f.lookedAt(paths[i], look, now)
		}
	}
	f.removals(now)
	for path, at := range f.aging {
		if !at.After(now) {
			delete(f.aging, path)
			f.offer(path, false, settle.Nudged, now)
		}
	}
	for _, g := range f.gather.Due(now) {
		f.takeGroup(g, now)
	}
	f.placeLate(now)
	f.findUnmatched(now)
	f.timesCame(now)
	f.window.refill(f, now)
	f.more = false
	for begun := 0; !f.stopping && !f.holding; begun++ {
		if f.more = begun == maxBegun; f.more {
			break // what has come of these is carried out first
		}
		next, ok := f.dispatch.Next(now)
		if !ok {
			break
		}
		f.begin(f.open[next.ID], now)
	}
	f.recordTaken()
	f.caughtUp(now)
	if len(f.open) == 0 && f.settle.Len() == 0 {
		f.asked = nil
	}
}

// lookedAt brings the settling machine the look it asked for.
func (f *flow) lookedAt(path string, look seen, now time.Time) {
	facts := look.facts
	if look.err != nil {
		facts = file.Facts{Exists: true, Writers: file.None} // there, but it cannot be looked at: no rule takes it
	}
	candidates := f.candidatesOf(path, facts.Dir, now)
	under := f.set.Rule(f.settle.Rule(path))
	marker := ""
	if under != nil {
		if marker = plan.MarkerOf(under, path); marker != "" {
			m, err := f.look(marker)
			// a marker that is still being written says nothing yet
			facts.Marker = err == nil && m.Exists && m.Writers != file.Some
		}
	}
	d := f.settle.Answer(path, facts, now)
	if marker != "" && !f.settle.Has(path) {
		delete(f.markers, marker)
	}
	f.seen = d.Since
	defer func() { f.seen = time.Time{} }()
	switch d.Verdict {
	case settle.Ready:
		f.settled(path, candidates, under, facts, now)
	case settle.Give:
		f.giveUp(path, candidates, under, facts, d.Why, now)
	case settle.Late:
		if under != nil {
			f.overdue = append(f.overdue, OverdueFile{Rule: under.Name.S, File: path, Why: d.Why})
		}
	case settle.Gone:
		if j := f.byPath[path]; j != nil && j.parked[path] {
			f.memberGone(j, path, now)
		}
	}
}

// wake is the time at which advance has something to do by itself.
func (f *flow) wake(now time.Time) (at time.Time, ok bool) {
	sooner := func(t time.Time, is bool) {
		if is && (!ok || t.Before(at)) {
			at, ok = t, true
		}
	}
	if f.more {
		return now, true
	}
	sooner(f.settle.Next())
	sooner(f.gather.Next())
	sooner(f.batches.next())
	sooner(f.unmatched.next())
	for _, due := range f.timed {
		sooner(due, true)
	}
	if !f.stopping && !f.holding {
		sooner(f.dispatch.Wake(now))
	}
	for _, j := range f.late {
		sooner(j.setback().retryAt, true)
	}
	for _, at := range f.aging {
		sooner(at, true)
	}
	for path, due := range f.removing {
		if len(f.troubles) == 0 || f.troubles[f.removalRule(path)] == "" {
			sooner(due, true)
		}
	}
	return at, ok
}

// removalRule names the first rule that remembers a file that went.
func (f *flow) removalRule(path string) string {
	for _, c := range f.candidates(path) {
		if _, known, err := f.store.Known(c.Rule.Name.S, path); err == nil && known {
			return c.Rule.Name.S
		}
	}
	return ""
}
