package engine

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// placeQueue holds the end moves that wait for the placing goroutine.
type placeQueue struct {
	mu    sync.Mutex
	list  []*placing
	taken time.Time // when the placing goroutine last took some
	kick  chan struct{}
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

// maxPlaced bounds a batch of placings, so that the flow soon hears of them.
const maxPlaced = 512

// waiting counts the placings that wait.
func (q *placeQueue) waiting() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.list)
}

func (q *placeQueue) take(n int) []*placing {
	q.mu.Lock()
	defer q.mu.Unlock()
	list := q.list[:n:n]
	q.list = q.list[n:]
	q.taken = time.Now()
	return list
}

// In a burst that comes faster than its files can be moved, events wait while
// many moves do: the files are safe in their folder and cost nothing there, but
// as jobs they fill the memory, and the ledger after that. Moves that take long
// hold up nobody: after a moment without progress the events go on.
const (
	maxWaiting = 4096
	patience   = time.Second
)

// holdsUp reports whether events have to wait, and until when at most.
func (q *placeQueue) holdsUp(now time.Time) (until time.Time, is bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	until = q.taken.Add(patience)
	return until, len(q.list) >= maxWaiting && until.After(now)
}

// placeFiles is the placing goroutine. The intentions were recorded when the
// placings were queued; many share one commit, and no move touches a file
// before that is durable. What has to be copied to another file system is left to
// that one's lane.
func (e *Engine) placeFiles(runs context.Context, quit <-chan struct{}) {
	far := lanes{e: e, open: map[string]*lane{}}
	defer far.workers.Wait()
	by := e.mover()
	by.near = true
	for {
		if e.queue.waiting() == 0 {
			select {
			case <-e.queue.kick:
				continue
			case <-quit:
				return
			}
		}
		// the flow listens as long as anything is under way
		by.placeWaiting(runs, far.add, func(done []placedEnd) { e.placed <- done })
	}
}

// placeWaiting places what waits in the queue, in batches, and tells what came of it. What lies
// far is left to another.
func (by *mover) placeWaiting(runs context.Context, far func(*placing), told func([]placedEnd)) {
	e := by.e
	waiting := e.queue.waiting()
	err := e.ledger.Sync(runs) // the intentions of all that wait: who comes meanwhile holds up none of them
	for waiting > 0 {
		batch := e.queue.take(min(waiting, maxPlaced))
		waiting -= len(batch)
		if done := by.placeAll(batch, err, far); len(done) > 0 {
			told(done)
		}
	}
}

// queuePlaces records the intentions of placings and has them carried out.
func (e *Engine) queuePlaces(list []*placing) {
	for _, p := range list {
		for i := range p.moves {
			e.ledger.RecordIntention(p.moves[i].record)
		}
	}
	e.queue.add(list)
}

// placeAll places what lies near; err is why nothing can be placed.
func (by *mover) placeAll(batch []*placing, err error, far func(*placing)) []placedEnd {
	done := make([]placedEnd, 0, len(batch))
	defer by.end()
	clear(by.there)
	room := make([]moved, len(batch)) // most have but one file
	for i, p := range batch {
		result := placedEnd{id: p.id, leads: p.leads, err: err}
		if _, unsure := by.e.unsureWay(p); unsure && err == nil {
			far(p)
			continue
		}
		if err == nil {
			result = by.place(p, room[i:i:i+1])
		}
		if errors.Is(result.err, place.ErrFar) {
			far(p)
			continue
		}
		done = append(done, result)
	}
	return done
}

// mover places for one goroutine.
type mover struct {
	e     *Engine
	batch *place.Placer
	there map[string]error // what mounted said of a folder
	near  bool             // what would have to be copied to another file system is refused
}

// mover makes one; end is to be called whenever some of its work is done.
func (e *Engine) mover() *mover {
	return &mover{e: e, batch: e.placer.Batch(), there: map[string]error{}}
}

func (by *mover) end() { by.batch.End() }

// place does the moves of one job: all or none. A file that is gone or has
// changed meanwhile is left out. room is where the moves are told, if they fit.
func (by *mover) place(p *placing, room []moved) placedEnd {
	e, end := by.e, placedEnd{id: p.id, leads: p.leads, moved: room}
	for i := range p.moves {
		m := &p.moves[i]
		if m.marker != nil {
			by.nameMarker(m, end.moved)
		}
		res, err := by.move(m, p.watch)
		if m.wish != nil && err == nil {
			m.wish.done.Store(true)
		}
		if err != nil && !errors.Is(err, place.ErrGone) && !errors.Is(err, place.ErrChanged) {
			end.back = e.takeBack(p.moves[:i], p.watch) // the intention stands: it is tried again
			if place.Final(err) || errors.Is(err, place.ErrSkipped) {
				e.change(m, func(r *job.Placement) { r.State = job.Dropped })
			}
			end.err, end.moved = err, nil
			return end
		}
		if p.alone && by.asIntended(m, res, err) {
			e.ledger.RecordPlaced(m.record, res.Facts)
			end.moved = append(end.moved, moved{source: m.record.Source, target: res.Target, rest: res.Rest,
				intended: true})
			break
		}
		e.change(m, func(r *job.Placement) { placedAs(r, res, err) })
		end.moved = append(end.moved, moved{source: m.record.Source, target: res.Target, rest: res.Rest, err: err})
	}
	switch {
	case p.note == nil:
	case p.landed != "":
		e.writeNote(p, p.landed)
	case len(end.moved) > 0 && end.moved[0].err == nil:
		e.writeNote(p, end.moved[0].target)
	}
	return end
}

// nameMarker names a marker after the name that its file was given.
func (by *mover) nameMarker(m *move, all []moved) {
	at := slices.IndexFunc(all, func(one moved) bool { return one.source == m.of && one.err == nil })
	if at < 0 {
		return
	}
	name := filepath.Base(plan.MarkerOf(m.marker, all[at].target))
	if name == m.to.Name {
		return
	}
	m.to.Name = name
	by.e.change(m, func(r *job.Placement) { r.Target = m.to.Path() })
	_ = by.e.ledger.Sync(by.e.placing) // the move itself says if the ledger cannot be written
}

// move does one move.
func (by *mover) move(m *move, watch string) (place.Result, error) {
	if err := by.disk(m.to.Folder()); err != nil {
		return place.Result{}, err
	}
	r := place.Request{Source: m.record.Source, Root: watch, To: m.to, Expect: m.record.Facts, Same: m.same,
		Ledger: by.e.state, Job: m.record.Job, Near: by.near, Untouched: m.only, First: m.first,
		Held: func(path string) bool { return by.e.flow.inHand.heldBesides(m.record.Job, path) }}
	if m.same == rule.SameReplace {
		by.e.stageOver(m, &r)
	}
	r.Amend = func(s place.Staged) error {
		by.e.change(m, func(r *job.Placement) { amended(r, s) })
		return by.e.ledger.Sync(by.e.placing)
	}
	return by.batch.Move(r)
}

// amended notes how a move will turn out otherwise than its intention says.
func amended(r *job.Placement, s place.Staged) {
	r.Target, r.After = s.Target, s.Facts
	if s.Duplicate {
		r.Kind = string(place.Duplicate)
	}
}

// asIntended reports whether a move ended just as its record says.
func (by *mover) asIntended(m *move, res place.Result, err error) bool {
	return err == nil && m.record.Target == res.Target && res.Made == 0 && !res.Same && !res.Here &&
		m.same != rule.SameReplace
}

// placedAs notes how a move ended.
func placedAs(r *job.Placement, res place.Result, err error) {
	r.Kind = string(place.Moved)
	if r.State = job.Dropped; err != nil || res.Here {
		return
	}
	r.State, r.Target, r.After, r.Made = job.Done, res.Target, res.Facts, res.Made
	if res.Same {
		r.Kind = string(place.Duplicate)
	}
}

// change records a move in another state.
func (e *Engine) change(m *move, to func(*job.Placement)) {
	next := *m.record
	to(&next)
	m.record = &next
	e.ledger.RecordPlacement(next)
}

// stageOver has a move that may replace something say so before it does: what
// is replaced is found by that record.
func (e *Engine) stageOver(m *move, r *place.Request) {
	kept, before := work.KeptPath(e.state, m.record.ID), m.record.Facts
	r.Kept = kept
	r.Stage = func(staged []place.Staged) error {
		s := staged[0]
		e.change(m, func(r *job.Placement) {
			r.Target, r.After, r.Replaced = s.Target, before, s.Replaced
			if r.Kind = string(place.Moved); s.Duplicate {
				r.Kind, r.After = string(place.Duplicate), s.Facts
			}
			if r.Kept = ""; s.Replaced {
				r.Kept = kept
			}
		})
		return e.ledger.Sync(e.placing)
	}
}

// disk is mounted, asked once a batch for each folder.
func (by *mover) disk(folder string) error {
	err, asked := by.there[folder]
	if !asked {
		err = by.e.mounted(folder)
		by.there[folder] = err
	}
	return err
}

// takeBack undoes the moves of a job whose later move failed, newest first. It returns how
// the files look that are back.
func (e *Engine) takeBack(moves []move, watch string) map[string]file.Facts {
	back := map[string]file.Facts{}
	for i := len(moves) - 1; i >= 0; i-- {
		m := &moves[i]
		if m.record.State != job.Done {
			continue
		}
		record := work.RecordOf(m.record, watch)
		record.Relied = func() error { return work.Relied(e.ledger, m.record) }
		if err := e.placer.Undo(record, place.PartName(e.state, m.record.Job)); err == nil {
			now := work.LookAt(m.record.Source, m.record.Facts.Dir)
			if !now.Exists || now.Size != m.record.Facts.Size || now.Mod != m.record.Facts.Mod {
				now = m.record.Facts
			}
			back[m.record.Source] = now
			e.change(m, func(r *job.Placement) { r.State, r.Facts, r.After = job.Intended, now, now })
		}
	}
	return back
}

// writeNote puts the failure note beside the input. A note that cannot be
// written does not undo the move; the ledger knows the reason anyway.
func (e *Engine) writeNote(p *placing, target string) {
	n := *p.note
	job := *n.Job
	job.File = target
	n.Job = &job
	if p.output != "" {
		n.Output = work.LastLines(filepath.Join(e.state, p.output), 20)
	}
	to := place.SpotOf(target + plan.NoteEnding)
	if there, err := watchfs.Stat(to.Path()); p.landed != "" && (err != nil || there.Exists) {
		return // it was written before the program ended
	}
	_, _ = e.placer.Write(place.Request{To: to, Ledger: e.state, Job: p.id}, []byte(n.Note()))
}
