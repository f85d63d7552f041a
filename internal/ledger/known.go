package ledger

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"stilltide/internal/core/job"
	"stilltide/internal/tables"
)

// Remember notes that a rule has handled a file that stays where it is.
func (l *Ledger) Remember(k job.Known) {
	key := tables.KnownKey{Rule: k.Rule, File: k.File}
	l.mu.Lock()
	l.known[key] = &k
	l.knows = true
	l.edits[k.Rule]++
	l.knowing[k.Rule] = true
	l.mu.Unlock()
	l.w.AddNamed(tables.RowName{Of: tables.KnownRow, KnownKey: key}, &tables.Record{Statement: tables.PutKnown,
		Known: &k, KnownKey: &key})
}

// Forget notes that a file is not where the rule left it.
func (l *Ledger) Forget(rule, path string) {
	l.mu.Lock()
	if !l.knowing[rule] {
		l.mu.Unlock()
		return
	}
	key := tables.KnownKey{Rule: rule, File: path}
	l.known[key] = nil
	l.edits[rule]++
	l.mu.Unlock()
	l.w.AddNamed(tables.RowName{Of: tables.KnownRow, KnownKey: key}, &tables.Record{Statement: tables.DropKnown,
		KnownKey: &key,
		Columns:  tables.Columns{}.Text(rule, path)})
}

// Known returns what a rule remembers of a file.
func (l *Ledger) Known(rule, path string) (job.Known, bool, error) {
	l.mu.Lock()
	late, recent := l.known[tables.KnownKey{Rule: rule, File: path}]
	none := l.knowing != nil && !l.knowing[rule]
	l.mu.Unlock()
	switch {
	case recent && late != nil:
		return *late, true, nil // a later one is another
	case recent || none:
		return job.Known{}, false, nil
	}
	k, is, err := l.readKnown(rule, path)
	if old, divided := l.beside[rule]; divided && !is && err == nil {
		k, is, err = l.readKnown(old, path)
		k.Rule = rule
	}
	if err != nil {
		return job.Known{}, false, l.damaged(err)
	}
	return k, is, nil
}

func (l *Ledger) readKnown(rule, path string) (k job.Known, is bool, err error) {
	ask, err := l.ask.known.of(l.db)
	if err != nil {
		return k, false, err
	}
	rows, err := ask.Query(l.inTables(rule), path)
	if err != nil {
		return k, false, err
	}
	defer rows.Close()
	if !rows.Next() {
		return k, false, rows.Err()
	}
	var row tables.KnownScan
	hash := ""
	if err := rows.Scan(append(row.Into(), &row.Dir, &hash)...); err != nil {
		return k, false, err
	}
	k = row.Known(rule, path)
	k.Hash = hash
	return k, true, nil
}

// KnownAmong lists what a rule remembers of files from one path to another, both included, in
// the order of the paths: not of folders, and not of what has changed lately. Hashes are left out.
// It is one read of the table, for those who look through folders with about that many files. If
// rows go to the table all the while, nothing is told.
func (l *Ledger) KnownAmong(rule, from, to string, about int) ([]job.Known, error) {
	if !l.remembers(rule) {
		return nil, nil
	}
	var list []job.Known
	steady, err := l.steadily(rule, func() (err error) {
		list, err = l.readAmong(rule, from, to, about)
		list = l.withoutLate(rule, list)
		return err
	})
	if err != nil || !steady {
		return nil, err
	}
	return list, nil
}

// steadyTries is how often it is tried to read the table while nothing goes there.
const steadyTries = 10

// steadily reads what a rule remembers in the table together with what is on its way there, and
// does so again if some of that has arrived meanwhile. It is false if that goes on.
func (l *Ledger) steadily(rule string, read func() error) (bool, error) {
	for range steadyTries {
		before := l.knownWritten(rule)
		if err := read(); err != nil {
			return false, l.damaged(err)
		}
		if l.knownWritten(rule) == before {
			return true, nil
		}
	}
	return false, nil
}

func (l *Ledger) readAmong(rule, from, to string, about int) (list []job.Known, err error) {
	ask, err := l.ask.among.of(l.db)
	if err != nil {
		return nil, err
	}
	rows, err := ask.Query(l.inTables(rule), from, to)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	list = make([]job.Known, 0, about)
	var path string
	var row tables.KnownScan
	into := append(row.Into(), &path)
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		list = append(list, row.Known(rule, path))
	}
	return list, rows.Err()
}

// knownWritten counts the changes of what a rule remembers that went to the table.
func (l *Ledger) knownWritten(rule string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.written[rule]
}

// withoutLate leaves out what has changed since the table was written.
func (l *Ledger) withoutLate(rule string, list []job.Known) []job.Known {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.known) == 0 {
		return list
	}
	return slices.DeleteFunc(list, func(k job.Known) bool {
		_, late := l.known[tables.KnownKey{Rule: rule, File: k.File}]
		return late
	})
}

// remembers reports whether a rule may remember files.
func (l *Ledger) remembers(rule string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.knowing == nil || l.knowing[rule]
}

// KnownEdits counts how often what a rule remembers was changed, since the ledger was opened.
func (l *Ledger) KnownEdits(rule string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.edits[rule]
}

// KnownBelow counts the files that a rule remembers below a folder. It is false if some of
// what it remembers is not in the table yet.
func (l *Ledger) KnownBelow(rule, folder string) (n int, all bool) {
	if len(l.knownLately(rule, "")) > 0 {
		return 0, false
	}
	err := l.db.QueryRow(`SELECT count(*) FROM known WHERE rule = ? AND file >= ? AND file < ?`, l.inTables(rule), folder+"/",
		folder+"0").Scan(&n)
	return n, err == nil
}

// knownPage is how many rows KnownFiles reads at once.
const knownPage = 4096

// KnownFiles lists what a rule remembers below a folder, by name, a page at a time: from behind
// a path, "" for the first page. next is where to go on, "" after the last page. Rows on their
// way to the table count as if they were there; they need not be written first, which in a burst
// would be all of them.
func (l *Ledger) KnownFiles(rule, folder, after string) (files []string, next string, err error) {
	if !l.remembers(rule) {
		return nil, "", nil
	}
	after = max(after, folder+"/")
	lately := l.knownLately(rule, folder+"/")
	rows, err := l.db.Query(`SELECT file FROM known WHERE rule = ? AND file > ? AND file < ? ORDER BY file LIMIT ?`,
		l.inTables(rule), after, folder+"0", knownPage)
	if err != nil {
		return nil, "", l.damaged(err)
	}
	defer rows.Close()
	read, last := 0, ""
	for ; rows.Next(); read++ {
		if err := rows.Scan(&last); err != nil {
			return nil, "", l.damaged(err)
		}
		if _, changed := lately[last]; !changed {
			files = append(files, last)
		}
	}
	if read == knownPage {
		next = last
	}
	for f, is := range lately {
		if is && f > after && (next == "" || f <= next) {
			files = append(files, f)
		}
	}
	slices.Sort(files)
	return files, next, rows.Err()
}

// knownLately reports what a rule remembers, or has forgotten, since the table was
// written last.
func (l *Ledger) knownLately(rule, below string) map[string]bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	files := map[string]bool{}
	for key, k := range l.known {
		if key.Rule == rule && strings.HasPrefix(key.File, below) {
			files[key.File] = k != nil
		}
	}
	return files
}

// KnownCount is how many files a rule remembers. Nothing is written for it first: what is on its
// way to the table is looked up there one by one.
func (l *Ledger) KnownCount(rule string) (n int) {
	_, err := l.steadily(rule, func() (err error) {
		n, err = l.countKnown(rule)
		return err
	})
	if err != nil {
		return 0
	}
	return n
}

// countKnown sees the table as it is at one moment: a row that arrives between two reads would be
// there in one of them only, before it is noted that it has arrived.
func (l *Ledger) countKnown(rule string) (n int, err error) {
	tx, err := l.db.BeginTx(context.Background(), &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return 0, err
	}
	defer tx.Rollback() // nothing was written
	if err := tx.QueryRow(`SELECT count(*) FROM known WHERE rule = ?`, l.inTables(rule)).Scan(&n); err != nil {
		return 0, err
	}
	ask, err := tx.Prepare(`SELECT count(*) FROM known WHERE rule = ? AND file = ?`)
	if err != nil {
		return 0, err
	}
	defer ask.Close()
	for path, is := range l.knownLately(rule, "") {
		was := 0
		if err := ask.QueryRow(l.inTables(rule), path).Scan(&was); err != nil {
			return 0, err
		}
		if is {
			n++
		}
		n -= was
	}
	return n, nil
}

// KnowsFiles reports whether any rule remembers a file.
func (l *Ledger) KnowsFiles() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.knows
}

// Remembering lists the rules that remember files, those with none on the way to the table. "" is for what no rule
// takes.
func (l *Ledger) Remembering() (rules []string, err error) { return l.rulesAmong(`known WHERE true`) }

// rulesAmong lists the rules of some rows: one step of an index for each.
func (l *Ledger) rulesAmong(rows string) (rules []string, _ error) {
	for rule, after := "", `>=`; ; after = `>` {
		err := l.db.QueryRow(`SELECT rule FROM `+rows+` AND rule `+after+` ? ORDER BY rule LIMIT 1`, rule).Scan(&rule)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return rules, nil
		case err != nil:
			return nil, l.damaged(err)
		}
		rules = append(rules, l.shown(rule))
	}
}
