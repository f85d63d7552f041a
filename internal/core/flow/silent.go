package flow

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
)

// surely takes from paths those that may not be answered, which are looked at beside the
// flow, and leaves the others.
func (f *Flow) surely(paths []string) []string {
	sure := paths[:0]
	for _, path := range paths {
		if !f.Eyes.Unsure(path) {
			sure = append(sure, path)
			continue
		}
		if _, under := f.asking[path]; under {
			f.asking[path] = true
			continue
		}
		f.asking[path] = false
		f.Out.Looks = append(f.Out.Looks, path)
	}
	return sure
}

// Answered brings the answer to a look beside the flow. If something happened to the path
// meanwhile it is asked again.
func (f *Flow) Answered(path string, look turn.Look, now time.Time) {
	again := f.asking[path]
	delete(f.asking, path)
	switch {
	case !f.settle.Has(path):
	case again:
		f.settle.Nudge(path, now)
	default:
		f.lookedAt(path, look, now)
	}
}

// leaveLater has a file that was there before rules watched its folder left alone when it
// has been looked at.
func (f *Flow) leaveLater(path string, rules map[string]bool) {
	if f.owed == nil {
		f.owed = map[string]map[string]bool{}
	}
	f.owed[path] = rules
}

// leaveOwed does so.
func (f *Flow) leaveOwed(path string, candidates []plan.Candidate, facts file.Facts) {
	if rules := f.owed[path]; rules != nil {
		delete(f.owed, path)
		f.leaveAs(path, candidates, rules, facts)
	}
}

// silent lets go of what waits in a folder that does not answer: it is found again by the
// sweep when the folder does. Jobs that run there give their workers back.
func (f *Flow) silent(folder string) {
	for _, w := range f.settle.All() {
		if _, below := plan.Below(w.Path, folder); below {
			f.settle.Forget(w.Path)
		}
	}
	for path := range f.asking {
		if _, below := plan.Below(path, folder); below {
			delete(f.asking, path) // its answer comes too late to be one
		}
	}
	f.opening.drop(folder)
	for s := range f.again.reading {
		if _, below := plan.Below(s.path, folder); below {
			delete(f.again.reading, s)
		}
	}
	f.gone.dropBelow(folder)
	f.unmatched.drop(folder)
	for id, j := range f.AtWork {
		if f.IsAbsent(j.Row.Watch) {
			f.Dispatch.Idle(id)
		}
	}
}
