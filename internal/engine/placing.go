package engine

import (
	"context"
	"errors"
	"path/filepath"
	"sync"

	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
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
			for _, m := range p.moves {
				e.ledger.RecordPlacement(m.record)
			}
		}
		err := e.ledger.Sync(work)
		e.there = map[string]error{}
		for _, p := range batch {
			result := placedEnd{id: p.id, leads: p.leads, err: err}
			if err == nil {
				result = e.placeOne(p)
			}
			done = append(done, result)
		}
		e.placed <- done // the flow listens as long as anything is under way
	}
}

// placeOne does the moves of one job: all or none. A file that is gone or has
// changed meanwhile is left out.
func (e *Engine) placeOne(p *placing) placedEnd {
	end := placedEnd{id: p.id, leads: p.leads}
	for i := range p.moves {
		m := &p.moves[i]
		var res place.Result
		err := e.diskOf(m.request.Folder)
		if err == nil {
			res, err = e.placer.Move(m.request)
		}
		if err != nil && !errors.Is(err, place.ErrGone) && !errors.Is(err, place.ErrChanged) {
			e.takeBack(p.moves[:i]) // the intention stands: it is tried again
			end.err, end.moved = err, nil
			return end
		}
		m.record.State = ledger.Done
		if err != nil {
			m.record.State = ledger.Dropped
		} else {
			m.record.Target = res.Target
		}
		e.ledger.RecordPlacement(m.record)
		end.moved = append(end.moved, moved{source: m.request.Source, target: res.Target, err: err})
	}
	if p.note != nil && end.moved[0].err == nil {
		e.writeNote(p, end.moved[0].target)
	}
	return end
}

// diskOf is mounted, asked once a batch for each folder: the mount table is
// long to read.
func (e *Engine) diskOf(folder string) error {
	err, asked := e.there[folder]
	if !asked {
		err = e.mounted(folder)
		if e.there != nil {
			e.there[folder] = err
		}
	}
	return err
}

// takeBack undoes the moves of a job whose later move failed, newest first.
func (e *Engine) takeBack(moves []move) {
	for i := len(moves) - 1; i >= 0; i-- {
		m := &moves[i]
		if m.record.State != ledger.Done {
			continue
		}
		now, err := watchfs.Stat(m.record.Target)
		if err == nil {
			_, err = e.placer.Move(place.Request{Source: m.record.Target, Folder: filepath.Dir(m.request.Source), Name: filepath.Base(m.request.Source), Expect: now, Part: m.request.Part})
		}
		if err == nil {
			m.record.State = ledger.Intended
			e.ledger.RecordPlacement(m.record)
		}
	}
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
	_, _ = e.placer.WriteNew(filepath.Dir(target), filepath.Base(target)+plan.NoteEnding, p.moves[0].request.Part, []byte(n.Note()))
}
