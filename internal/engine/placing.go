package engine

import (
	"context"
	"path/filepath"
	"sync"

	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
)

// placeQueue holds the end moves that wait for the placing goroutine.
type placeQueue struct {
	mu   sync.Mutex
	list []*placing
	kick chan struct{}
}

func (q *placeQueue) add(p []*placing) {
	q.mu.Lock()
	q.list = append(q.list, p...)
	q.mu.Unlock()
	select {
	case q.kick <- struct{}{}:
	default:
	}
}

func (q *placeQueue) take() []*placing {
	q.mu.Lock()
	defer q.mu.Unlock()
	list := q.list
	q.list = nil
	return list
}

// placeFiles is the placing goroutine. All moves that wait share one commit
// of their intentions; none touches a file before that is durable.
func (e *Engine) placeFiles(work context.Context, quit <-chan struct{}) {
	for {
		batch := e.queue.take()
		if len(batch) == 0 {
			select {
			case <-e.queue.kick:
				continue
			case <-quit:
				return
			}
		}
		done := make([]placedEnd, 0, len(batch))
		for _, p := range batch {
			e.ledger.RecordPlacement(p.record)
		}
		err := e.ledger.Sync(work)
		for _, p := range batch {
			result := placedEnd{id: p.record.Job, leads: p.leads, err: err}
			if err == nil {
				result = e.placeOne(p)
			}
			done = append(done, result)
		}
		e.placed <- done // the flow listens as long as anything is under way
	}
}

func (e *Engine) placeOne(p *placing) placedEnd {
	res, err := e.placer.Move(p.move)
	switch {
	case err == nil:
		p.record.State, p.record.Target = ledger.Done, res.Target
	default:
		p.record.State = ledger.Dropped
	}
	e.ledger.RecordPlacement(p.record)
	if err == nil && p.note != nil {
		e.writeNote(p, res.Target)
	}
	return placedEnd{id: p.record.Job, leads: p.leads, target: res.Target, err: err}
}

// writeNote puts the failure note beside the input. A note that cannot be
// written does not undo the move; the ledger knows the reason anyway.
func (e *Engine) writeNote(p *placing, target string) {
	n := *p.note
	job := *n.Job
	job.File = target
	n.Job = &job
	if attempts, err := e.ledger.Attempts(job.ID); err == nil && len(attempts) > 0 {
		if last := attempts[len(attempts)-1]; last.Output != "" {
			n.Output = LastLines(filepath.Join(e.state, last.Output), 20)
		}
	}
	_, _ = e.placer.WriteNew(filepath.Dir(target), filepath.Base(target)+plan.NoteEnding, p.move.Part, []byte(n.Note()))
}
