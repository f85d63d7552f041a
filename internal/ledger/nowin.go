package ledger

import (
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
)

// NowIn brings the places of jobs' inputs up to date, of all files of each: a later job may have
// moved one on, or a newer file may have its name.
func (l *Ledger) NowIn(jobs []job.Job) error {
	l.settle()
	for i := range jobs {
		j := &jobs[i]
		at, err := FollowInput(j.FileNow, j.ID, j.Facts, l.laterJob)
		if err != nil {
			return err
		}
		j.FileNow = at
		for k := range j.Extra {
			m := &j.Extra[k]
			if m.FileNow, err = FollowInput(m.FileNow, j.ID, m.Facts, l.laterJob); err != nil {
				return err
			}
		}
	}
	return nil
}

// laterJob finds the first job behind a number that took the file at a path.
func (l *Ledger) laterJob(path string, after int64) (job.Job, bool, error) {
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

// FollowInput returns where a file is now, "" if nowhere, that a job left at a place. next finds the
// first job with a greater number that took the file at a path.
func FollowInput(at string, id int64, f file.Facts,
	next func(path string, after int64) (job.Job, bool, error)) (string, error) {
	for at != "" {
		later, ok, err := next(at, id)
		if err != nil || !ok {
			return at, err
		}
		facts, fileNow, _ := later.Took(at)
		// not by its number: that of a removed file is given to the next
		if facts.Size != f.Size || facts.Mod != f.Mod {
			return "", nil // another file has its name, or other content: what the job took went by itself
		}
		at, id, f = fileNow, later.ID, facts
	}
	return "", nil
}
