package ledger

import (
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/tables"
)

// shownState is a job's state as it is shown. To pause a rule writes nothing to its jobs.
const shownState = `CASE WHEN state = 'queued' AND EXISTS (SELECT 1 FROM pause WHERE paused = 1 AND (until = 0 OR until > unixepoch('subsec') * 1000000000) AND pause.rule IN ('', job.rule))
	THEN 'held' ELSE state END`

// few is how many jobs are rather found by an index and put in order than met on the way through
// all of them, from the newest on.
const few = 10_000

// Jobs lists the jobs that fit. However long the history is, indexes answer for whole paths, for
// failures, for what is not over, and for rules and times of which there are few jobs.
func (l *Ledger) Jobs(f job.Filter) ([]job.Job, error) {
	l.settle()
	if none, err := l.hasNone(f); none || err != nil {
		return nil, err
	}
	c, err := l.conditions(f)
	if err != nil {
		return nil, err
	}
	q := "SELECT " + tables.JobColumns + " FROM job"
	if len(c.where) > 0 {
		q += " WHERE " + strings.Join(c.where, " AND ")
	}
	if f.Oldest {
		q += " ORDER BY id"
	} else {
		q += " ORDER BY id DESC"
	}
	if f.Limit > 0 {
		q += " LIMIT ?"
		c.args = append(c.args, f.Limit)
	}
	list, err := l.jobs(q, c.args...)
	if err == nil && f.Shown {
		err = l.Rest(list)
	}
	return list, err
}

// hasNone reports whether no job has ever come to an end in one of the states that are asked for.
func (l *Ledger) hasNone(f job.Filter) (bool, error) {
	if len(f.States) == 0 {
		return false, nil
	}
	tally, err := l.Tally()
	for _, states := range tally {
		for _, s := range f.States {
			if !s.Final() || states[s] > 0 {
				return false, err
			}
		}
	}
	return true, err
}

// conditions are those of a query for jobs, with what they ask for.
type conditions struct {
	where []string
	args  []any
}

func (c *conditions) add(cond string, args ...any) {
	c.where, c.args = append(c.where, cond), append(c.args, args...)
}

func (l *Ledger) conditions(f job.Filter) (c *conditions, err error) {
	c = &conditions{}
	if f.ID > 0 {
		c.add("id = ?", f.ID)
	}
	if strings.HasPrefix(f.File, "/") {
		c.paths([]string{f.File})
	} else if f.File != "" {
		c.add("(instr(file, ?) > 0 OR id IN (SELECT job FROM member WHERE instr(file, ?) > 0))", f.File, f.File)
	}
	if len(f.Paths) > 0 {
		c.paths(f.Paths)
	}
	if f.Rule != "" {
		err = l.addRule(c, f.Rule)
	}
	if err == nil && !f.Since.IsZero() {
		err = l.addSince(c, f.Since)
	}
	c.states(f.States, f.Shown)
	if f.After > 0 {
		c.add("id > ?", f.After)
	}
	if f.Undismissed {
		c.add("NOT EXISTS (SELECT 1 FROM dismissed WHERE dismissed.job = job.id AND " +
			"dismissed.attempts = job.attempts)")
	}
	return c, err
}

// paths asks for the jobs that took one of some files, alone or with others, or whose input is there
// now.
func (c *conditions) paths(paths []string) {
	marks := strings.TrimSuffix(strings.Repeat("?,", len(paths)), ",")
	var args []any
	for range 4 {
		for _, p := range paths {
			args = append(args, p)
		}
	}
	c.add("id IN (SELECT id FROM job WHERE file IN ("+marks+") UNION ALL "+
		"SELECT id FROM job WHERE file_now <> file AND file_now IN ("+marks+") UNION ALL "+
		"SELECT job FROM member WHERE file IN ("+marks+") UNION ALL "+
		"SELECT job FROM member WHERE file_now <> file AND file_now IN ("+marks+"))", args...)
}

// states asks for some states. What the indexes are made for must stand in the query as it
// stands in theirs.
func (c *conditions) states(states []job.State, shown bool) {
	if len(states) == 0 {
		return
	}
	if len(states) == 1 && states[0] == job.Failed {
		c.add("state = 'failed'")
		return
	}
	if !slices.ContainsFunc(states, job.State.Final) {
		c.add("id IN (SELECT id FROM job WHERE ended_at = 0)")
	}
	state := "state"
	if shown {
		state = shownState
	}
	var args []any
	for _, s := range states {
		args = append(args, string(s))
	}
	c.add(state+" IN ("+strings.TrimSuffix(strings.Repeat("?,", len(states)), ",")+")", args...)
}

// addRule asks for the jobs of a rule.
func (l *Ledger) addRule(c *conditions, rule string) error {
	tally, err := l.Tally()
	n := 0
	for _, jobs := range tally[rule] {
		n += jobs
	}
	rule = l.inTables(rule)
	if n > few {
		c.add("rule = ?", rule)
		return err
	}
	c.add("id IN (SELECT id FROM job WHERE rule = ? AND ended_at > 0 UNION ALL "+
		"SELECT id FROM job WHERE rule = ? AND ended_at = 0)", rule, rule)
	return err
}

// endedSince finds the jobs that ended since a time, of every rule that ever had any. The last
// condition only names the index; SQLite searches by the first of two lower bounds.
const endedSince = "SELECT id FROM job WHERE ended_at >= ? AND rule IN (SELECT rule FROM tally) AND ended_at > 0"

// addSince asks for the jobs that were taken or that ended since a time.
func (l *Ledger) addSince(c *conditions, since time.Time) error {
	at, n := tables.Nano(since), 0
	if err := l.db.QueryRow(`SELECT count(*) FROM (`+endedSince+` LIMIT ?)`, at, few+1).Scan(&n); err != nil {
		return l.damaged(err)
	}
	if n > few {
		c.add("max(taken_at, ended_at) >= ?", at)
		return nil
	}
	c.add("id IN ("+endedSince+" UNION ALL SELECT id FROM job WHERE ended_at = 0 AND taken_at >= ?)", at, at)
	return nil
}

// Handled reports whether a job took one of some files, whole paths, or has put its input there.
func (l *Ledger) Handled(paths []string) (is bool, err error) {
	l.settle()
	c := &conditions{}
	c.paths(paths)
	err = l.db.QueryRow("SELECT EXISTS (SELECT 1 FROM job WHERE "+c.where[0]+")", c.args...).Scan(&is)
	if err != nil {
		return false, l.damaged(err)
	}
	return is, nil
}
