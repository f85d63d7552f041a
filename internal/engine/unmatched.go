package engine

import (
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
)

// unmatchedAfter is how long a file that no rule takes must be left alone
// before people are told of it.
const unmatchedAfter = 10 * time.Second

// maxUnmatchedFiles bounds the files that are waited for; the next sweep finds the others.
const maxUnmatchedFiles = 10_000

// unmatched are files that no rule takes, for those who want to be told.
type unmatched struct {
	due   map[string]time.Time
	queue []dueFile // in the order in which they come due; one that is due later by now is passed over
	found []string  // to be told
}

type dueFile struct {
	path string
	due  time.Time
}

// unclaimed notes a file that no rule takes.
func (f *flow) unclaimed(path string, now time.Time) {
	if len(f.set.File.Notify.Channels(rule.OnUnmatched)) == 0 || f.set.LeftAlone(path) != "" || f.set.Placed(path) {
		return
	}
	n := &f.unmatched
	if n.due == nil {
		n.due = map[string]time.Time{}
	}
	due := now.Add(unmatchedAfter)
	if f.once {
		due = now // a sweep does not wait for it
	}
	before, ok := n.due[path]
	switch {
	case !ok && len(n.due) >= maxUnmatchedFiles:
		return
	case ok && due.Sub(before) < time.Second:
		return // a file that is written to all the time makes few entries
	}
	n.due[path] = due
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
			delete(n.due, one.path)
		}
		return below
	})
}

// findUnmatched finds the files that were left alone long enough, are still
// there, and were not told of as they are.
func (f *flow) findUnmatched(now time.Time) {
	n := &f.unmatched
	for len(n.queue) > 0 {
		path, due := n.queue[0].path, n.queue[0].due
		if due.After(now) {
			return
		}
		n.queue = n.queue[1:]
		if !n.due[path].Equal(due) {
			continue // it changed meanwhile, and stands further back
		}
		delete(n.due, path)
		facts, err := f.look(path)
		if isNoAnswer(err) && !f.once {
			f.unclaimed(path, now)
		}
		if err != nil || !facts.Exists || facts.Dir {
			continue
		}
		if facts.Writers == file.Some && !f.once {
			f.unclaimed(path, now)
			continue
		}
		if known, ok, err := f.store.Known("", path); err != nil || ok && known.Facts.Same(facts) {
			continue
		}
		f.store.Remember(ledger.Known{File: path, Facts: facts})
		n.found = append(n.found, path)
	}
}
