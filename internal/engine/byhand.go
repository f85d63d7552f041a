package engine

import (
	"errors"
	"strings"
	"time"

	"stilltide/internal/byhand"
)

// Retry retries a job of the running engine.
func (e *Engine) Retry(id int64) byhand.Sent {
	row, err := byhand.JobByID(e.ledger, id)
	if err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	lent := false
	err = e.do(func() { lent = e.flow.Lend(id, row.File) })
	if err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	if !lent {
		return byhand.Sent{ID: id, Reason: "the job, or another one for its file, is still active"}
	}
	opened, rests, err := byhand.SendRound(e.ledger, &e.desk.Placer, row)
	doErr := e.do(func() {
		e.flow.Return(row.File)
		if err == nil {
			e.flow.Restore(opened, opened.State, nil, time.Now())
		}
	})
	if err = errors.Join(err, doErr); err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	return byhand.Sent{ID: id, Done: true, Reason: strings.Join(append([]string{"queued again"}, rests...), "; ")}
}

// Undo puts back what a job of the running engine placed.
func (e *Engine) Undo(id int64) byhand.Sent {
	row, err := byhand.JobByID(e.ledger, id)
	if err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	lent := false
	err = e.do(func() { lent = e.flow.Lend(id, row.File) })
	switch {
	case err != nil:
		return byhand.Sent{ID: id, Reason: err.Error()}
	case !lent:
		return byhand.Sent{ID: id, Reason: "the job, or another one for its file, is still active"}
	}
	sent := byhand.UndoJob(e.ledger, &e.desk.Placer, row)
	if err := e.do(func() { e.flow.Return(row.File) }); err != nil && !sent.Done {
		sent.Reason = err.Error()
	}
	return sent
}

// Cancel takes a job out of the queue, or stops it.
func (e *Engine) Cancel(id int64) byhand.Sent {
	path := ""
	if row, err := byhand.JobByID(e.ledger, id); err == nil && !row.State.Final() {
		path = row.File
	}
	running := false
	var err error
	doErr := e.do(func() { running, err = e.flow.Cancel(id, path, time.Now()) })
	switch err = errors.Join(err, doErr); {
	case err != nil:
		return byhand.Sent{ID: id, Reason: err.Error()}
	case running:
		return byhand.Sent{ID: id, Done: true, Reason: "it is being stopped"}
	}
	return byhand.Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"}
}

// Dismiss notes that somebody has seen that a job failed.
func (e *Engine) Dismiss(id int64) byhand.Sent { return byhand.Dismiss(e.ledger, id) }

// Pause pauses rules and folders until a time (see job.Pauses), or lets them go on; no names mean
// all.
func (e *Engine) Pause(names []string, paused bool, until time.Time) error {
	return e.do(func() {
		e.flow.SetPaused(names, paused, until)
		if !paused {
			e.desk.Mounts.Accept(e.ledger, e.flow.Rules(), names)
			e.sweep()
		}
	})
}
