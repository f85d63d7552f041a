package flow

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
)

// settled gives a unit that is ready to the rule that takes it. under is the rule
// for which it has settled.
func (f *Flow) settled(path string, candidates []plan.Candidate, under *rule.Rule, facts file.Facts,
	now time.Time) {
	if j := f.ByPath[path]; j != nil {
		switch {
		case !j.Parked[path]:
		case j.Rule != nil && path == j.Row.File && f.Lacks(j.Rule, &facts):
			f.openFor(j.Rule, under, path, facts, now)
		case f.isStillFor(j, path, candidates, under, facts, now):
			f.Unpark(j, path, facts, now)
		}
		return
	}
	if j := f.Claimed(path, facts); j != nil {
		underway.Mark(&j.Hold().Offers, path)
		return
	}
	if f.Chosen.Old(facts) {
		f.forgetWay(path)
		return
	}
	f.leaveOwed(path, candidates, facts)
	v := &f.verdict
	f.offered = take.Offer{Facts: facts, ByHand: f.Once, Now: now}
	switch err := v.Decide(candidates, &f.offered, &f.sources); {
	case errors.Is(err, errClosed):
		f.openFor(f.closedTo, under, path, v.Facts, now)
		return
	case err != nil:
		f.askAgain(path, err, now)
		return
	}
	if len(f.unread) > 0 {
		delete(f.unread, path)
	}
	if v.Taker != nil && v.Taker.Rule != under && !plan.SameWait(v.Taker.Rule, under) {
		f.Wait(path, v.Taker.Rule, settle.Nudged, now) // it has to settle for this rule, too
		return
	}
	defer delete(f.forced, path)
	for _, r := range v.Remember {
		f.Store.Remember(job.Known{Rule: r.Candidate.Rule.Name.S, File: path, Facts: facts, Job: r.Job})
	}
	switch {
	case v.Taker != nil:
		f.give(*v.Taker, path, v, now)
		return
	case !v.Older.IsZero():
		f.aging.Set(path, v.Older)
	case !v.Claimed && !facts.Dir:
		f.unclaimed(path, now)
	}
	f.forgetWay(path)
}

// forgetWay drops what is known of the way that a file came, once it has been decided on.
// A sweep needs it to its end.
func (f *Flow) forgetWay(path string) {
	if !f.Once && !f.Book.Empty() {
		f.Book.Forget(path)
	}
}

// asks are what a decision asks beyond the look at the file.
func (f *Flow) asks() take.Sources {
	remembered := take.MemoryOf(f.Store)
	return take.Sources{
		Memory: func(c plan.Candidate) (take.Memory, bool, error) {
			if f.isForced(c.Rule.Name.S, c.Unit, f.offered.Facts) {
				return take.Memory{}, false, nil
			}
			return remembered(c)
		},
		Renamed: f.renamed,
		Inside:  f.inside,
		Passed:  f.passed,
		Chain:   f.chain,
	}
}

// inside ends a decision for which a file must be looked into first. A single pass looks at once:
// it decides on one file after the other, as preview does.
func (f *Flow) inside(c plan.Candidate, facts *file.Facts) error {
	if f.Once {
		f.Complete(c.Rule, c.Unit, facts)
	}
	if f.Lacks(c.Rule, facts) {
		f.closedTo = c.Rule
		return errClosed
	}
	return nil
}

// renamed returns the path that a file had for a rule that knows it, if it has just left that.
func (f *Flow) renamed(c plan.Candidate, facts file.Facts) (old string, ok bool) {
	for _, w := range f.gone.inodes[underway.Inode(facts)] {
		known, is, err := f.Store.Known(c.Rule.Name.S, w.path)
		if err == nil && is && known.Facts.Same(facts) && !f.isTold(w.path) {
			return w.path, true
		}
	}
	return "", false
}

// isTold reports whether a job tells that a file went.
func (f *Flow) isTold(path string) bool {
	f.Window.Find(&f.Jobs, path)
	j := f.ByPath[path]
	return j != nil && j.Row.Event == file.Removed
}

// passed returns the rules that a file went through since the engine began, nil for none.
func (f *Flow) passed(c plan.Candidate, facts file.Facts) []string {
	if f.Book.Empty() {
		return nil
	}
	if chain := f.Book.Chain(c.Unit, facts); chain != nil {
		return chain
	}
	for at := filepath.Dir(c.Unit); at != c.Root && at != filepath.Dir(at); at = filepath.Dir(at) {
		if chain := f.Book.FolderChain(at); chain != nil {
			return chain
		}
	}
	return nil
}

// chain returns the rules that a file went through before it came to its path.
func (f *Flow) chain(c plan.Candidate, facts file.Facts) ([]string, error) {
	if chain := f.passed(c, facts); chain != nil {
		return chain, nil
	}
	if !f.Set.Chained(c.Root) {
		return nil, nil
	}
	return take.OriginOf(f.Store, c, facts)
}

// give lets a rule have a unit: as a job, or as a part of one.
func (f *Flow) give(c plan.Candidate, path string, v *take.Verdict, now time.Time) {
	if !f.Chosen.HasRule(c.Rule.Name.S) {
		return // another rule's, which is not worked for now
	}
	if c.Rule.Gather == nil {
		f.take(c, path, v, now)
		return
	}
	key, err := c.Set(v.Facts, v.Event, now)
	if err != nil {
		f.Out.Overdue = append(f.Out.Overdue, turn.OverdueFile{Rule: c.Rule.Name.S, File: path, Why: err.Error()})
		return
	}
	f.gather.Join(key, c.Rule.Gather.Spec(), gather.Member{Path: path, Facts: v.Facts, Chain: v.Chain}, now)
}

func (f *Flow) newJob(c plan.Candidate, path string, facts file.Facts, event file.Event, now time.Time) *underway.Job {
	return &underway.Job{
		Rule: c.Rule, Captures: c.Captures, Checked: now,
		Row: job.Job{ID: f.Store.NextID(), Rule: c.Rule.Name.S, File: path, Watch: c.Watch, State: job.Queued,
			Event: event, Facts: facts, Seen: f.seen, Taken: now, FileNow: path},
	}
}

func (f *Flow) take(c plan.Candidate, path string, v *take.Verdict, now time.Time) {
	j := f.newJob(c, path, v.Facts, v.Event, now)
	if j.Row.OldFile = v.OldFile; v.OldFile != "" {
		f.Store.Forget(c.Rule.Name.S, v.OldFile) // it did not go
		if old := f.ByPath[v.OldFile]; old != nil && old.Row.Rule == c.Rule.Name.S {
			old.Renamed, old.Row.FileNow = true, ""
			f.Record(old) // a start after a crash knows it, too
		}
	}
	j.Unless, j.Forced = v.Unless, f.isForced(c.Rule.Name.S, path, v.Facts)
	if j.Forced {
		f.Store.Forget(c.Rule.Name.S, path) // it may wait in the ledger alone, where nothing says that it is forced
	}
	j.Row.Chain = strings.Join(v.Chain, ",")
	if j.Row.Depth = f.Book.Depth(path, v.Facts); j.Row.Depth >= loop.Deepest && f.InTrouble[c.Rule.Name.S] == "" {
		f.Trouble(c.Rule.Name.S, fmt.Sprintf("it loops: %s seems to be made by its own jobs, one from the other, "+
			"%d deep; stilltide resume %s goes on", path, j.Row.Depth, fill.QuoteWord(c.Rule.Name.S)))
	}
	f.forgetWay(path)
	j.Row.Extra = f.markersOf(c.Rule, path)
	f.Enqueue(j)
	if f.ByID[j.Row.ID] == j {
		f.Taken = append(f.Taken, j)
	} else {
		f.Record(j) // it waits in the ledger alone
	}
}

// markersOf returns the markers that are there of files, which go along with them.
func (f *Flow) markersOf(r *rule.Rule, paths ...string) (found []job.Member) {
	if r.Ready.MarkerName == nil {
		return nil
	}
	for _, path := range paths {
		m := plan.MarkerOf(r, path)
		if now, err := f.Eyes.Look(m); err == nil && now.Exists {
			found = append(found, job.Member{File: m, Facts: now, Companion: true, FileNow: m})
		}
	}
	return found
}

// takeGroup makes one job of a batch or group that has ended.
func (f *Flow) takeGroup(g gather.Group, now time.Time) {
	sort.Slice(g.Members, func(i, k int) bool { return g.Members[i].Path < g.Members[k].Path })
	first := g.Members[0]
	r := f.Set.Rule(g.Key.Rule)
	var c plan.Candidate
	for _, one := range f.Candidates(first.Path) {
		if one.Rule == r {
			c = one
		}
	}
	if c.Rule == nil {
		return
	}
	j := f.newJob(c, first.Path, first.Facts, file.Added, now)
	j.Checked = time.Time{} // its files settled one after the other, the first perhaps long ago
	chain := first.Chain
	for _, m := range g.Members[1:] {
		j.Row.Extra = append(j.Row.Extra, job.Member{File: m.Path, Facts: m.Facts, FileNow: m.Path})
		for _, before := range m.Chain {
			chain = loop.Through(chain, before)
		}
	}
	j.Row.Chain = strings.Join(chain, ",")
	j.Row.Extra = append(j.Row.Extra, f.markersOf(r, j.Row.Files()...)...)
	f.Record(j)
	if len(g.Missing) > 0 && r.Gather.Overdue == rule.GroupFails {
		f.AdoptPaths(j)
		j.Row.Started = now
		j.Cause = plan.Incomplete(g)
		f.End(j, job.Failed, now)
		return
	}
	f.Enqueue(j)
}

// giveUp ends the wait for a file that did not become ready in time for a rule. Only the rule that would take it
// gives it up: for another one it has to settle, too.
func (f *Flow) giveUp(path string, candidates []plan.Candidate, under *rule.Rule, facts file.Facts, why string,
	now time.Time) {
	at := slices.IndexFunc(candidates, func(c plan.Candidate) bool { return c.Rule == under })
	if at < 0 || f.ByPath[path] != nil {
		return
	}
	c := candidates[at]
	v := &f.verdict
	f.offered = take.Offer{Facts: facts, ByHand: f.Once, Now: now}
	switch err := v.Decide(candidates, &f.offered, &f.sources); {
	case err != nil: // what it holds, or what is remembered of it, cannot be asked here
	case v.Taker == nil:
		f.settled(path, candidates, under, facts, now)
		return
	case v.Taker.Rule == under:
	case plan.SameWait(v.Taker.Rule, under):
		c = *v.Taker
	default:
		f.Wait(path, v.Taker.Rule, settle.Nudged, now)
		return
	}
	f.Out.Overdue = append(f.Out.Overdue, turn.OverdueFile{Rule: c.Rule.Name.S, File: path, Why: why})
	j := f.newJob(c, path, facts, file.Added, now)
	f.Record(j)
	f.AdoptPaths(j)
	j.Row.Started = now
	j.Cause = plan.NotReady(why)
	f.End(j, job.Failed, now)
}
