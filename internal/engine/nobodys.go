package engine

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
)

// nobodysAfter is how long a file that no rule takes must be left alone
// before people are told of it.
const nobodysAfter = 10 * time.Second

// mostNobodys bounds the files that are waited for; the next sweep finds the others.
const mostNobodys = 10_000

// nobodys are files that no rule takes, for those who want to be told.
type nobodys struct {
	due   map[string]time.Time
	queue []string // in the order in which they come due
	found []string // to be told
}

// unclaimed notes a file that no rule takes.
func (f *flow) unclaimed(path string, now time.Time) {
	if len(f.set.File.Notify.Channels(rule.OnUntaken)) == 0 || f.set.LeftAlone(path) != "" || f.set.Placed(path) {
		return
	}
	n := &f.nobodys
	if n.due == nil {
		n.due = map[string]time.Time{}
	}
	if _, ok := n.due[path]; !ok {
		if len(n.due) >= mostNobodys {
			return
		}
		n.queue = append(n.queue, path)
	}
	n.due[path] = now.Add(nobodysAfter)
	if f.once {
		n.due[path] = now // a sweep does not wait for it
	}
}

// next is when the first of them is due.
func (n *nobodys) next() (at time.Time, ok bool) {
	if len(n.queue) == 0 {
		return at, false
	}
	return n.due[n.queue[0]], true
}

// lookForNobodys finds the files that were left alone long enough, are still
// there, and were not told of as they are.
func (f *flow) lookForNobodys(now time.Time) {
	n := &f.nobodys
	for len(n.queue) > 0 {
		path := n.queue[0]
		if n.due[path].After(now) {
			return
		}
		n.queue = n.queue[1:]
		delete(n.due, path)
		facts, err := f.look(path)
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
