package flow

import (
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
)

// IsBusy reports whether files wait to settle for a rule, or are looked into.
func (f *Flow) IsBusy(rule string) bool {
	if f.settle.Waits(rule) {
		return true
	}
	for _, o := range f.opening.files {
		if o.under == rule {
			return true
		}
	}
	return false
}

// WentAbsent notes that a watched folder is not there; silent tells that it does not answer.
func (f *Flow) WentAbsent(folder string, silent bool) {
	f.NotThere[folder] = true
	if silent {
		f.silent(folder)
	}
}

// IsThere notes that a watched folder is there.
func (f *Flow) IsThere(folder string) {
	if f.NotThere[folder] {
		f.CameBack(folder)
	}
	delete(f.NotThere, folder)
	f.Unhold()
	f.Hurry(folder)
}

// Offer begins to wait for a file, or for the folder it lies in, if a rule
// could take it.
func (f *Flow) Offer(path string, dir bool, kind settle.Kind, now time.Time) {
	if owner, ok := f.markers[path]; ok {
		f.settle.Nudge(owner, now)
		return
	}
	if f.Claims[path] != nil {
		return // it is offered when the job is over that has placed it
	}
	isSetting := !dir && f.settingChanged(path, now)
	candidates := f.CandidatesOf(path, dir, now)
	if len(candidates) == 0 {
		if !dir && !isSetting {
			f.unclaimed(path, now)
			f.arrived(path, kind, false)
		}
		return
	}
	first := candidates[0]
	unit := first.Unit
	if !f.arrived(unit, kind, true) {
		return
	}
	if kind == settle.Found {
		f.found(unit)
	}
	if kind == settle.Written && first.Rule.Ready.Writers != rule.WritersIgnore {
		return // its writer will close it
	}
	if f.lent[unit] || f.Claims[unit] != nil {
		return
	}
	j := f.ByPath[unit]
	if kind == settle.Found {
		if rules := f.leaving[first.Root]; rules != nil {
			f.leave(unit, candidates, rules)
		}
		if j != nil {
			j.Others = true
		}
	}
	if !f.settle.Has(unit) && f.Window.Holds(&f.Jobs, unit) {
		return // a queued job looks again before it starts
	}
	switch {
	case j != nil && !j.Parked[unit]:
		f.changedWhile(j, unit, kind)
		return
	case kind != settle.Found && kind != settle.Nudged:
		f.suspect(unit, candidates)
	}
	f.gather.Leave(unit)
	if first.Rule.Folded() {
		kind = settle.Created // what was closed inside says little about the whole
	}
	f.Wait(unit, first.Rule, kind, now)
}

// leave remembers a file that was there before rules watched its folder, for
// those that leave such files alone.
func (f *Flow) leave(path string, candidates []plan.Candidate, rules map[string]bool) {
	facts, err := f.Eyes.Look(path)
	if underway.IsNoAnswer(err) {
		f.leaveLater(path, rules)
	}
	if err != nil || !facts.Exists {
		return
	}
	f.leaveAs(path, candidates, rules, facts)
}

// leaveAs remembers a file as it is.
func (f *Flow) leaveAs(path string, candidates []plan.Candidate, rules map[string]bool, facts file.Facts) {
	for _, c := range candidates {
		name := c.Rule.Name.S
		if !rules[name] {
			continue
		}
		if _, known, err := f.Store.Known(name, path); err == nil && !known {
			f.Store.Remember(job.Known{Rule: name, File: path, Facts: facts})
		}
	}
}

// suspect notes that a file appeared while jobs ran that may have made it.
func (f *Flow) suspect(path string, candidates []plan.Candidate) {
	var running []loop.Running
	for _, j := range f.AtWork {
		for _, c := range candidates {
			if c.Rule == j.Rule {
				running = append(running, loop.Running{Input: j.Row.File, Depth: j.Row.Depth})
			}
		}
	}
	if len(running) > 0 {
		f.Book.Appeared(path, running)
	}
}

// Wait has the settling machine wait for a unit under a rule's policy.
func (f *Flow) Wait(unit string, r *rule.Rule, kind settle.Kind, now time.Time) {
	if m := plan.MarkerOf(r, unit); m != "" {
		f.markers[m] = unit
	}
	f.settle.Event(unit, kind, plan.Policy(r), now)
}

// CandidatesOf lists the rules that could take a file or folder, or the folder
// that it lies in. What cannot be read from the ledger is asked again later.
func (f *Flow) CandidatesOf(path string, dir bool, now time.Time) []plan.Candidate {
	if !f.Set.TakesFolders() {
		if dir {
			return nil
		}
		return f.Candidates(path)
	}
	list, err := take.Candidates(f.Set, path, dir, f.made)
	if err != nil {
		f.askAgain(path, err, now)
	}
	return list
}

func (f *Flow) made(unit string) (bool, error) { return take.MadeByRules(f.Set, f.Store, unit) }

// askAgain has a path offered again a moment later, because the ledger could not
// be asked about it: a file that may have been handled before is never taken for a
// new one.
func (f *Flow) askAgain(path string, err error, now time.Time) {
	f.aging.Set(path, now.Add(time.Second))
	if !f.unread[path] {
		f.unread[path] = true
		f.Out.Overdue = append(f.Out.Overdue, turn.OverdueFile{File: path, Why: err.Error()})
	}
}

// goneCandidates lists the rules that may have taken what was at a path: a file, or a folder as
// a whole.
func (f *Flow) goneCandidates(path string) []plan.Candidate {
	list := f.Candidates(path)
	if !f.Set.TakesFolders() {
		return list
	}
	whole := func(c plan.Candidate) bool { return c.Unit != path }
	list = slices.DeleteFunc(slices.Clone(list), whole)
	return append(list, slices.DeleteFunc(slices.Clone(f.Set.Units(path, true)), whole)...)
}

// maxAsked bounds the answers that candidates keeps.
const maxAsked = 4096

// Candidates lists the rules that could take a file. That is asked several
// times on a file's way, so the answers are kept while there is work.
func (f *Flow) Candidates(path string) []plan.Candidate {
	if known, ok := f.asked[path]; ok {
		return known
	}
	if f.asked == nil {
		f.asked = map[string][]plan.Candidate{}
	}
	if len(f.asked) == maxAsked {
		clear(f.asked)
	}
	found := f.Set.Candidates(path)
	f.asked[path] = found
	return found
}

// changedWhile notes that a job's file changed while the job was under way.
func (f *Flow) changedWhile(j *underway.Job, path string, kind settle.Kind) {
	if kind == settle.Found || j.Row.State != job.Running {
		return // a queued job looks again before it starts
	}
	switch j.Rule.Running {
	case rule.RunOwnWork:
	case rule.RunStopOld:
		if !j.StopOld {
			j.StopOld = true
			f.Out.Stops = append(f.Out.Stops, j.Row.ID)
		}
	default:
		underway.Mark(&j.Again, path)
	}
}

// untilArrived is how much later the system may tell of a renamed file's new name than of its old one.
const untilArrived = 100 * time.Millisecond

// WentAway notes that a name is no longer there. Whether that means
// anything is decided after the rule's quiet time: an editor may only be
// replacing the file.
func (f *Flow) WentAway(path string, dir bool, now time.Time) {
	if f.lent[path] {
		return // it is asked for when it is returned
	}
	f.settingChanged(path, now)
	if f.Set.TakesFolders() {
		if c := f.CandidatesOf(path, dir, now); len(c) > 0 && c[0].Unit != path {
			if f.settle.Has(c[0].Unit) {
				f.settle.Event(c[0].Unit, settle.Created, plan.Policy(c[0].Rule), now)
			}
			return
		}
	}
	f.letGoOf(path, now)
	if f.Claims[path] != nil || !f.Store.KnowsFiles() {
		return // what a job took away did not go
	}
	// none for a folder of files: what was known below is found missing by its sweep
	if f.waitsForPerson(path) {
		return
	}
	var inodes []string
	var due time.Time
	for _, c := range f.goneCandidates(path) {
		row, known, err := f.Store.Known(c.Rule.Name.S, path)
		if known && err == nil {
			inodes = append(inodes, underway.Inode(row.Facts))
		}
		if (known || err != nil) && due.IsZero() {
			due = now.Add(c.Rule.Debounce.Duration)
			if c.Rule.Reacts(file.Renamed) {
				due = due.Add(untilArrived)
			}
		}
	}
	if !due.IsZero() {
		f.gone.add(path, due, inodes...)
	}
}
