package flow

import (
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/underway"
)

// unmatchedAfter is how long a file that no rule takes must be left alone
// before people are told of it.
const unmatchedAfter = 10 * time.Second

// maxUnmatchedFiles bounds the files that are waited for; the next sweep finds the others.
const maxUnmatchedFiles = 10_000

// unmatched are files that no rule takes, for those who want to be told.
type unmatched struct {
	noted map[string]bool
	queue []dueFile // of those, in the order in which they come due
}

type dueFile struct {
	path string
	due  time.Time
}

// unclaimed notes a file that no rule takes. One that is noted already keeps its
// time, or each look through its folder would put it off; whether it was left alone
// is seen when it is due.
func (f *Flow) unclaimed(path string, now time.Time) {
	if len(f.Set.File.Notify.Channels(rule.OnUnmatched)) == 0 || f.Set.LeftAlone(path) != "" || f.Set.Placed(path) {
		return
	}
	n := &f.unmatched
	due := now.Add(unmatchedAfter)
	if f.Once {
		due = now // a sweep does not wait for it
	}
	if n.noted[path] || len(n.noted) >= maxUnmatchedFiles {
		return
	}
	underway.Mark(&n.noted, path)
	n.queue = append(n.queue, dueFile{path, due})
}

// next is when the first of them is due.
func (n *unmatched) next() (at time.Time, ok bool) {
	if len(n.queue) == 0 {
		return at, false
	}
	return n.queue[0].due, true
}

// drop lets go of the files in a folder.
func (n *unmatched) drop(folder string) {
	n.queue = slices.DeleteFunc(n.queue, func(one dueFile) bool {
		_, below := plan.Below(one.path, folder)
		if below {
			delete(n.noted, one.path)
		}
		return below
	})
}

// findUnmatched finds the files that were left alone long enough, are still
// there, and were not told of as they are.
func (f *Flow) findUnmatched(now time.Time) {
	n := &f.unmatched
	for len(n.queue) > 0 {
		path, due := n.queue[0].path, n.queue[0].due
		if due.After(now) {
			return
		}
		n.queue = n.queue[1:]
		delete(n.noted, path)
		facts, err := f.Eyes.Look(path)
		if underway.IsNoAnswer(err) && !f.Once {
			f.unclaimed(path, now)
		}
		if err != nil || !facts.Exists || facts.Dir {
			continue
		}
		if !f.Once && (facts.Writers == file.Some || changedWithin(facts, unmatchedAfter, now)) {
			f.unclaimed(path, now)
			continue
		}
		if known, ok, err := f.Store.Known("", path); err != nil || ok && known.Facts.Same(facts) {
			continue
		}
		f.Store.Remember(job.Known{File: path, Facts: facts})
		f.Out.Unmatched = append(f.Out.Unmatched, path)
	}
}

// changedWithin reports whether a file changed in the last while. The clock of another
// machine may be ahead; a change to come counts as long ago.
func changedWithin(facts file.Facts, span time.Duration, now time.Time) bool {
	quiet := now.Sub(facts.Change.Time())
	return quiet >= 0 && quiet < span
}
