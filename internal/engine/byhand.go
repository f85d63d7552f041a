package engine

import (
	"errors"
	"strings"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/plan"
)

// Retry retries a job of the running engine.
func (e *Engine) Retry(id int64) byhand.Sent {
	row, err := byhand.JobByID(e.ledger, id)
	if err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	lent, set := false, (*plan.Set)(nil)
	if err = e.do(func() { set = e.flow.Set }); err == nil {
		err = byhand.StillTaken(e.ledger, set, row)
	}
	if err == nil {
		err = e.do(func() { lent = e.flow.Lend(id, row.Files(), row.Now()...) })
	}
	switch {
	case err != nil:
		return byhand.Sent{ID: id, Reason: err.Error()}
	case !lent:
		return byhand.Sent{ID: id, Reason: "the job, or another one for its file, is still active"}
	}
	opened, rests, err := byhand.SendRound(e.ledger, &e.desk.Placer, row)
	doErr := e.do(func() {
		if err == nil {
			e.flow.Reopen(opened, time.Now())
		}
		e.flow.Return(id, row.Facts.Dir, time.Now())
	})
	if err = errors.Join(err, doErr); err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	return e.lasting(byhand.Sent{ID: id, Done: true,
		Reason: strings.Join(append([]string{"queued again"}, rests...), "; ")})
}

// lasting has what was done be durable before it is said.
func (e *Engine) lasting(s byhand.Sent) byhand.Sent {
	if e.ledger.Flush() != nil {
		s.Reason += "; the ledger cannot be written now, and a crash before it can would lose this"
	}
	return s
}

// Undo puts back what a job of the running engine placed.
func (e *Engine) Undo(id int64) byhand.Sent {
	row, err := byhand.JobByID(e.ledger, id)
	back, places, listErr := byhand.PutsBack(e.ledger, row)
	if err = errors.Join(err, listErr); err != nil {
		return byhand.Sent{ID: id, Reason: err.Error()}
	}
	lent, set := false, (*plan.Set)(nil)
	err = e.do(func() { lent, set = e.flow.Lend(id, back, places...), e.flow.Set })
	switch {
	case err != nil:
		return byhand.Sent{ID: id, Reason: err.Error()}
	case !lent:
		return byhand.Sent{ID: id, Reason: "the job, or another one for its file, is still active"}
	}
	sent := byhand.UndoJob(e.ledger, &e.desk.Placer, set, row)
	if err := e.do(func() { e.flow.Return(id, row.Facts.Dir, time.Now()) }); err != nil && !sent.Done {
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
	return e.lasting(byhand.Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"})
}

// Dismiss notes that somebody has seen that a job failed.
func (e *Engine) Dismiss(id int64) byhand.Sent {
	sent := byhand.Dismiss(e.ledger, id)
	if sent.Done {
		sent = e.lasting(sent)
	}
	return sent
}

// Pause pauses rules and folders until a time (see job.Pauses), or lets them go on; no names mean
// all.
func (e *Engine) Pause(names []string, paused bool, until time.Time) error {
	err := e.do(func() {
		e.flow.SetPaused(names, paused, until)
		if !paused {
			e.desk.Mounts.Accept(e.ledger, e.flow.Rules(), names)
			e.sweep()
		}
	})
	if err == nil {
		_ = e.ledger.Flush() // the watcher says itself what is wrong with the ledger
	}
	return err
}
