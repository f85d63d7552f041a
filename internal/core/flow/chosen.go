package flow

import (
	"slices"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
)

// WaitForNext has the flow work on the next file that arrives, and on nothing else.
func (f *Flow) WaitForNext() { f.Chosen.None, f.AwaitsNext = true, true }

// arrived chooses a file that arrives, if one is waited for. It reports whether the flow goes
// on with it.
func (f *Flow) arrived(unit string, kind settle.Kind, taken bool) bool {
	if !f.AwaitsNext {
		return f.Chosen.HasPath(unit)
	}
	if kind == settle.Found {
		return false // it was there before
	}
	if taken {
		f.Chosen.Paths, f.AwaitsNext = []string{unit}, false
	}
	f.Out.Arrived = append(f.Out.Arrived, turn.Arrival{File: unit, Taken: taken})
	return taken
}

// HandleAgain has what is found from now on and is chosen be handled again, until FoundAll.
func (f *Flow) HandleAgain(c turn.Chosen) { f.renew = append(f.renew, c) }

// FoundAll ends that: all folders were looked through.
func (f *Flow) FoundAll() { f.renew = nil }

// found notes that a file that was found is to be handled again.
func (f *Flow) found(unit string) {
	for i := range f.renew {
		if c := &f.renew[i]; c.HasPath(unit) {
			if f.forced == nil {
				f.forced = map[string]*turn.Chosen{}
			}
			f.forced[unit] = c
		}
	}
}

// isForced reports whether a rule handles a file whatever it remembers of it.
func (f *Flow) isForced(rule, unit string, facts file.Facts) bool {
	c := f.forced[unit]
	return c != nil && c.HasRule(rule) && !c.Old(facts)
}

// Idle reports whether nothing of what is chosen is under way: no file settles or is looked into, no job runs
// or waits for a worker.
func (f *Flow) Idle(c turn.Chosen) bool {
	for _, w := range f.settle.All() {
		if !w.Stuck && c.Has(w.Rule, w.Path) {
			return false
		}
	}
	for path, o := range f.opening.files {
		if c.Has(o.under, path) {
			return false
		}
	}
	for _, j := range f.ByID {
		switch s := j.Row.State; {
		case s == job.Retrying, s == job.Settling, s == job.Held, f.IsHeld(j.Row.Rule), !j.Setback().RetryAt.IsZero():
		case c.Has(j.Row.Rule, j.Row.File):
			return false
		}
	}
	return !slices.ContainsFunc(f.Behind(), func(name string) bool { return c.HasRule(name) && !f.IsHeld(name) })
}
