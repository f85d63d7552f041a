package ledger

import (
	"context"
	"os"
	"path/filepath"
	"time"
)

// Prune removes the details of jobs that ended before a time: attempts,
// placements, members, what was printed, and the jobs themselves. What is
// remembered of files that are still there stays, and so does the tally.
func (l *Ledger) Prune(before time.Time) (removed int, err error) {
	const helping = 500
	for {
		jobs, outputs, err := l.old(before, helping)
		if err != nil || len(jobs) == 0 {
			return removed, err
		}
		for _, id := range jobs {
			l.w.add(rowKey{of: prunedJob, id: id}, &record{statement: dropJob, columns: columns{}.num(id)})
			l.w.add(rowKey{of: prunedAttempts, id: id},
				&record{statement: dropAttempts, columns: columns{}.num(id)})
			l.w.add(rowKey{of: prunedPlacements, id: id},
				&record{statement: dropPlacements, columns: columns{}.num(id)})
			l.w.add(rowKey{of: prunedMembers, id: id},
				&record{statement: dropMembers, columns: columns{}.num(id, 0)})
			l.w.add(rowKey{of: prunedDismissed, id: id},
				&record{statement: dropDismissed, columns: columns{}.num(id)})
		}
		if err := l.w.sync(context.Background(), true); err != nil {
			return removed, err
		}
		for _, name := range outputs {
			os.Remove(filepath.Join(l.folder, name)) // gone already is fine
		}
		removed += len(jobs)
	}
}

// endedBefore finds jobs that ended before a time, of every rule that ever had any.
const endedBefore = `SELECT id FROM job WHERE ended_at > 0 AND rule IN (SELECT rule FROM tally) AND ended_at < ?
	ORDER BY ended_at LIMIT ?`

// old lists jobs that ended before a time, and their outputs.
func (l *Ledger) old(before time.Time, most int) (jobs []int64, outputs []string, err error) {
	rows, err := l.db.Query(endedBefore, nano(before), most)
	if err != nil {
		return nil, nil, l.damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, nil, l.damaged(err)
		}
		jobs = append(jobs, id)
	}
	if err := rows.Err(); err != nil {
		return nil, nil, l.damaged(err)
	}
	for _, id := range jobs {
		attempts, err := l.Attempts(id)
		if err != nil {
			return nil, nil, err
		}
		for _, a := range attempts {
			if a.Output != "" {
				outputs = append(outputs, a.Output)
			}
		}
	}
	return jobs, outputs, nil
}
