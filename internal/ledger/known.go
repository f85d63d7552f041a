package ledger

import (
	"database/sql"
	"slices"
	"strings"

	"stilltide/internal/core/file"
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
	k, recent := l.known[knownKey{rule, path}]
	none := l.counts != nil && l.counts[rule] == 0
	l.mu.Unlock()
	switch {
	case recent && k == nil, none && !recent:
		return job.Known{}, false, nil
	case recent:
		return *k, true, nil
	}
	found := job.Known{Rule: rule, File: path}
	var mod, dev, ino int64
	ask, err := l.ask.known.of(l.db)
	if err != nil {
		return job.Known{}, false, l.damaged(err)
	}
	err = ask.QueryRow(rule, path).
		Scan(&found.Facts.Size, &mod, &dev, &ino, &found.Facts.Dir, &found.Hash, &found.Job)
	if err == sql.ErrNoRows {
		return job.Known{}, false, nil
	}
	if err != nil {
		return job.Known{}, false, l.damaged(err)
	}
	found.Facts = file.Facts{Exists: true, Dir: found.Facts.Dir, Regular: !found.Facts.Dir, Size: found.Facts.Size,
		Mod: file.Time(mod), Dev: uint64(dev), Ino: uint64(ino)}
	return found, true, nil
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
