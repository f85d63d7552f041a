package flow

import (
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/settle"
)

// Chosen is what a pass by hand works on. The zero value is everything.
type Chosen struct {
	Rules []string  // these rules only
	Paths []string  // these files, and what lies below these folders, only
	Since time.Time // files whose content was changed by then are left out
	Again bool      // what was handled before is handled again
	None  bool      // nothing at all, until something is chosen
}

// Has reports whether a file of a rule is chosen.
func (c *Chosen) Has(rule, path string) bool { return c.hasRule(rule) && c.hasPath(path) }

func (c *Chosen) hasRule(rule string) bool {
	return len(c.Rules) == 0 || slices.Contains(c.Rules, rule)
}

func (c *Chosen) hasPath(path string) bool {
	return !c.None && len(c.Paths) == 0 || slices.ContainsFunc(c.Paths, func(chosen string) bool {
		_, below := plan.Below(path, chosen)
		_, holds := plan.Below(chosen, path) // a folder that is taken as a whole
		return below || holds || path == chosen
	})
}

// old reports whether a file was changed too long ago.
func (c *Chosen) old(facts file.Facts) bool {
	return !c.Since.IsZero() && facts.Mod.Time().Before(c.Since)
}

// WaitForNext has the flow work on the next file that arrives, and on nothing else.
func (f *Flow) WaitForNext() { f.chosen.None, f.next = true, true }

// arrived chooses a file that arrives, if one is waited for. It reports whether the flow goes
// on with it.
func (f *Flow) arrived(unit string, kind settle.Kind, taken bool) bool {
	if !f.next {
		return f.chosen.hasPath(unit)
	}
	if kind == settle.Found {
		return false // it was there before
	}
	if taken {
		f.chosen.Paths, f.next = []string{unit}, false
	}
	f.out.Arrived = append(f.out.Arrived, Arrival{unit, taken})
	return taken
}

// HandleAgain has what is found from now on and is chosen be handled again, until FoundAll.
func (f *Flow) HandleAgain(c Chosen) { f.renew = append(f.renew, c) }

// FoundAll ends that: all folders were looked through.
func (f *Flow) FoundAll() { f.renew = nil }

// found notes that a file that was found is to be handled again.
func (f *Flow) found(unit string) {
	for i := range f.renew {
		if c := &f.renew[i]; c.hasPath(unit) {
			if f.forced == nil {
				f.forced = map[string]*Chosen{}
			}
			f.forced[unit] = c
		}
	}
}

// isForced reports whether a rule handles a file whatever it remembers of it.
func (f *Flow) isForced(rule, unit string, facts file.Facts) bool {
	c := f.forced[unit]
	return c != nil && c.hasRule(rule) && !c.old(facts)
}

// Idle reports whether nothing of what is chosen is under way: no file settles or is looked into, no job runs
// or waits for a worker.
func (f *Flow) Idle(c Chosen) bool {
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
	for _, j := range f.open {
		switch s := j.row.State; {
		case s == job.Retrying, s == job.Settling, s == job.Held, f.isHeld(j.row.Rule), !j.setback().retryAt.IsZero():
		case c.Has(j.row.Rule, j.row.File):
			return false
		}
	}
	return !slices.ContainsFunc(f.Behind(), func(name string) bool { return c.hasRule(name) && !f.isHeld(name) })
}
