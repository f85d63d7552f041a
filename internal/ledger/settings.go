package ledger

import (
	"database/sql"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/tables"
)

// Watched reports which folders each rule has watched before, as rule and folder.
func (l *Ledger) Watched() (map[[2]string]bool, error) {
	rows, err := l.db.Query(`SELECT rule, folder FROM watched`)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	seen := map[[2]string]bool{}
	for rows.Next() {
		var key [2]string
		if err := rows.Scan(&key[0], &key[1]); err != nil {
			return nil, l.damaged(err)
		}
		seen[[2]string{l.shown(key[0]), key[1]}] = true
	}
	return seen, rows.Err()
}

// Boot names the start of the system in which the ledger was last used, "" if that is
// not known.
func (l *Ledger) Boot() (id string, err error) {
	err = l.db.QueryRow(`SELECT id FROM boot`).Scan(&id)
	if err == sql.ErrNoRows {
		return "", nil
	}
	return id, err
}

// Paused lists what is paused now.
func (l *Ledger) Paused() (job.Pauses, error) {
	return l.pauses(`SELECT rule, until FROM pause WHERE paused = 1`)
}

// Accepted lists what was resumed while nothing ran: until then the next start takes what would
// block a rule as accepted.
func (l *Ledger) Accepted() (job.Pauses, error) {
	return l.pauses(`SELECT rule, until FROM pause WHERE paused = 0 AND until <> 0`)
}

func (l *Ledger) pauses(query string) (job.Pauses, error) {
	rows, err := l.db.Query(query)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	paused := job.Pauses{}
	for rows.Next() {
		var name string
		var until int64
		if err := rows.Scan(&name, &until); err != nil {
			return nil, l.damaged(err)
		}
		paused[l.shown(name)] = tables.FromNano(until)
	}
	for _, name := range paused.Over(time.Now()) {
		delete(paused, name)
	}
	return paused, rows.Err()
}

// Mounts returns the mount point that each folder lay on.
func (l *Ledger) Mounts() (map[string]string, error) {
	rows, err := l.db.Query(`SELECT folder, point FROM mount`)
	if err != nil {
		return nil, l.damaged(err)
	}
	defer rows.Close()
	points := map[string]string{}
	for rows.Next() {
		var folder, point string
		if err := rows.Scan(&folder, &point); err != nil {
			return nil, l.damaged(err)
		}
		points[folder] = point
	}
	return points, rows.Err()
}
