package ledger

import "stilltide/internal/core/job"

// NowIn brings the places of jobs' inputs up to date: a later job may have moved one
// on, or a newer file may have its name.
func (l *Ledger) NowIn(jobs []job.Job) error {
	next := func(path string, after int64) (job.Job, bool, error) {
		ask, err := l.ask.later.of(l.db)
		if err != nil {
			return job.Job{}, false, l.damaged(err)
		}
		rows, err := ask.Query(path, after)
		if err != nil {
			return job.Job{}, false, l.damaged(err)
		}
		list, err := l.scanJobs(rows)
		if err != nil || len(list) == 0 {
			return job.Job{}, false, err
		}
		return list[0], true, nil
	}
	l.settle()
	for i := range jobs {
		at, err := FollowInput(jobs[i], next)
		if err != nil {
			return err
		}
		jobs[i].FileNow = at
	}
	return nil
}

// FollowInput returns where a job's input is now, "" if nowhere. next finds the first
// job with a greater number that took a file at a path.
func FollowInput(j job.Job, next func(path string, after int64) (job.Job, bool, error)) (string, error) {
	at, id, f := j.FileNow, j.ID, j.Facts
	for at != "" {
		later, ok, err := next(at, id)
		if err != nil || !ok {
			return at, err
		}
		// not by its number: that of a removed file is given to the next
		if later.Facts.Size != f.Size || later.Facts.Mod != f.Mod {
			return "", nil // another file has its name, or other content: what the job took went by itself
		}
		at, id, f = later.FileNow, later.ID, later.Facts
	}
	return "", nil
}
