// Package flow puts the machines of the core together: it decides, step by step, what becomes
// of every file: event, settled, taken, recorded, run, placed, recorded.
//
// It has no goroutine and no clock, and touches no file. The engine brings what happens, one
// input at a time (an event, a look, the end of an attempt or of a placing, a command), and the
// time; Advance then does all that is due, and Effects are what it has decided: paths to look
// at, attempts to start and to stop, placings, and what is to be told (package turn). It holds the
// files on their way to a rule, and what a decision on them asks; what becomes of a job, and what
// may start at all, is decided in package underway.
package flow

import (
	"slices"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
)

// Flow decides, step by step, what becomes of every file. Use New.
type Flow struct {
	underway.Jobs
	arrivals
	deciding
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
	accepted  job.Pauses                 // rules that were resumed before this start, and until when that holds
	opening   opening                    // settled files that are looked into
	lent      map[string]bool            // paths that are kept from the rules
	lentFor   map[int64][]string         // the same, by the job that they are lent for
	seen      time.Time                  // when the first event came for the file that has just settled
	unmatched unmatched
	renew     []turn.Chosen           // what is found and chosen is handled again
	forced    map[string]*turn.Chosen // by path: files that are
	again     again                   // what is handled again because a setting changed
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
func New(set *plan.Set, m underway.Memory, eyes underway.Eyes, hands underway.Hands, chance func() float64) *Flow {
	f := &Flow{arrivals: arrivals{asking: map[string]bool{}, markers: map[string]string{}, lent: map[string]bool{},
		lentFor: map[int64][]string{}, leaving: map[string]map[string]bool{},
		again: again{pass: map[string]int{}, begun: map[setting]bool{}}},
		deciding: deciding{unread: map[string]bool{}}}
	f.Jobs = underway.NewJobs(set, m, eyes, hands, f, chance)
	f.sources = f.asks()
	f.ApplyRules()
	return f
}

// LookedThrough notes that what was in a folder is known now, or cannot be.
func (f *Flow) LookedThrough(folder string) {
	if f.Looking[folder] {
		f.opening.through(folder)
	}
}

// orderKnown lets rules with an order begin whose folders were looked through, as soon as the
// files that were there are looked into.
func (f *Flow) orderKnown(now time.Time) {
	ordered := false
	for _, folder := range f.opening.known(now) {
		delete(f.Looking, folder)
		ordered = ordered || slices.ContainsFunc(f.Set.Watching(folder), underway.Ordered)
	}
	if ordered {
		f.ApplyRules()
	}
}

// SetPaused pauses rules and folders until a time (see job.Pauses), or lets them go on; no names
// mean all. Resuming ends a rule's trouble, too.
func (f *Flow) SetPaused(names []string, paused bool, until time.Time) {
	if len(names) == 0 {
		names = []string{""}
		if !paused {
			for name := range f.Pauses {
				names = append(names, name)
			}
			for name := range f.InTrouble {
				names = append(names, name)
			}
		}
	}
	for _, name := range names {
		f.Store.RecordPause(name, paused, until)
		if paused {
			f.Pauses[name] = until
			continue
		}
		delete(f.Pauses, name)
		if _, ok := f.InTrouble[name]; ok {
			f.accept(name)
		}
	}
	f.ApplyRules()
	if !paused {
		f.Unhold()
	}
}

// pausesEnd lets go on what was paused until now.
func (f *Flow) pausesEnd(now time.Time) {
	if over := f.Pauses.Over(now); len(over) > 0 {
		f.SetPaused(over, false, time.Time{})
	}
}

// accept ends a rule's trouble: what it waited to be told is so.
func (f *Flow) accept(rule string) {
	delete(f.InTrouble, rule)
	delete(f.Lacking, rule)
	if f.again.asked[rule] {
		delete(f.again.asked, rule)
		underway.Mark(&f.again.mass, rule)
	}
	f.Out.Recovered = append(f.Out.Recovered, rule)
	f.acceptRemovals(rule)
}

// isAccepted reports whether somebody has accepted, before this start, what would block a rule.
func (f *Flow) isAccepted(rule string, now time.Time) bool {
	until, is := f.accepted.Rule(rule)
	return is && now.Before(until)
}

// foundLater is how long after the first look through all folders something may be told that it found missing.
const foundLater = 10 * time.Minute

// HasBegun says that all folders were looked through for the first time. What was accepted before
// this start holds for what that finds missing, and not for what goes later.
func (f *Flow) HasBegun(now time.Time) {
	for name, until := range f.accepted {
		if end := now.Add(foundLater); until.After(end) {
			f.accepted[name] = end
		}
	}
}

// MaxLooks bounds the looks that are asked for at once, so that a decision soon follows its look.
const MaxLooks = 512

// Advance does all that is due by now.
func (f *Flow) Advance(now time.Time) {
	for paths := range slices.Chunk(f.settle.Asks(now), MaxLooks) {
		paths = f.surely(paths)
		for i, look := range f.Eyes.LookAll(paths) {
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
	f.PlaceLate(now)
	f.findUnmatched(now)
	f.TimesCame(now)
	f.Window.Refill(&f.Jobs, now)
	f.orderKnown(now)
	f.Unfinished = false
	for begun := 0; !f.Ending && !f.Holding; begun++ {
		if f.Unfinished = begun == underway.MaxBegun; f.Unfinished {
			break // what has come of these is carried out first
		}
		next, ok := f.Dispatch.Next(now)
		if !ok {
			break
		}
		f.Begin(f.ByID[next.ID], now)
	}
	f.RecordTaken()
	f.settingsHandled()
	f.lookInside()
	f.CaughtUp(now)
	if len(f.ByID) == 0 && f.Unsettled() == 0 {
		f.asked = nil
	}
}

// lookedAt brings the settling machine the look it asked for.
func (f *Flow) lookedAt(path string, look turn.Look, now time.Time) {
	facts := look.Facts
	if look.Err != nil {
		facts = file.Facts{Exists: true, Writers: file.None} // there, but it cannot be looked at: no rule takes it
	}
	candidates := f.CandidatesOf(path, facts.Dir, now)
	under := f.Set.Rule(f.settle.Rule(path))
	marker := ""
	if under != nil {
		if marker = plan.MarkerOf(under, path); marker != "" {
			m, err := f.Eyes.Look(marker)
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
			f.Out.Overdue = append(f.Out.Overdue, turn.OverdueFile{Rule: under.Name.S, File: path, Why: d.Why})
		}
	case settle.Gone:
		if j := f.ByPath[path]; j != nil && j.Parked[path] {
			f.MemberGone(j, path, now)
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
	if f.Unfinished {
		return now, true
	}
	sooner(f.settle.Next())
	sooner(f.gatherNext())
	sooner(f.Batches.Next())
	sooner(f.unmatched.next())
	sooner(f.nextSetting(now))
	for _, due := range f.Timed {
		sooner(due, true)
	}
	for _, until := range f.Pauses {
		sooner(until, !until.IsZero())
	}
	if !f.Ending && !f.Holding {
		sooner(f.Dispatch.Wake(now))
	}
	sooner(f.Late.Jobs.Next())
	sooner(f.aging.Next())
	sooner(f.nextRemoval())
	return at, ok
}
