package tables

import (
	"time"

	"stilltide/internal/core/job"
)

// Underway holds the rows that were recorded and are not in their tables yet.
//
// Only the newest state of a row counts: a job that passes through several
// states before its row is written is written once. A row can be under way in
// three ways at once, each newer than the next: urgent (the next commit makes it
// durable), flying (in the commit that is being made), and late (it is durable
// in the journal, or nobody waits for it).
type Underway struct {
	rows   map[RowKey]*Row
	Named  map[RowName]*Row
	Urgent []*Row // in the order in which they came
	Groups []*Group
	Late   int // rows in groups

	Journaled   int   // groups that are in the journal
	LastJournal int64 // the greatest number of one
}

// Row is one row on its way to its table.
type Row struct {
	key    RowKey
	name   *RowName // instead of key
	urgent *Record
	flying *Record
	late   *Record
	With   bool   // urgent belongs into the commit of the urgent row before it
	group  *Group // that late belongs to
	at     int    // its place in there
}

// Group is rows that are written together. Those of a part of the journal are
// one: when they have been written, the journal does not need that part any more.
// A row belongs to the last part of the journal that it is in. Groups are written
// in their order, so that what is left in the journal is always newer than what
// the tables have.
type Group struct {
	Journal int64 // the number of that part, 0 for rows that are not in the journal
	rows    []*Row
	count   int  // rows that still belong to it
	closed  bool // it is being written: no row joins it any more
	Since   time.Time
}

// GroupRows bounds a group, so that who comes while it is written does not
// wait long.
const GroupRows = 500

// NewUnderway has no rows.
func NewUnderway() Underway {
	return Underway{rows: map[RowKey]*Row{}, Named: map[RowName]*Row{}}
}

// Row is the row with a number.
func (u *Underway) Row(key RowKey) *Row {
	r := u.rows[key]
	if r == nil {
		r = &Row{key: key}
		u.rows[key] = r
	}
	return r
}

// RowOf is the row with a name.
func (u *Underway) RowOf(name RowName) *Row {
	r := u.Named[name]
	if r == nil {
		r = &Row{name: &name}
		u.Named[name] = r
	}
	return r
}

// Count counts the rows that are under way.
func (u *Underway) Count() int { return len(u.rows) + len(u.Named) }

// Add has a row made durable with the next commit; it tells how many rows that
// commit has more.
func (u *Underway) Add(r *Row, rec *Record) int64 {
	if r.urgent != nil {
		rec.Was = r.urgent.Was
		r.urgent = rec
		return 0
	}
	r.urgent = rec
	u.Urgent = append(u.Urgent, r)
	return 1
}

// AddLate has a row written at leisure. What follows on something that is not
// durable yet becomes durable with it.
func (u *Underway) AddLate(r *Row, rec *Record, now time.Time) int64 {
	switch {
	case r.urgent != nil || r.flying != nil:
		return u.Add(r, rec)
	case r.late != nil:
		rec.Was = r.late.Was
		r.late = rec
	default:
		u.join(r, rec, now)
	}
	return 0
}

// Resting returns the record of a row that waits for nothing but its turn to be
// written, nil if the row is not like that. Nobody else looks at it meanwhile.
func (u *Underway) Resting(key RowKey) *Record {
	r := u.rows[key]
	if r == nil || r.urgent != nil || r.flying != nil || r.late == nil || r.group.closed {
		return nil
	}
	return r.late
}

// join makes a row belong to the last group, if that is not in the journal and
// has room, or to a new one.
func (u *Underway) join(r *Row, rec *Record, now time.Time) {
	var last *Group
	if n := len(u.Groups); n > 0 {
		last = u.Groups[n-1]
	}
	if last == nil || last.closed || last.Journal != 0 || len(last.rows) >= GroupRows {
		last = &Group{Since: now}
		u.Groups = append(u.Groups, last)
	}
	u.enter(r, rec, last)
}

func (u *Underway) enter(r *Row, rec *Record, g *Group) {
	r.late, r.group, r.at = rec, g, len(g.rows)
	g.rows = append(g.rows, r)
	g.count++
	u.Late++
}

// leave takes a row out of its group.
func (u *Underway) leave(r *Row) {
	r.group.count--
	r.late, r.group = nil, nil
	u.Late--
}

// forget drops a row that is in its table.
func (u *Underway) forget(r *Row) {
	switch {
	case r.urgent != nil || r.flying != nil || r.late != nil:
	case r.name != nil:
		delete(u.Named, *r.name)
	default:
		delete(u.rows, r.key)
	}
}

// Members adds the rows that belong to a group, as they are now, for a commit
// that writes them.
func (g *Group) Members(to []Written) []Written {
	g.closed = true
	for i, r := range g.rows {
		if r.group == g && r.at == i {
			to = append(to, Written{r, r.late})
		}
	}
	return to
}

// Written is what a commit writes to one row.
type Written struct {
	row    *Row
	Record *Record
}

// Take takes up to so many urgent rows for a commit, and those that belong to the last of them.
func (u *Underway) Take(most int) []Written {
	n := min(len(u.Urgent), most)
	for n > 0 && n < len(u.Urgent) && u.Urgent[n].With {
		n++
	}
	taken := make([]Written, 0, n)
	for _, r := range u.Urgent[:n] {
		r.flying, r.urgent, r.With = r.urgent, nil, false
		taken = append(taken, Written{r, r.flying})
	}
	if u.Urgent = u.Urgent[n:]; len(u.Urgent) == 0 {
		u.Urgent = nil
	}
	return taken
}

// Supersede drops late rows that the taken ones replace. None may be in the
// journal, which would then be newer than the table.
func (u *Underway) Supersede(taken []Written) {
	for _, w := range taken {
		if w.row.late != nil {
			w.Record.Was = w.row.late.Was
			u.leave(w.row)
		}
	}
}

// PutBack makes rows urgent again whose commit failed, before those that came
// meanwhile.
func (u *Underway) PutBack(taken []Written) {
	list := make([]*Row, 0, len(taken)+len(u.Urgent))
	back := make(map[*Row]bool, len(taken))
	for _, w := range taken {
		if w.row.urgent == nil {
			w.row.urgent = w.Record
		} else {
			w.row.urgent.Was = w.Record.Was
		}
		w.row.flying = nil
		list = append(list, w.row)
		back[w.row] = true
	}
	for _, r := range u.Urgent {
		if !back[r] {
			list = append(list, r)
		}
	}
	u.Urgent = list
}

// InTables is told that rows are in their tables. One that was recorded again
// meanwhile stays, as one that is not in the journal.
func (u *Underway) InTables(list []Written, now time.Time) {
	for _, w := range list {
		switch r := w.row; {
		case r.flying == w.Record:
			r.flying = nil
		case r.late == w.Record:
			u.leave(r)
		case r.late != nil:
			newer := r.late
			newer.Was = w.Record.state()
			u.leave(r)
			u.join(r, newer, now)
		}
		u.forget(w.row)
	}
}

// InJournal is told that flying rows are durable in a part of the journal.
func (u *Underway) InJournal(list []Written, journal int64, now time.Time) {
	g := &Group{Journal: journal, Since: now, rows: make([]*Row, 0, len(list))}
	for _, w := range list {
		if w.row.late != nil {
			w.Record.Was = w.row.late.Was
			u.leave(w.row)
		}
		w.row.flying = nil
		u.enter(w.row, w.Record, g)
	}
	u.Groups = append(u.Groups, g)
	u.Journaled++
}

// First reports how many groups make up to so many rows; at least one.
func (u *Underway) First(most int) (n int) {
	rows := 0
	for _, g := range u.Groups {
		if rows += g.count; n > 0 && rows > most {
			break
		}
		n++
	}
	return n
}

// Drop takes away the first groups, whose rows are in their tables.
func (u *Underway) Drop(n int) {
	for _, g := range u.Groups[:n] {
		if g.Journal != 0 {
			u.Journaled--
		}
	}
	if u.Groups = u.Groups[n:]; len(u.Groups) == 0 {
		u.Groups = nil
	}
}

// Count is how the numbers of jobs change when rows are written.
func Count(list []Written, change map[TallyKey]int) {
	for _, w := range list {
		r := w.Record
		if r.Job == nil || r.Was == r.Job.State {
			continue
		}
		change[TallyKey{r.Job.Rule, r.Job.State}]++
		if r.Was != "" {
			change[TallyKey{r.Job.Rule, r.Was}]--
		}
	}
}

// TallyKey is a rule and a state, of which jobs are counted.
type TallyKey struct {
	Rule  string
	State job.State
}
