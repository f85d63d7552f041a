package ledger

import (
	"errors"
	"maps"
	"slices"

	"stilltide/internal/core/job"
)

// ruleTables are the tables that have something of a rule under its name, but for its jobs, which
// are in the tally.
var ruleTables = []string{"tally", "known", "content", "watched", "pause"}

// UseNames gives rules the memory of their old names: the new name by the old one. A ledger that is open for writing
// is changed; nothing may be recorded meanwhile. One that is open for reading shows what it has as if it had been.
func (l *Ledger) UseNames(renamed map[string]string) error {
	if len(renamed) > 0 && l.w != nil {
		if err := l.Flush(); err != nil {
			return err
		}
	}
	for _, old := range slices.Sorted(maps.Keys(renamed)) {
		name := renamed[old]
		if err := errors.Join(l.useName(old, name), l.useName(job.SettingsOf(old), job.SettingsOf(name))); err != nil {
			return l.damaged(err)
		}
	}
	return nil
}

func (l *Ledger) useName(old, name string) error {
	has, err := l.hasRule(old)
	if err != nil || !has {
		return err
	}
	if l.w != nil {
		return l.rename(old, name)
	}
	has, err = l.hasRule(name)
	if has {
		l.beside[name] = old
	} else if err == nil {
		l.stored[name] = old
	}
	return err
}

// hasRule reports whether anything is there under the name of a rule.
func (l *Ledger) hasRule(name string) (is bool, err error) {
	for _, table := range ruleTables {
		err := l.db.QueryRow(`SELECT EXISTS (SELECT 1 FROM `+table+` WHERE rule = ?)`, name).Scan(&is)
		if err != nil || is {
			return is, err
		}
	}
	return false, nil
}

// rename changes the name of a rule. Where something is there under both names, the counts are
// added, of a pause the later word holds, and otherwise what the new name has stays.
func (l *Ledger) rename(old, name string) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	changes := []string{
		`UPDATE job SET rule = ?1 WHERE rule = ?2`,
		`INSERT INTO tally SELECT ?1, state, jobs FROM tally WHERE rule = ?2
			ON CONFLICT (rule, state) DO UPDATE SET jobs = jobs + excluded.jobs`,
		`INSERT INTO pause SELECT ?1, paused, since, until FROM pause WHERE rule = ?2
			ON CONFLICT (rule) DO UPDATE SET paused = excluded.paused, since = excluded.since, until = excluded.until
			WHERE excluded.since > since`,
	}
	for _, table := range ruleTables {
		changes = append(changes, `UPDATE OR IGNORE `+table+` SET rule = ?1 WHERE rule = ?2`,
			`DELETE FROM `+table+` WHERE rule = ?2`)
	}
	for _, change := range changes {
		if _, err := tx.Exec(change, name, old); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.knowing[name] = l.knowing[name] || l.knowing[old]
	delete(l.knowing, old)
	tally, err := l.readTally()
	if err == nil {
		l.tally = tally
	}
	return err
}

// inTables is the name under which the tables have what a rule remembers.
func (l *Ledger) inTables(rule string) string {
	if old, is := l.stored[rule]; is {
		return old
	}
	return rule
}

// shown is the name of a rule that the tables may have under an old one.
func (l *Ledger) shown(rule string) string {
	for name, old := range l.stored {
		if old == rule {
			return name
		}
	}
	return rule
}
