package commits

import (
	"slices"
	"time"

	"stilltide/internal/tables"
)

// Late rows are written once nothing urgent has come for a moment, or, in a
// burst, no row at all for longer. They are written a group at a time, and in any
// case before they are old, so that who reads the tables from outside is never
// far behind. From manyLate on they are written without a pause; above maxLate whoever
// waits for a commit waits until they are fewer, so that a burst fills a folder and not
// the memory.
const (
	lateAfter      = 5 * time.Millisecond
	lateAfterBurst = 100 * time.Millisecond
	lateAtMost     = 3 * time.Second
	burstRows      = 64
	manyLate       = 25_000
	maxLate        = 32_000
)

// maxRows bounds a commit, so that callers waiting for its first rows do not wait
// for all that came after them.
const maxRows = 1500

// gathering is how long rows that nobody waits for are gathered after a commit:
// the row of a job that passes through its states at once is written once. It is
// also what a crash can lose of commands that ran, which then run again.
const gathering = 10 * time.Millisecond

// journalFrom is from how many rows that somebody waits for a part of the
// journal costs less than the rows themselves.
const journalFrom = 24

// commit is what one transaction writes.
type commit struct {
	urgent  []tables.Written
	journal bool             // the urgent rows go to the journal, in parts
	late    []tables.Written // what the groups hold
	groups  []*tables.Group
	first   int64 // the number of the first part
	placed  int64 // the greatest number of a placement
}

// intends tells that a placement is among the urgent rows, for which somebody
// will wait, if nobody does yet.
func (c *commit) intends() bool {
	return slices.ContainsFunc(c.urgent, func(w tables.Written) bool { return w.Record.Placement != nil })
}

func (c *commit) empty() bool { return len(c.urgent) == 0 && len(c.groups) == 0 }

// parts cuts the urgent rows into what a part of the journal holds.
func (c *commit) parts(f func(number int64, rows []tables.Written) error) error {
	for number, left := c.first, c.urgent; len(left) > 0; number++ {
		n := min(len(left), tables.GroupRows)
		if err := f(number, left[:n]); err != nil {
			return err
		}
		left = left[n:]
	}
	return nil
}

// next takes what the next commit holds; wait is how long it may be until late
// rows are due, 0 if there are none.
func (w *Writer) next() (c commit, wait time.Duration, closing bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now, u := time.Now(), &w.rows
	all := w.closing
	for _, one := range w.waiting {
		all = all || one.all
	}
	if w.renewed && u.Late > burstRows {
		w.busy = now
	}
	w.renewed = false
	if len(w.waiting) > 0 {
		w.busy = now
	} else if more := gathering - now.Sub(w.last); more > 0 && !all && len(u.Urgent) < maxRows &&
		u.Late <= manyLate {
		return c, more, false
	}
	c.urgent = u.Take(maxRows)
	everything := all && len(u.Urgent) == 0
	c.journal = !everything && len(c.urgent) > 0 && (u.Journaled > 0 || len(c.urgent) >= journalFrom &&
		(len(w.waiting) > 0 || c.intends()))
	c.first = u.LastJournal + 1
	if !everything && !c.journal {
		u.Supersede(c.urgent)
	}
	if len(u.Groups) == 0 {
		return c, 0, w.closing
	}
	n, wait := w.due(now, everything, len(w.waiting) > 0 && len(c.urgent) > 0)
	c.groups = u.Groups[:n:n]
	for _, g := range c.groups {
		c.late = g.Members(c.late)
	}
	return c, wait, w.closing
}

// due reports how many groups are to be written now, and when the next would be
// if nothing else comes. Whoever waits for the urgent rows does not wait for late
// ones, too, unless those are far too many or far too old.
func (w *Writer) due(now time.Time, everything, waited bool) (n int, wait time.Duration) {
	u := &w.rows
	after := lateAfter
	if u.Late > burstRows {
		after = w.o.Quiet
	}
	quiet := after - now.Sub(w.busy)
	old := lateAtMost - now.Sub(u.Groups[0].Since)
	switch wait = max(min(quiet, old), time.Millisecond); {
	case everything:
		return len(u.Groups), wait
	case waited && u.Late < maxLate && old > -lateAtMost:
		return 0, wait
	case u.Late > manyLate:
		return u.First(2 * tables.GroupRows), wait
	case old <= 0, quiet <= 0 && len(u.Urgent) == 0:
		return u.First(tables.GroupRows), wait
	}
	return 0, wait
}

// committed notes what a commit has written. What could not be written is kept,
// in its order, for another try; callers waiting for durability then wait for
// all of it, and who wants to read the tables is told that it cannot be now.
func (w *Writer) committed(c *commit, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err != nil {
		w.rows.PutBack(c.urgent)
		w.came = w.durable + int64(len(w.rows.Urgent))
		waiting := w.waiting
		w.waiting = nil
		for _, one := range waiting {
			if one.all {
				one.done <- err
				continue
			}
			one.rows = w.came
			w.waiting = append(w.waiting, one)
		}
		return
	}
	now := time.Now()
	w.last = now
	if len(c.urgent) > 0 {
		w.busy = now
	}
	w.counted = max(w.counted, c.placed)
	w.rows.InTables(c.late, now)
	w.rows.Drop(len(c.groups))
	settled := c.late
	if c.journal {
		_ = c.parts(func(number int64, rows []tables.Written) error {
			w.rows.InJournal(rows, number, now)
			w.rows.LastJournal = number
			return nil
		})
	} else {
		w.rows.InTables(c.urgent, now)
		settled = append(settled, c.urgent...)
	}
	w.durable += int64(len(c.urgent))
	w.o.Settled(settled)
}
