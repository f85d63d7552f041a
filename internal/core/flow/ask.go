package flow

import (
	"errors"
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
)

// What the engine tells the flow, beside events and ends, and what it asks for those who
// want to know how it stands. What is given must not be changed.

// Rules are the rules by which the flow decides.
func (f *Flow) Rules() *plan.Set { return f.Set }

// WorkOn has the flow work on what is chosen only; once tells that it goes over what is there
// and ends.
func (f *Flow) WorkOn(c turn.Chosen, once bool) {
	f.Chosen, f.Once = c, once
	f.ApplyRules()
}

// Stop has nothing start any more.
func (f *Flow) Stop() { f.Ending = true }

// LedgerFails has nothing start while the ledger cannot be written.
func (f *Flow) LedgerFails(fails bool) { f.Holding = fails }

// More reports whether the last round ended before all had begun that could.
func (f *Flow) More() bool { return f.Unfinished }

// LookThrough notes that a folder is being looked through for the first time.
func (f *Flow) LookThrough(folder string) { f.Looking[folder] = true }

// LeaveAlone has a rule leave alone what is found in a folder, until Left.
func (f *Flow) LeaveAlone(folder, rule string) {
	if f.leaving[folder] == nil {
		f.leaving[folder] = map[string]bool{}
	}
	f.leaving[folder][rule] = true
}

// Left ends the leaving of a folder that was looked through, and lists the rules that left
// what was there.
func (f *Flow) Left(folder string) (rules []string) {
	for name := range f.leaving[folder] {
		rules = append(rules, name)
	}
	delete(f.leaving, folder)
	return rules
}

// WantsAll reports whether the sweeps must tell of every file, also of those that the rules
// know: they are to be handled again, or to be remembered.
func (f *Flow) WantsAll() bool { return len(f.renew)+len(f.leaving) > 0 }

// TakeUp begins with what an earlier run has left: what is paused, and the rules with
// jobs in the ledger alone. accepted are the rules that somebody has resumed since: that holds once.
func (f *Flow) TakeUp(paused, accepted job.Pauses, queued []string) {
	f.Pauses, f.accepted = paused, accepted
	for name := range accepted {
		f.Store.RecordPause(name, false, time.Time{})
	}
	for _, name := range queued {
		f.Window.Leave(name) // taken from the ledger as there is room
	}
	f.ApplyRules()
}

// Lend keeps files from the rules while they are put back for a job that took them, and what lies at further places as
// far as rules watch there and no job has it. It fails if a job that is not over has one of the files, if one is lent
// already, or if the job itself is not over.
func (f *Flow) Lend(id int64, paths []string, places ...string) bool {
	if f.ByID[id] != nil || !f.allFree(paths) {
		return false
	}
	watched := slices.DeleteFunc(slices.Clone(places), func(path string) bool { return !f.Set.Watched(path) })
	for _, path := range append(slices.Clip(paths), watched...) {
		if f.isFree(path) {
			f.lent[path] = true
			f.lentFor[id] = append(f.lentFor[id], path)
			f.LetGo(path)
			f.gather.Leave(path)
		}
	}
	return true
}

func (f *Flow) allFree(paths []string) bool {
	return !slices.ContainsFunc(paths, func(path string) bool { return !f.isFree(path) })
}

// isFree reports whether no job has a file, and it is not lent.
func (f *Flow) isFree(path string) bool {
	f.Window.Find(&f.Jobs, path)
	return f.ByPath[path] == nil && !f.lent[path]
}

// Return ends the lending of a job's files. What happened to them meanwhile is seen as a sweep would see it. dir tells
// whether those that are not there were folders.
func (f *Flow) Return(id int64, dir bool, now time.Time) {
	paths := f.lentFor[id]
	delete(f.lentFor, id)
	for _, path := range paths {
		delete(f.lent, path)
		facts, err := f.Eyes.Stat(path)
		f.Offer(path, dir && !facts.Exists || facts.Dir, settle.Found, now)
		if err == nil && !facts.Exists {
			f.WentAway(path, dir, now)
		}
	}
}

// Reopen takes up a job that a command has opened again, unless it was taken from the ledger, or
// cancelled, before the command came back to say so.
func (f *Flow) Reopen(row job.Job, now time.Time) {
	if f.ByID[row.ID] != nil {
		return
	}
	if open, is, err := f.Store.OpenJob(row.File); err == nil && (!is || open.ID != row.ID) {
		f.Window.Leave(row.Rule) // if it is open nevertheless, it is taken from there
		return
	}
	f.Restore(row, row.State, nil, now)
}

// Cancel takes a job out of the queue, or has it stopped; running tells which. path is its
// file, if the ledger knows the job as one that is not over: it may wait there alone.
func (f *Flow) Cancel(id int64, path string, now time.Time) (running bool, err error) {
	running = f.AtWork[id] != nil
	if f.ByID[id] == nil && path != "" {
		if f.Window.Find(&f.Jobs, path); f.ByID[id] == nil {
			return false, f.whyApart(path)
		}
	}
	return running, f.CancelJob(id, now)
}

// whyApart says why a job that is not over cannot be cancelled: it is not in the memory.
func (f *Flow) whyApart(path string) error {
	row, open, err := f.Store.OpenJob(path)
	switch {
	case err != nil:
		return err
	case !open:
		return errors.New("it has just come to its end")
	case row.State == job.Queued || row.State == job.Held:
		return errors.New("its rule takes its file no more, and it ends by itself when its turn comes")
	}
	return errors.New("it had begun before the watcher last ended, and waits for its folder; it can be cancelled " +
		"when that is there")
}

// Announce tells of files that a job is about to place where rules watch, or to take from
// there, so that the flow knows them before it sees them. chain has the rules before the job's.
func (f *Flow) Announce(id int64, rule string, chain []string, come, gone []*job.Placement) {
	j := f.ByID[id]
	if j == nil {
		return
	}
	for _, p := range gone {
		if p.Source != j.Row.File {
			f.Claim(j, p.Source, file.Facts{})
		}
	}
	for _, p := range come {
		f.Chained = true
		f.Book.Placed(p.Target, p.After, rule, chain, j.Row.Depth)
		f.Claim(j, p.Target, p.After)
		underway.Mark(&j.Hold().Offers, p.Target)
	}
}

// Ahead lists the files that a job leaves a name to.
func (f *Flow) Ahead(id int64, path string) []job.Ahead {
	if j := f.ByID[id]; j != nil {
		return f.Before(j, path)
	}
	return nil
}

// FileOf is the file of a job that is not over, "" if there is none with this number.
func (f *Flow) FileOf(id int64) string {
	if j := f.ByID[id]; j != nil {
		return j.Row.File
	}
	return ""
}

// IsAsking reports whether a path is looked at beside the flow.
func (f *Flow) IsAsking(path string) bool { _, under := f.asking[path]; return under }

// Reaches reports whether a running job's file lies in a folder that is not there, or
// what its rule places in one of which is reports so.
func (f *Flow) Reaches(id int64, is func(folder string) bool) bool {
	j := f.AtWork[id]
	return j != nil && (f.IsAbsent(j.Row.Watch) || slices.ContainsFunc(plan.Destinations(j.Rule), is))
}

// Unsettled counts the files that wait to settle, or to be looked into.
func (f *Flow) Unsettled() int { return f.settle.Len() + len(f.opening.files) }

// Gathering counts the files that wait for others.
func (f *Flow) Gathering() int { return f.gather.Len() }

// EachUnsettled lists the files that are no job yet: for which rule, since when and why.
func (f *Flow) EachUnsettled(list func(rule, path string, since time.Time, why string)) {
	f.gather.Each(func(path string, k gather.Key, since time.Time, missing []string) {
		list(k.Rule, path, since, plan.Awaits(missing))
	})
	for _, w := range f.settle.All() {
		list(w.Rule, w.Path, w.Since, w.Why)
	}
	for path, o := range f.opening.files {
		list(o.rule, path, o.at, "its content is being read")
	}
}

// Running lists the jobs whose attempt is under way, the longest running first.
func (f *Flow) Running() []*job.Job {
	rows := make([]*job.Job, 0, len(f.AtWork))
	for _, j := range f.AtWork {
		rows = append(rows, &j.Row)
	}
	slices.SortFunc(rows, func(a, b *job.Job) int { return a.Last.Started.Compare(b.Last.Started) })
	return rows
}

// Open counts the jobs in the memory that are not over.
func (f *Flow) Open() int { return len(f.ByID) }

// Behind lists the rules with jobs in the ledger alone.
func (f *Flow) Behind() (rules []string) {
	for name := range f.Window.More {
		rules = append(rules, name)
	}
	return rules
}

// Troubles are the rules that need attention, and why.
func (f *Flow) Troubles() map[string]string { return f.InTrouble }

// Paused are the rules and folders that are paused.
func (f *Flow) Paused() job.Pauses { return f.Pauses }

// Absent are the watched folders that are not there.
func (f *Flow) Absent() map[string]bool { return f.NotThere }

// LookAgain reports whether jobs placed something where a rule watches, since it was asked
// last: a chain goes on to its end.
func (f *Flow) LookAgain() bool {
	was := f.Chained
	f.Chained = false
	return was
}

// EndWaits ends what a single pass that has nothing else to do need not wait for any longer: what is
// overdue, counted from when the files changed. It reports whether anything is.
func (f *Flow) EndWaits(now time.Time) bool {
	files, groups := f.settle.EndWaits(now), f.gather.EndWaits(now)
	return files || groups
}

// Finished reports whether a single pass has nothing left to decide on.
func (f *Flow) Finished() bool {
	for name := range f.Window.More {
		if !f.IsHeld(name) {
			return false
		}
	}
	if len(f.again.due) > 0 || f.again.pending() || f.settle.Busy() || f.gather.Busy() || len(f.asking) > 0 ||
		len(f.opening.files) > 0 ||
		len(f.unmatched.queue) > 0 ||
		f.anyRemoval() {
		return false
	}
	for _, j := range f.ByID {
		if s := j.Row.State; s != job.Retrying && s != job.Settling && s != job.Held &&
			j.Setback().RetryAt.IsZero() && !(s == job.Queued && f.IsHeld(j.Row.Rule)) {
			return false
		}
	}
	return true
}
