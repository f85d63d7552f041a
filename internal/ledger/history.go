package ledger

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/tables"
)

// Prune removes the details of jobs that ended before a time: attempts,
// placements, members, what was printed, and the jobs themselves. What is
// remembered of files that are still there stays, and so does the tally. At most so many jobs
// go, the oldest first; 0 is no bound.
func (l *Ledger) Prune(before time.Time, most int) (removed int, err error) {
	const helping = 500
	for most == 0 || removed < most {
		some := helping
		if most > 0 {
			some = min(helping, most-removed)
		}
		jobs, outputs, err := l.old(before, some)
		if err != nil || len(jobs) == 0 {
			return removed, err
		}
		for _, id := range jobs {
			l.w.Add(tables.RowKey{Of: tables.PrunedJob, ID: id}, &tables.Record{Statement: tables.DropJob,
				Columns: tables.Columns{}.Num(id)})
			l.w.Add(tables.RowKey{Of: tables.PrunedAttempts, ID: id},
				&tables.Record{Statement: tables.DropAttempts, Columns: tables.Columns{}.Num(id)})
			l.w.Add(tables.RowKey{Of: tables.PrunedPlacements, ID: id},
				&tables.Record{Statement: tables.DropPlacements, Columns: tables.Columns{}.Num(id)})
			l.w.Add(tables.RowKey{Of: tables.PrunedMembers, ID: id},
				&tables.Record{Statement: tables.DropMembers, Columns: tables.Columns{}.Num(id, 0)})
			l.w.Add(tables.RowKey{Of: tables.PrunedDismissed, ID: id},
				&tables.Record{Statement: tables.DropDismissed, Columns: tables.Columns{}.Num(id)})
		}
		if err := l.w.Sync(context.Background(), true); err != nil {
			return removed, err
		}
		for _, name := range outputs {
			os.Remove(filepath.Join(l.folder, name)) // gone already is fine
		}
		removed += len(jobs)
	}
	return removed, nil
}

// endedBefore finds jobs that ended before a time, of every rule that ever had any.
const endedBefore = `SELECT id FROM job WHERE ended_at > 0 AND rule IN (SELECT rule FROM tally) AND ended_at < ?
	ORDER BY ended_at LIMIT ?`

// old lists jobs that ended before a time, and their outputs.
func (l *Ledger) old(before time.Time, most int) (jobs []int64, outputs []string, err error) {
	rows, err := l.db.Query(endedBefore, tables.Nano(before), most)
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
