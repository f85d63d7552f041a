package ledger

import (
	"time"

	"stilltide/internal/core/job"
)

// underway holds the rows that were recorded and are not in their tables yet.
//
// Only the newest state of a row counts: a job that passes through several
// states before its row is written is written once. A row can be under way in
// three ways at once, each newer than the next: urgent (the next commit makes it
// durable), flying (in the commit that is being made), and late (it is durable
// in the journal, or nobody waits for it).
type underway struct {
	rows   map[rowKey]*row
	named  map[rowName]*row
	urgent []*row // in the order in which they came
	groups []*group
	late   int // rows in groups

	journaled   int   // groups that are in the journal
	lastJournal int64 // the greatest number of one
}

// row is one row on its way to its table.
type row struct {
	key    rowKey
	name   *rowName // instead of key
	urgent *record
	flying *record
	late   *record
	with   bool   // urgent belongs into the commit of the urgent row before it
	group  *group // that late belongs to
	at     int    // its place in there
}

// group is rows that are written together. Those of a part of the journal are
// one: when they have been written, the journal does not need that part any more.
// A row belongs to the last part of the journal that it is in. Groups are written
// in their order, so that what is left in the journal is always newer than what
// the tables have.
type group struct {
	journal int64 // the number of that part, 0 for rows that are not in the journal
	rows    []*row
	count   int  // rows that still belong to it
	closed  bool // it is being written: no row joins it any more
	since   time.Time
}

// groupRows bounds a group, so that who comes while it is written does not
// wait long.
const groupRows = 500

func newUnderway() underway {
	return underway{rows: map[rowKey]*row{}, named: map[rowName]*row{}}
}

func (u *underway) row(key rowKey) *row {
	r := u.rows[key]
	if r == nil {
		r = &row{key: key}
		u.rows[key] = r
	}
	return r
}

func (u *underway) rowOf(name rowName) *row {
	r := u.named[name]
	if r == nil {
		r = &row{name: &name}
		u.named[name] = r
	}
	return r
}

func (u *underway) count() int { return len(u.rows) + len(u.named) }

// add has a row made durable with the next commit; it tells how many rows that
// commit has more.
func (u *underway) add(r *row, rec *record) int64 {
	if r.urgent != nil {
		rec.was = r.urgent.was
		r.urgent = rec
		return 0
	}
	r.urgent = rec
	u.urgent = append(u.urgent, r)
	return 1
}

// addLate has a row written at leisure. What follows on something that is not
// durable yet becomes durable with it.
func (u *underway) addLate(r *row, rec *record, now time.Time) int64 {
	switch {
	case r.urgent != nil || r.flying != nil:
		return u.add(r, rec)
	case r.late != nil:
		rec.was = r.late.was
		r.late = rec
	default:
		u.join(r, rec, now)
	}
	return 0
}

// resting returns the record of a row that waits for nothing but its turn to be
// written, nil if the row is not like that. Nobody else looks at it meanwhile.
func (u *underway) resting(key rowKey) *record {
	r := u.rows[key]
	if r == nil || r.urgent != nil || r.flying != nil || r.late == nil || r.group.closed {
		return nil
	}
	return r.late
}

// join makes a row belong to the last group, if that is not in the journal and
// has room, or to a new one.
func (u *underway) join(r *row, rec *record, now time.Time) {
	var last *group
	if n := len(u.groups); n > 0 {
		last = u.groups[n-1]
	}
	if last == nil || last.closed || last.journal != 0 || len(last.rows) >= groupRows {
		last = &group{since: now}
		u.groups = append(u.groups, last)
	}
	u.enter(r, rec, last)
}

func (u *underway) enter(r *row, rec *record, g *group) {
	r.late, r.group, r.at = rec, g, len(g.rows)
	g.rows = append(g.rows, r)
	g.count++
	u.late++
}

// leave takes a row out of its group.
func (u *underway) leave(r *row) {
	r.group.count--
	r.late, r.group = nil, nil
	u.late--
}

// forget drops a row that is in its table.
func (u *underway) forget(r *row) {
	switch {
	case r.urgent != nil || r.flying != nil || r.late != nil:
	case r.name != nil:
		delete(u.named, *r.name)
	default:
		delete(u.rows, r.key)
	}
}

// members adds the rows that belong to a group, as they are now, for a commit
// that writes them.
func (g *group) members(to []written) []written {
	g.closed = true
	for i, r := range g.rows {
		if r.group == g && r.at == i {
			to = append(to, written{r, r.late})
		}
	}
	return to
}

// written is what a commit writes to one row.
type written struct {
	row    *row
	record *record
}

// take takes up to so many urgent rows for a commit, and those that belong to the last of them.
func (u *underway) take(most int) []written {
	n := min(len(u.urgent), most)
	for n > 0 && n < len(u.urgent) && u.urgent[n].with {
		n++
	}
	taken := make([]written, 0, n)
	for _, r := range u.urgent[:n] {
		r.flying, r.urgent, r.with = r.urgent, nil, false
		taken = append(taken, written{r, r.flying})
	}
	if u.urgent = u.urgent[n:]; len(u.urgent) == 0 {
		u.urgent = nil
	}
	return taken
}

// supersede drops late rows that the taken ones replace. None may be in the
// journal, which would then be newer than the table.
func (u *underway) supersede(taken []written) {
	for _, w := range taken {
		if w.row.late != nil {
			w.record.was = w.row.late.was
			u.leave(w.row)
		}
	}
}

// putBack makes rows urgent again whose commit failed, before those that came
// meanwhile.
func (u *underway) putBack(taken []written) {
	list := make([]*row, 0, len(taken)+len(u.urgent))
	back := make(map[*row]bool, len(taken))
	for _, w := range taken {
		if w.row.urgent == nil {
			w.row.urgent = w.record
		} else {
			w.row.urgent.was = w.record.was
		}
		w.row.flying = nil
		list = append(list, w.row)
		back[w.row] = true
	}
	for _, r := range u.urgent {
		if !back[r] {
			list = append(list, r)
		}
	}
	u.urgent = list
}

// inTables is told that rows are in their tables. One that was recorded again
// meanwhile stays, as one that is not in the journal.
func (u *underway) inTables(list []written, now time.Time) {
	for _, w := range list {
		switch r := w.row; {
		case r.flying == w.record:
			r.flying = nil
		case r.late == w.record:
			u.leave(r)
		case r.late != nil:
			newer := r.late
			newer.was = w.record.state()
			u.leave(r)
			u.join(r, newer, now)
		}
		u.forget(w.row)
	}
}

// inJournal is told that flying rows are durable in a part of the journal.
func (u *underway) inJournal(list []written, journal int64, now time.Time) {
	g := &group{journal: journal, since: now, rows: make([]*row, 0, len(list))}
	for _, w := range list {
		if w.row.late != nil {
			w.record.was = w.row.late.was
			u.leave(w.row)
		}
		w.row.flying = nil
		u.enter(w.row, w.record, g)
	}
	u.groups = append(u.groups, g)
	u.journaled++
}

// first reports how many groups make up to so many rows; at least one.
func (u *underway) first(most int) (n int) {
	rows := 0
	for _, g := range u.groups {
		if rows += g.count; n > 0 && rows > most {
			break
		}
		n++
	}
	return n
}

// drop takes away the first groups, whose rows are in their tables.
func (u *underway) drop(n int) {
	for _, g := range u.groups[:n] {
		if g.journal != 0 {
			u.journaled--
		}
	}
	if u.groups = u.groups[n:]; len(u.groups) == 0 {
		u.groups = nil
	}
}

func (r *record) state() job.State {
	if r.job == nil {
		return ""
	}
	return r.job.State
}

// tally is how the numbers of jobs change when rows are written.
func tally(list []written, change map[tallyKey]int) {
	for _, w := range list {
		r := w.record
		if r.job == nil || r.was == r.job.State {
			continue
		}
		change[tallyKey{r.job.Rule, r.job.State}]++
		if r.was != "" {
			change[tallyKey{r.job.Rule, r.was}]--
		}
	}
}

type tallyKey struct {
	rule  string
	state job.State
}
