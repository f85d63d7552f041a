package flow

import (
	"path/filepath"
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
)

// WentAbsent notes that a watched folder is not there; silent tells that it does not answer.
func (f *Flow) WentAbsent(folder string, silent bool) {
	f.absent[folder] = true
	if silent {
		f.silent(folder)
	}
}

// IsThere notes that a watched folder is there.
func (f *Flow) IsThere(folder string) {
	if f.absent[folder] {
		f.cameBack(folder)
	}
	delete(f.absent, folder)
	f.unhold()
}

// Offer begins to wait for a file, or for the folder it lies in, if a rule
// could take it.
func (f *Flow) Offer(path string, dir bool, kind settle.Kind, now time.Time) {
	if owner, ok := f.markers[path]; ok {
		f.settle.Nudge(owner, now)
		return
	}
	if f.claims[path] != nil {
		return // it is offered when the job is over that has placed it
	}
	isSetting := !dir && f.settingChanged(path, now)
	candidates := f.candidatesOf(path, dir, now)
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
	if f.lent[unit] || f.claims[unit] != nil {
		return
	}
	if !f.settle.Has(unit) && f.window.holds(f, unit) {
		return // a queued job looks again before it starts
	}
	if j := f.byPath[unit]; j != nil && !j.parked[unit] {
		f.changedWhile(j, unit, kind)
		return
	}
	switch rules := f.leaving[first.Root]; {
	case kind == settle.Found && rules != nil:
		f.leave(unit, candidates, rules)
	case kind != settle.Found && kind != settle.Nudged:
		f.suspect(unit, candidates)
	}
	f.gather.Leave(unit)
	if first.Rule.Folded() {
		kind = settle.Created // what was closed inside says little about the whole
	}
	f.wait(unit, first.Rule, kind, now)
}

// isAbsent reports whether a watched folder, or the one a glob of folders
// begins at, is not there.
func (f *Flow) isAbsent(watch string) bool {
	for len(f.absent) > 0 {
		if f.absent[watch] {
			return true
		}
		up := filepath.Dir(watch)
		if up == watch {
			return false
		}
		watch = up
	}
	return false
}

// leave remembers a file that was there before rules watched its folder, for
// those that leave such files alone.
func (f *Flow) leave(path string, candidates []plan.Candidate, rules map[string]bool) {
	facts, err := f.eyes.Look(path)
	if isNoAnswer(err) {
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
		if _, known, err := f.store.Known(name, path); err == nil && !known {
			f.store.Remember(job.Known{Rule: name, File: path, Facts: facts})
		}
	}
}

// suspect notes that a file appeared while jobs ran that may have made it.
func (f *Flow) suspect(path string, candidates []plan.Candidate) {
	var running []loop.Running
	for _, j := range f.running {
		for _, c := range candidates {
			if c.Rule == j.rule {
				running = append(running, loop.Running{Input: j.row.File, Depth: j.row.Depth})
			}
		}
	}
	if len(running) > 0 {
		f.book.Appeared(path, running)
	}
}

// wait has the settling machine wait for a unit under a rule's policy.
func (f *Flow) wait(unit string, r *rule.Rule, kind settle.Kind, now time.Time) {
	if m := plan.MarkerOf(r, unit); m != "" {
		f.markers[m] = unit
	}
	f.settle.Event(unit, kind, plan.Policy(r), now)
}

// candidatesOf lists the rules that could take a file or folder, or the folder
// that it lies in. What cannot be read from the ledger is asked again later.
func (f *Flow) candidatesOf(path string, dir bool, now time.Time) []plan.Candidate {
	if !f.set.TakesFolders() {
		if dir {
			return nil
		}
		return f.candidates(path)
	}
	list, err := take.Candidates(f.set, path, dir, f.made)
	if err != nil {
		f.askAgain(path, err, now)
	}
	return list
}

func (f *Flow) made(unit string) (bool, error) { return take.MadeByRules(f.set, f.store, unit) }

// askAgain has a path offered again a moment later, because the ledger could not
// be asked about it: a file that may have been handled before is never taken for a
// new one.
func (f *Flow) askAgain(path string, err error, now time.Time) {
	f.aging.Set(path, now.Add(time.Second))
	if !f.unread[path] {
		f.unread[path] = true
		f.out.Overdue = append(f.out.Overdue, OverdueFile{File: path, Why: err.Error()})
	}
}

// goneCandidates lists the rules that may have taken what was at a path: a file, or a folder as
// a whole.
func (f *Flow) goneCandidates(path string) []plan.Candidate {
	list := f.candidates(path)
	if !f.set.TakesFolders() {
		return list
	}
	whole := func(c plan.Candidate) bool { return c.Unit != path }
	list = slices.DeleteFunc(slices.Clone(list), whole)
	return append(list, slices.DeleteFunc(slices.Clone(f.set.Units(path, true)), whole)...)
}

// maxAsked bounds the answers that candidates keeps.
const maxAsked = 4096

// candidates lists the rules that could take a file. That is asked several
// times on a file's way, so the answers are kept while there is work.
func (f *Flow) candidates(path string) []plan.Candidate {
	if known, ok := f.asked[path]; ok {
		return known
	}
	if f.asked == nil {
		f.asked = map[string][]plan.Candidate{}
	}
	if len(f.asked) == maxAsked {
		clear(f.asked)
	}
	found := f.set.Candidates(path)
	f.asked[path] = found
	return found
}

// changedWhile notes that a job's file changed while the job was under way.
func (f *Flow) changedWhile(j *Job, path string, kind settle.Kind) {
	if kind == settle.Found || j.row.State != job.Running {
		return // a queued job looks again before it starts
	}
	switch j.rule.Running {
	case rule.RunOwnWork:
	case rule.RunStopOld:
		if !j.stopOld {
			j.stopOld = true
			f.out.Stops = append(f.out.Stops, j.row.ID)
		}
	default:
		mark(&j.again, path)
	}
}

// WentAway notes that a name is no longer there. Whether that means
// anything is decided after the rule's quiet time: an editor may only be
// replacing the file.
func (f *Flow) WentAway(path string, dir bool, now time.Time) {
	f.settingChanged(path, now)
	if f.set.TakesFolders() {
		if c := f.candidatesOf(path, dir, now); len(c) > 0 && c[0].Unit != path {
			if f.settle.Has(c[0].Unit) {
				f.settle.Event(c[0].Unit, settle.Created, plan.Policy(c[0].Rule), now)
			}
			return
		}
	}
	f.letGoOf(path, now)
	if f.claims[path] != nil || !f.store.KnowsFiles() {
		return // what a job took away did not go
	}
	// none for a folder of files: what was known below is found missing by its sweep
	if f.waitsForPerson(path) {
		return
	}
	var inodes []string
	var due time.Time
	for _, c := range f.goneCandidates(path) {
		row, known, err := f.store.Known(c.Rule.Name.S, path)
		if known && err == nil {
			inodes = append(inodes, inode(row.Facts))
		}
		if (known || err != nil) && due.IsZero() {
			due = now.Add(c.Rule.Debounce.Duration)
		}
	}
	if !due.IsZero() {
		f.gone.add(path, due, inodes...)
	}
}
