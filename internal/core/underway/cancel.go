package underway

import (
	"errors"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
)

// CancelJob takes a job out of the queue, or stops it.
func (js *Jobs) CancelJob(id int64, now time.Time) error {
	j := js.ByID[id]
	switch {
	case j == nil:
		return errNotOpen
	case js.AtWork[id] != nil:
		j.cancel = true
		js.Out.Stops = append(js.Out.Stops, id)
	case j.Row.State == job.Running:
		return errors.New("its input is being placed, which cannot be stopped")
	default:
		js.ways.LetGo(j.Row.File)
		js.Finish(j, job.Cancelled, "it was cancelled by hand", j.Row.File, now)
	}
	return nil
}

var errNotOpen = errors.New("the job is over, or there is none with this number")

// Changed ends a job whose file has changed before it began, and is another rule's by that. The file is offered
// anew.
func (js *Jobs) Changed(j *Job, now time.Time) {
	path, event := j.Row.File, j.Row.Event
	js.Finish(j, job.Cancelled, "the file changed before its job began, and is decided on anew", path, now)
	if event == file.Added {
		js.Store.Forget(j.Row.Rule, path) // it has not had it
	}
	js.ways.Offer(path, j.Row.Facts.Dir, settle.Found, now)
}

// NotTaken ends a job that its rule does not take any more. Its files are offered anew, to that
// rule, too, should it be there again.
func (js *Jobs) NotTaken(j *Job, at string, now time.Time) {
	why := take.RuleChanged
	if j.Rule == nil {
		why = take.NoRule
	}
	js.Finish(j, job.Cancelled, why, at, now)
	for _, path := range j.Row.Files() {
		js.Store.Forget(j.Row.Rule, path)
		js.ways.Offer(path, j.Row.Facts.Dir, settle.Found, now)
	}
}
