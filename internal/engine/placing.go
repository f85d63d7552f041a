package engine

import (
	"context"
	"errors"
	"path/filepath"
	"sync"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
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

// mostPlaced bounds a batch of placings, so that the ledger can write the
// intentions of the next one meanwhile.
const mostPlaced = 512

func (q *placeQueue) take() []*placing {
	q.mu.Lock()
	defer q.mu.Unlock()
	n := min(len(q.list), mostPlaced)
	list := q.list[:n:n]
	q.list = q.list[n:]
	return list
}

// placeFiles is the placing goroutine. The intentions were recorded when the
// placings were queued; many share one commit, and no move touches a file
// before that is durable.
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
		err := e.ledger.Sync(work)
		e.there, e.batch = map[string]error{}, e.placer.Batch()
		for _, p := range batch {
			result := placedEnd{id: p.id, leads: p.leads, err: err}
			if err == nil {
				result = e.placeOne(p)
			}
			done = append(done, result)
		}
		e.batch.End()
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
		err := e.diskOf(m.request.To.Folder())
		if err == nil {
			e.stageOver(m)
			res, err = e.batch.Move(m.request)
		}
		if err != nil && !errors.Is(err, place.ErrGone) && !errors.Is(err, place.ErrChanged) {
			e.takeBack(p.moves[:i]) // the intention stands: it is tried again
			if errors.Is(err, place.ErrTaken) || errors.Is(err, place.ErrSkipped) {
				m.record.State = ledger.Dropped
				e.ledger.RecordPlacement(m.record)
			}
			end.err, end.moved = err, nil
			return end
		}
		if m.record.State = ledger.Dropped; err == nil {
			intended := m.record.Target == res.Target && !res.Same && m.request.Same != rule.SameReplace
			m.record.State, m.record.Target, m.record.After = ledger.Done, res.Target, res.Facts
			if res.Same {
				m.record.Kind = string(place.Twin)
			}
			if intended && len(p.moves) == 1 {
				e.ledger.RecordPlaced(m.record)
				end.moved = append(end.moved, moved{source: m.request.Source, target: res.Target, intended: true})
				break
			}
		}
		e.ledger.RecordPlacement(m.record)
		end.moved = append(end.moved, moved{source: m.request.Source, target: res.Target, err: err})
	}
	if p.note != nil && end.moved[0].err == nil {
		e.writeNote(p, end.moved[0].target)
	}
	return end
}

// stageOver has a move that may replace something say so before it does: what
// is replaced is found by that record.
func (e *Engine) stageOver(m *move) {
	if m.request.Same != rule.SameReplace {
		return
	}
	m.request.Stage = func(staged []place.Staged) error {
		s := staged[0]
		m.record.Target, m.record.After, m.record.Over = s.Target, m.request.Expect, s.Over
		if m.record.Kept = ""; s.Over {
			m.record.Kept = m.request.Kept
		}
		e.ledger.RecordPlacement(m.record)
		return e.ledger.Sync(e.placing)
	}
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
		if err := e.placer.Undo(recordOf(&m.record), m.request.Part); err == nil {
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
	to := place.SpotOf(target + plan.NoteEnding)
	_, _ = e.placer.Write(place.Request{To: to, Part: p.moves[0].request.Part}, []byte(n.Note()))
}
