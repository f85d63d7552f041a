package ledger

import (
	"slices"
	"strings"

	"stilltide/internal/core/job"
)

type knownKey struct{ rule, file string }

// Remember notes that a rule has handled a file that stays where it is.
func (l *Ledger) Remember(k job.Known) {
	key := knownKey{k.Rule, k.File}
	l.mu.Lock()
	l.known[key] = &k
	l.knows = true
	l.counts[k.Rule]++ // an upper bound is enough: it only says whether a look pays
	l.mu.Unlock()
	l.w.addNamed(rowName{knownRow, key}, &record{statement: putKnown, known: &k, knownKey: &key})
}

// Forget notes that a file is not where the rule left it.
func (l *Ledger) Forget(rule, path string) {
	l.mu.Lock()
	if l.counts[rule] == 0 {
		l.mu.Unlock()
		return
	}
	key := knownKey{rule, path}
	l.known[key] = nil
	l.mu.Unlock()
	l.w.addNamed(rowName{knownRow, key}, &record{statement: dropKnown, knownKey: &key,
		columns: columns{}.text(rule, path)})
}

// Known returns what a rule remembers of a file.
func (l *Ledger) Known(rule, path string) (job.Known, bool, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if k, recent := l.known[knownKey{rule, path}]; recent {
		if k == nil {
			return job.Known{}, false, nil
		}
		return *k, true, nil
	}
	if l.counts != nil && l.counts[rule] == 0 {
		return job.Known{}, false, nil
	}
	if k, is, told := l.ahead.answer(rule, path); told {
		return k, is, nil
	}
	rows, changed := l.ahead.next(rule, path), l.ahead.changed
	l.mu.Unlock()
	r, err := l.readAhead(rule, path, rows)
	l.mu.Lock()
	if err != nil {
		return job.Known{}, false, l.damaged(err)
	}
	if l.w != nil { // another program may write what one only reads
		l.ahead.keep(rule, r, changed)
	}
	if len(r.rows) == 0 || r.rows[0].File != path {
		return job.Known{}, false, nil
	}
	r.found++
	return r.rows[0], true, nil
}

// KnownFiles lists what a rule remembers below a folder, by name. Rows on their
// way to the table count as if they were there; they need not be written first,
// which in a burst would be all of them.
func (l *Ledger) KnownFiles(rule, folder string) ([]string, error) {
	lately := l.knownLately(rule, folder+"/")
	rows, err := l.db.Query(`SELECT file FROM known WHERE rule = ? AND file >= ? AND file < ?`, rule, folder+"/",
		folder+"0")
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	var files []string
	for rows.Next() {
		var f string
		if err := rows.Scan(&f); err != nil {
			return nil, l.damaged(err)
		}
		if _, changed := lately[f]; !changed {
			files = append(files, f)
		}
	}
	for f, is := range lately {
		if is {
			files = append(files, f)
		}
	}
	slices.Sort(files)
	return files, rows.Err()
}

// knownLately reports what a rule remembers, or has forgotten, since the table was
// written last.
func (l *Ledger) knownLately(rule, below string) map[string]bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	files := map[string]bool{}
	for key, k := range l.known {
		if key.rule == rule && strings.HasPrefix(key.file, below) {
			files[key.file] = k != nil
		}
	}
	return files
}

// KnownCount is how many files a rule remembers.
func (l *Ledger) KnownCount(rule string) int {
	l.settle()
	n := 0
	if err := l.db.QueryRow(`SELECT count(*) FROM known WHERE rule = ?`, rule).Scan(&n); err != nil {
		return 0
	}
	return n
}

// KnowsFiles reports whether any rule remembers a file.
func (l *Ledger) KnowsFiles() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.knows
}
