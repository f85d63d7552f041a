// Package flow puts the machines of the core together: it decides, step by step, what becomes
// of every file: event, settled, taken, recorded, run, placed, recorded.
//
// It has no goroutine and no clock, and touches no file. The engine brings what happens, one
// input at a time (an event, a look, the end of an attempt or of a placing, a command), and the
// time; Advance then does all that is due, and Effects are what it has decided: paths to look
// at, attempts to start and to stop, placings, and what is to be told. What the flow remembers
// stands in four groups: files on their way to a rule, jobs that are not over, what may start
// at all, and what a decision asks.
package flow

import (
	"slices"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/due"
	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
)

// Flow decides, step by step, what becomes of every file. Use New.
type Flow struct {
	set    *plan.Set
	store  Memory
	eyes   Eyes
	hands  Hands
	chance func() float64 // from 0 to 1: how late a retry is

	arrivals
	underWay
	standing
	deciding
	out Effects
}

// arrivals are the files on their way to a rule.
type arrivals struct {
	settle settle.Machine
	gather gather.Machine
	// paths that are looked at beside the flow, and whether something happened to them meanwhile
	asking map[string]bool
	// by path: rules that leave it alone, as soon as it has been looked at
	owed      map[string]map[string]bool
	markers   map[string]string          // by a marker that is waited for: its file
	gone      gone                       // known files that went
	aging     due.Queue[string]          // files that are too young for a rule, until they are not
	leaving   map[string]map[string]bool // by folder: rules that leave what is there (existing: leave)
	opening   opening                    // settled files that are looked into
	lent      map[string]bool            // paths that a command is putting back
	seen      time.Time                  // when the first event came for the file that has just settled
	unmatched unmatched
	renew     []Chosen           // what is found and chosen is handled again
	forced    map[string]*Chosen // by path: files that are
	again     again              // what is handled again because a setting changed
}

// underWay are the jobs that are not over.
type underWay struct {
	dispatch *dispatch.Machine
	open     map[int64]*Job
	byPath   map[string]*Job    // the job that is not over for a path
	running  map[int64]*Job     // jobs whose attempt is under way
	claims   map[string]*Job    // by path and by inode: what a job that is not over has placed, or taken away
	wanted   map[string]wanting // by path: the jobs that reserved it
	taken    []*Job             // in this round, and not recorded yet
	held     []*Job             // jobs whose watched folder is not there
	late     late               // placements to be tried again
	window   window
	batches  batches
	book     loop.Book
	chained  bool // something was placed where a rule watches
	more     bool // the last round ended before all had begun that could
}

// standing is what may start, and what may not.
type standing struct {
	troubles map[string]string    // by rule: why it needs your attention
	paused   job.Pauses           // rules and folders
	lacking  map[string]bool      // rules that are blocked because their program is not there
	absent   map[string]bool      // watched folders that are not there
	looking  map[string]bool      // watched folders that are being looked through for the first time
	timed    map[string]time.Time // by rule with held jobs: when its schedule is due next
	chosen   Chosen               // what is worked on
	next     bool                 // that is to be the next file that arrives
	pools    map[string]Pool      // of other machines
	once     bool
	stopping bool
	holding  bool // the ledger cannot be written: nothing starts
}

// deciding is what a decision on a file asks and finds.
type deciding struct {
	sources take.Sources
	offered take.Offer   // what was decided on last
	verdict take.Verdict // and how
	// the rule that could not answer, because the file was not looked into
	closedTo *rule.Rule
	unread   map[string]bool             // paths of which was said that the ledger cannot be asked about them
	asked    map[string][]plan.Candidate // what candidates has answered
}

// New makes the flow of a set of rules. chance gives numbers from 0 to 1, which spread retries.
func New(set *plan.Set, m Memory, eyes Eyes, hands Hands, chance func() float64) *Flow {
	f := &Flow{set: set, store: m, eyes: eyes, hands: hands, chance: chance,
		arrivals: arrivals{asking: map[string]bool{}, markers: map[string]string{}, lent: map[string]bool{},
			leaving: map[string]map[string]bool{}},
		underWay: underWay{dispatch: dispatch.New(set.File.WorkerCount()), open: map[int64]*Job{},
			byPath: map[string]*Job{}, running: map[int64]*Job{}, claims: map[string]*Job{},
			wanted: map[string]wanting{}},
		standing: standing{troubles: map[string]string{}, paused: job.Pauses{}, absent: map[string]bool{},
			looking: map[string]bool{}},
		deciding: deciding{unread: map[string]bool{}}}
	f.window.count = map[string]int{}
	f.sources = f.asks()
	f.ApplyRules()
	return f
}

// ApplyRules tells the dispatching machine how the rules stand now.
func (f *Flow) ApplyRules() {
	f.dispatch.SetWorkers(f.set.File.WorkerCount())
	for name, q := range f.set.File.Queues {
		f.dispatch.SetQueue(name, q.Bounds())
	}
	for _, r := range f.set.Rules() {
		f.dispatch.SetRule(dispatch.Rule{Name: r.Name.S, Queue: r.Queue.S, Order: dispatch.Order(r.Order),
			Light: len(r.Steps) == 0, Held: f.isHeld(r.Name.S) || f.isIncomplete(r), Pool: f.poolOf(r)})
	}
}

// isIncomplete reports whether a rule's order cannot be kept yet, since its folders
// have not been looked through.
func (f *Flow) isIncomplete(r *rule.Rule) bool {
	return ordered(r) && slices.ContainsFunc(r.Folders, func(folder string) bool { return f.looking[folder] })
}

// ordered reports whether a rule's jobs start in another order than they come in.
func ordered(r *rule.Rule) bool { return dispatch.Order(r.Order) != dispatch.ByArrival }

// LookedThrough notes that what was in a folder is known now, or cannot be.
func (f *Flow) LookedThrough(folder string) {
	if f.looking[folder] {
		f.opening.through(folder)
	}
}

// orderKnown lets rules with an order begin whose folders were looked through, as soon as the
// files that were there are looked into.
func (f *Flow) orderKnown(now time.Time) {
	known := f.opening.known(now)
	for _, folder := range known {
		delete(f.looking, folder)
	}
	isKnown := func(folder string) bool { return slices.Contains(known, folder) }
	if len(known) > 0 && slices.ContainsFunc(f.set.Rules(), func(r *rule.Rule) bool {
		return ordered(r) && slices.ContainsFunc(r.Folders, isKnown)
	}) {
		f.ApplyRules()
	}
}

// isHeld reports whether nothing of a rule may start.
func (f *Flow) isHeld(rule string) bool {
	_, paused := f.paused.Rule(rule)
	return paused || f.troubles[rule] != "" || !f.chosen.hasRule(rule) || f.isAway(rule)
}

// trouble stops a rule until a person says resume.
func (f *Flow) trouble(rule, why string) {
	f.troubles[rule] = why
	f.ApplyRules()
	f.out.Outcomes = append(f.out.Outcomes, Outcome{Job: &job.Job{Rule: rule, Reason: why}})
}

// SetPaused pauses rules and folders until a time (see job.Pauses), or lets them go on; no names
// mean all. Resuming ends a rule's trouble, too.
func (f *Flow) SetPaused(names []string, paused bool, until time.Time) {
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
		f.store.RecordPause(name, paused, until)
		if paused {
			f.paused[name] = until
			continue
		}
		delete(f.paused, name)
		if _, ok := f.troubles[name]; ok {
			f.accept(name)
		}
	}
	f.ApplyRules()
	if !paused {
		f.unhold()
	}
}

// pausesEnd lets go on what was paused until now.
func (f *Flow) pausesEnd(now time.Time) {
	if over := f.paused.Over(now); len(over) > 0 {
		f.SetPaused(over, false, time.Time{})
	}
}

// rests reports whether what lies at a path cannot be worked on now: its watched folder is not
// there, it is paused, or it is not chosen.
func (f *Flow) rests(j *Job) bool {
	_, paused := f.paused.Folder(j.row.File)
	return paused || f.isAbsent(j.row.Watch) || !f.chosen.hasPath(j.row.File)
}

// accept ends a rule's trouble: what it waited to be told is so.
func (f *Flow) accept(rule string) {
	delete(f.troubles, rule)
	delete(f.lacking, rule)
	if f.again.asked[rule] {
		delete(f.again.asked, rule)
		mark(&f.again.mass, rule)
	}
	f.out.Recovered = append(f.out.Recovered, rule)
	f.acceptRemovals(rule)
}

func mark(m *map[string]bool, path string) {
	if *m == nil {
		*m = map[string]bool{}
	}
	(*m)[path] = true
}

// maxBegun bounds the jobs that begin in one round: many may end at once,
// because their files are gone.
const maxBegun = 4000

// MaxLooks bounds the looks that are asked for at once, so that a decision soon follows its look.
const MaxLooks = 512

// Advance does all that is due by now.
func (f *Flow) Advance(now time.Time) {
	for paths := range slices.Chunk(f.settle.Asks(now), MaxLooks) {
		paths = f.surely(paths)
		for i, look := range f.eyes.LookAll(paths) {
			f.lookedAt(paths[i], look, now)
		}
	}
	f.pausesEnd(now)
	f.settings(now)
	f.removals(now)
	for path, ok := f.aging.Pop(now); ok; path, ok = f.aging.Pop(now) {
		f.Offer(path, false, settle.Nudged, now)
	}
	if due, ok := f.gatherNext(); ok && !due.After(now) {
		for _, g := range f.gather.Due(now) {
			f.takeGroup(g, now)
		}
	}
	f.placeLate(now)
	f.findUnmatched(now)
	f.timesCame(now)
	f.window.refill(f, now)
	f.orderKnown(now)
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
	f.lookInside()
	f.caughtUp(now)
	if len(f.open) == 0 && f.Unsettled() == 0 {
		f.asked = nil
	}
}

// lookedAt brings the settling machine the look it asked for.
func (f *Flow) lookedAt(path string, look Look, now time.Time) {
	facts := look.Facts
	if look.Err != nil {
		facts = file.Facts{Exists: true, Writers: file.None} // there, but it cannot be looked at: no rule takes it
	}
	candidates := f.candidatesOf(path, facts.Dir, now)
	under := f.set.Rule(f.settle.Rule(path))
	marker := ""
	if under != nil {
		if marker = plan.MarkerOf(under, path); marker != "" {
			m, err := f.eyes.Look(marker)
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
			f.out.Overdue = append(f.out.Overdue, OverdueFile{Rule: under.Name.S, File: path, Why: d.Why})
		}
	case settle.Gone:
		if j := f.byPath[path]; j != nil && j.parked[path] {
			f.memberGone(j, path, now)
		}
	}
}

// Wake is the time at which advance has something to do by itself.
func (f *Flow) Wake(now time.Time) (at time.Time, ok bool) {
	sooner := func(t time.Time, is bool) {
		if is && (!ok || t.Before(at)) {
			at, ok = t, true
		}
	}
	if f.more {
		return now, true
	}
	sooner(f.settle.Next())
	sooner(f.gatherNext())
	sooner(f.batches.next())
	sooner(f.unmatched.next())
	sooner(f.nextSetting(now))
	for _, due := range f.timed {
		sooner(due, true)
	}
	for _, until := range f.paused {
		sooner(until, !until.IsZero())
	}
	if !f.stopping && !f.holding {
		sooner(f.dispatch.Wake(now))
	}
	sooner(f.late.jobs.Next())
	sooner(f.aging.Next())
	sooner(f.nextRemoval())
	return at, ok
}
