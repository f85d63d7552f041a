package flow

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
)

// settled gives a unit that is ready to the rule that takes it. under is the rule
// for which it has settled.
func (f *Flow) settled(path string, candidates []plan.Candidate, under *rule.Rule, facts file.Facts,
	now time.Time) {
	if j := f.byPath[path]; j != nil {
		switch {
		case !j.parked[path]:
		case j.rule != nil && path == j.row.File && f.lacks(j.rule, &facts):
			f.openFor(j.rule, under, path, facts, now)
		default:
			f.unpark(j, path, facts, now)
		}
		return
	}
	if j := f.claimed(path, facts); j != nil {
		mark(&j.hold().offers, path)
		return
	}
	if f.chosen.old(facts) {
		f.forgetWay(path)
		return
	}
	f.leaveOwed(path, candidates, facts)
	v := &f.verdict
	f.offered = take.Offer{Facts: facts, ByHand: f.once, Now: now}
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
	if v.Taker != nil && v.Taker.Rule != under && !sameWait(v.Taker.Rule, under) {
		f.wait(path, v.Taker.Rule, settle.Nudged, now) // it has to settle for this rule, too
		return
	}
	defer delete(f.forced, path)
	for _, r := range v.Remember {
		f.store.Remember(job.Known{Rule: r.Candidate.Rule.Name.S, File: path, Facts: facts, Job: r.Job})
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

// sameWait reports whether two rules want their files settled in the same way.
func sameWait(a, b *rule.Rule) bool {
	if b == nil || a.Ready.Marker.Set() || b.Ready.Marker.Set() {
		return false
	}
	pa, pb := plan.Policy(a), plan.Policy(b)
	pa.Rule, pb.Rule = "", ""
	return pa == pb
}

// forgetWay drops what is known of the way that a file came, once it has been decided on.
// A sweep needs it to its end.
func (f *Flow) forgetWay(path string) {
	if !f.once && !f.book.Empty() {
		f.book.Forget(path)
	}
}

// asks are what a decision asks beyond the look at the file.
func (f *Flow) asks() take.Sources {
	remembered := take.MemoryOf(f.store)
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
	if f.once {
		f.complete(c.Rule, c.Unit, facts)
	}
	if f.lacks(c.Rule, facts) {
		f.closedTo = c.Rule
		return errClosed
	}
	return nil
}

// renamed returns the path that a file had for a rule that knows it, if it has just left that.
func (f *Flow) renamed(c plan.Candidate, facts file.Facts) (old string, ok bool) {
	for _, w := range f.gone.inodes[inode(facts)] {
		known, is, err := f.store.Known(c.Rule.Name.S, w.path)
		if err == nil && is && known.Facts.Same(facts) {
			return w.path, true
		}
	}
	return "", false
}

// complete finds out what is not known yet of a job's file: of one that an earlier run has taken,
// or that is not its first. A file system that may not answer is asked when the job is to start.
func (f *Flow) complete(r *rule.Rule, path string, facts *file.Facts) {
	if f.lacks(r, facts) && !f.eyes.Unsure(path) {
		f.eyes.Complete(f.set, r, path, facts)
	}
}

// inode names a file by what a rename does not change.
func inode(f file.Facts) string { return fmt.Sprintf("%d:%d", f.Dev, f.Ino) }

// passed returns the rules that a file went through since the engine began, nil for none.
func (f *Flow) passed(c plan.Candidate, facts file.Facts) []string {
	if f.book.Empty() {
		return nil
	}
	if chain := f.book.Chain(c.Unit, facts); chain != nil {
		return chain
	}
	for at := filepath.Dir(c.Unit); at != c.Root && at != filepath.Dir(at); at = filepath.Dir(at) {
		if chain := f.book.FolderChain(at); chain != nil {
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
	if !f.set.Chained(c.Root) {
		return nil, nil
	}
	return take.OriginOf(f.store, c, facts)
}

// give lets a rule have a unit: as a job, or as a part of one.
func (f *Flow) give(c plan.Candidate, path string, v *take.Verdict, now time.Time) {
	if !f.chosen.hasRule(c.Rule.Name.S) {
		return // another rule's, which is not worked for now
	}
	if c.Rule.Gather == nil {
		f.take(c, path, v, now)
		return
	}
	by := ""
	if c.Rule.Gather.IsGroup() {
		j := plan.Job{Rule: c.Rule, File: path, Watch: c.Watch, Facts: v.Facts, Event: v.Event,
			Captures: c.Captures, Now: now}
		value, err := c.Rule.Gather.Key.Fill(j.Lookup)
		if err != nil {
			f.out.Overdue = append(f.out.Overdue, OverdueFile{Rule: c.Rule.Name.S, File: path, Why: err.Error()})
			return
		}
		by = value
	}
	f.gather.Join(gather.Key{Rule: c.Rule.Name.S, Watch: c.Watch, By: by}, c.Rule.Gather.Spec(),
		gather.Member{Path: path, Facts: v.Facts, Chain: v.Chain}, now)
}

func (f *Flow) newJob(c plan.Candidate, path string, facts file.Facts, event file.Event, now time.Time) *Job {
	return &Job{
		rule: c.Rule, captures: c.Captures, checked: now,
		row: job.Job{ID: f.store.NextID(), Rule: c.Rule.Name.S, File: path, Watch: c.Watch, State: job.Queued,
			Event: event, Facts: facts, Seen: f.seen, Taken: now, FileNow: path},
	}
}

func (f *Flow) take(c plan.Candidate, path string, v *take.Verdict, now time.Time) {
	j := f.newJob(c, path, v.Facts, v.Event, now)
	if j.row.OldFile = v.OldFile; v.OldFile != "" {
		f.store.Forget(c.Rule.Name.S, v.OldFile) // it did not go
	}
	j.unless, j.forced = v.Unless, f.isForced(c.Rule.Name.S, path, v.Facts)
	j.row.Chain = strings.Join(v.Chain, ",")
	if j.row.Depth = f.book.Depth(path); j.row.Depth >= loop.Deepest && f.troubles[c.Rule.Name.S] == "" {
		f.trouble(c.Rule.Name.S, fmt.Sprintf("it loops: %s seems to be made by its own jobs, one from the other, "+
			"%d deep; stilltide resume %s goes on", path, j.row.Depth, fill.QuoteWord(c.Rule.Name.S)))
	}
	f.forgetWay(path)
	j.row.Extra = f.markersOf(c.Rule, path)
	f.enqueue(j)
	if f.open[j.row.ID] == j {
		f.taken = append(f.taken, j)
	} else {
		f.record(j) // it waits in the ledger alone
	}
}

// markersOf returns the markers that are there of files, which go along with them.
func (f *Flow) markersOf(r *rule.Rule, paths ...string) (found []job.Member) {
	if r.Ready.MarkerName == nil {
		return nil
	}
	for _, path := range paths {
		m := plan.MarkerOf(r, path)
		if now, err := f.eyes.Look(m); err == nil && now.Exists {
			found = append(found, job.Member{File: m, Facts: now, Companion: true, FileNow: m})
		}
	}
	return found
}

// recordTaken records the jobs that were taken in this round and have not begun
// in it: one that begins soon has its row written once.
func (f *Flow) recordTaken() {
	for i, j := range f.taken {
		switch {
		case j.recorded != "":
		case len(j.row.Extra) == 0:
			f.store.RecordTaken(j.row)
			j.recorded = j.row.State
		default:
			f.record(j)
		}
		f.taken[i] = nil
	}
	f.taken = f.taken[:0]
}

// takeGroup makes one job of a batch or group that has ended.
func (f *Flow) takeGroup(g gather.Group, now time.Time) {
	sort.Slice(g.Members, func(i, k int) bool { return g.Members[i].Path < g.Members[k].Path })
	first := g.Members[0]
	r := f.set.Rule(g.Key.Rule)
	var c plan.Candidate
	for _, one := range f.candidates(first.Path) {
		if one.Rule == r {
			c = one
		}
	}
	if c.Rule == nil {
		return
	}
	j := f.newJob(c, first.Path, first.Facts, file.Added, now)
	j.checked = time.Time{} // its files settled one after the other, the first perhaps long ago
	chain := first.Chain
	for _, m := range g.Members[1:] {
		j.row.Extra = append(j.row.Extra, job.Member{File: m.Path, Facts: m.Facts, FileNow: m.Path})
		for _, before := range m.Chain {
			chain = loop.Through(chain, before)
		}
	}
	j.row.Chain = strings.Join(chain, ",")
	j.row.Extra = append(j.row.Extra, f.markersOf(r, j.row.Files()...)...)
	f.record(j)
	if len(g.Missing) > 0 && r.Gather.Overdue == rule.GroupFails {
		f.adoptPaths(j)
		j.row.Started = now
		j.cause = fmt.Sprintf("the group %q is not complete: nothing fits %s", g.Key.By,
			strings.Join(g.Missing, ", "))
		f.end(j, job.Failed, now)
		return
	}
	f.enqueue(j)
}

// giveUp ends the wait for a file that did not become ready in time for a rule.
func (f *Flow) giveUp(path string, candidates []plan.Candidate, under *rule.Rule, facts file.Facts, why string,
	now time.Time) {
	at := slices.IndexFunc(candidates, func(c plan.Candidate) bool { return c.Rule == under })
	if at < 0 || f.byPath[path] != nil {
		return
	}
	c := candidates[at]
	f.out.Overdue = append(f.out.Overdue, OverdueFile{Rule: c.Rule.Name.S, File: path, Why: why})
	j := f.newJob(c, path, facts, file.Added, now)
	f.record(j)
	f.adoptPaths(j)
	j.row.Started = now
	j.cause = "it did not become ready: " + why
	f.end(j, job.Failed, now)
}

// adoptPaths makes the job known by its files, markers too.
func (f *Flow) adoptPaths(j *Job) {
	if f.open[j.row.ID] != j {
		f.reserve(j)
	}
	f.open[j.row.ID] = j
	f.byPath[j.row.File] = j
	for i := range j.row.Extra {
		f.byPath[j.row.Extra[i].File] = j
	}
}

// leavePaths is the opposite.
func (f *Flow) leavePaths(j *Job) {
	j.over()
	f.unreserve(j)
	delete(f.open, j.row.ID)
	f.window.over(j)
	leave := func(path string) {
		if f.byPath[path] == j {
			delete(f.byPath, path)
		}
	}
	leave(j.row.File)
	for i := range j.row.Extra {
		leave(j.row.Extra[i].File)
	}
}

func (f *Flow) enqueue(j *Job) {
	if now := j.checked; f.open[j.row.ID] != j && f.beforeTime(j.rule, j.row, now) {
		f.holdForTime(j, now)
		return
	}
	if f.window.full(f, j) {
		return // it stays in the ledger until there is room
	}
	f.adoptPaths(j)
	f.dispatch.Add(dispatch.Job{ID: j.row.ID, Rule: j.row.Rule, Key: f.keyOf(j), Due: j.row.Due, Path: j.row.File,
		Size: j.row.Facts.Size, Mod: j.row.Facts.Mod, Alone: j.row.Crashes >= aloneAfter})
}

// keyOf fills serial_by, which counts over all rules. Content that may come only once is compared one job
// at a time.
func (f *Flow) keyOf(j *Job) string {
	switch {
	case j.rule.Key != nil:
		p := f.planned(j, j.row.Taken)
		if key, err := j.rule.Key.Fill(p.Lookup); err == nil {
			return "\x01" + key
		}
	case j.rule.Again == rule.AgainNever:
		return "\x00" + j.rule.Name.S
	}
	return ""
}

func (f *Flow) record(j *Job) {
	if j.intended && j.row.State.Final() && !j.extras {
		f.store.RecordEnd(&j.row, j.recorded)
	} else {
		f.store.Record(j.row, j.recorded)
	}
	if had := j.extras; had && len(j.row.Extra) == 0 {
		f.store.RecordMembers(j.row) // they went
	}
	j.extras = j.extras || len(j.row.Extra) > 0
	j.recorded = j.row.State
}

// adopt takes a job of an earlier run into the memory without queueing it.
// recorded is the state that its row has in the ledger.
func (f *Flow) adopt(row job.Job, recorded job.State, tries []plan.Try) *Job {
	j := &Job{row: row, recorded: recorded, rule: f.set.Rule(row.Rule), tries: tries}
	f.window.came(row.Rule)
	if j.rule == nil {
		f.adoptPaths(j)
		return j
	}
	for _, c := range f.candidatesOf(row.File, row.Facts.Dir, row.Taken) {
		if c.Rule == j.rule {
			j.captures = c.Captures
			break
		}
	}
	f.adoptPaths(j)
	return j
}

// Restore takes up a job of an earlier run, or one that is retried by hand.
func (f *Flow) Restore(row job.Job, recorded job.State, tries []plan.Try, now time.Time) {
	j := f.adopt(row, recorded, tries)
	if j.rule == nil {
		f.finish(j, job.Cancelled, "its rule is no longer in the rules file", row.FileNow, now)
		return
	}
	if row.State != recorded {
		f.record(j)
	}
	f.enqueue(j)
}
