// Package byhand does what people do with jobs by hand: retry, undo, cancel, dismiss. While a
// watcher runs it does that itself, with these functions; without one the commands do, and the
// next start goes on. Whatever moves a file is recorded before the file is touched, so that a
// crash in the middle is found and finished.
package byhand

import (
	"errors"
	"fmt"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
)

// Sent says what became of one job.
type Sent struct {
	ID     int64  `json:"id"`
	Done   bool   `json:"done"`
	Reason string `json:"reason"`
}

// Cancel takes a job out of the queue while no watcher runs.
func Cancel(l *ledger.Ledger, id int64) Sent {
	row, err := JobByID(l, id)
	if err == nil && row.State.Final() {
		err = fmt.Errorf("the job is over: it is %s", row.State)
	}
	if err == nil && row.State == job.Running {
		err = errors.New("it was cut short when the watcher ended; the next watch or sweep brings what it did to a " +
			"clean point, and it can be cancelled then")
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	was := row.State
	row.Become(job.Cancelled)
	row.Reason, row.Ended, row.Due = "it was cancelled by hand", time.Now(), time.Time{}
	l.Record(row, was)
	for _, path := range row.Files() {
		if row.Event == file.Removed {
			l.Forget(row.Rule, path) // that it went is known, and not told again
			continue
		}
		facts, _, _ := row.Took(path)
		l.Remember(job.Known{Rule: row.Rule, File: path, Facts: facts, Job: id})
	}
	return Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"}
}

// Dismiss notes that somebody has seen that a job failed.
func Dismiss(l Records, id int64) Sent {
	row, err := JobByID(l, id)
	if err == nil && row.State != job.Failed {
		err = fmt.Errorf("it is %s, not failed", row.State)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	l.RecordDismissed(row)
	return Sent{ID: id, Done: true, Reason: "dismissed; it stays in the list of jobs"}
}

// JobByID is the job with a number, as the ledger has it now.
func JobByID(l Records, id int64) (job.Job, error) {
	_ = l.Flush() // what cannot be written is asked for as it was
	rows, err := l.Jobs(job.Filter{ID: id})
	if err != nil {
		return job.Job{}, err
	}
	if len(rows) == 0 {
		return job.Job{}, fmt.Errorf("there is no job %d", id)
	}
	return rows[0], nil
}

// MadeFrom is the file from which a rule made what it has placed at a path, "" if that is not its.
func MadeFrom(l interface {
	PlacedBy(rule, target string) (job.Placement, bool, error)
	Jobs(q job.Filter) ([]job.Job, error)
}, rule, target string) string {
	p, ok, err := l.PlacedBy(rule, target)
	if err != nil || !ok {
		return ""
	}
	rows, err := l.Jobs(job.Filter{ID: p.Job})
	if err != nil || len(rows) == 0 {
		return ""
	}
	return rows[0].File
}

// areFree returns an error if a job that is not over has one of a job's files, where it was taken or where it is now.
func areFree(l Records, row job.Job) error {
	for _, path := range append(row.Files(), row.Now()...) {
		other, is, err := l.OpenJob(path)
		if err != nil {
			return err
		}
		if is && other.ID != row.ID {
			return fmt.Errorf("job %d has %s and is still active", other.ID, plan.Display(path))
		}
	}
	return nil
}
