package ledger

import (
	"database/sql"
	"errors"
	"path/filepath"
)

// UseRules notes the rules file of a watcher or a sweep. The ledger must be open for writing, and nothing may be
// recorded meanwhile.
func (l *Ledger) UseRules(path string) error {
	rel, err := filepath.Rel(l.folder, path)
	if err != nil {
		rel = path // on another disk of Windows
	}
	if last, err := l.lastRules(); err != nil || last == rel {
		return err
	}
	if err := l.Flush(); err != nil {
		return err
	}
	if _, err := l.db.Exec(`INSERT INTO rules_file VALUES (1, ?1) ON CONFLICT (one) DO UPDATE SET path = ?1`,
		rel); err != nil {
		return l.damaged(err)
	}
	return nil
}

// LastRules is the rules file of the last watcher or sweep, "" if none is noted.
func (l *Ledger) LastRules() (path string, err error) {
	if path, err = l.lastRules(); path == "" || filepath.IsAbs(path) {
		return path, err
	}
	return filepath.Join(l.folder, path), err
}

// lastRules is what UseRules noted, "" for nothing.
func (l *Ledger) lastRules() (path string, err error) {
	err = l.db.QueryRow(`SELECT path FROM rules_file`).Scan(&path)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return "", nil
	case err != nil:
		return "", l.damaged(err)
	}
	return path, nil
}
