// Package placing carries out placings: the ends of jobs, in which files go where they belong.
//
// Those that wait share one commit of their intentions, and no move touches a file before that
// is durable. What has to be copied to another file system goes by a lane of its own, so that a
// disk that is slow, or does not answer, holds up no other. A disk that is not mounted is not
// taken for the folder below it.
package placing

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/look"
	"stilltide/internal/naming"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// Desk is where placings wait and are carried out.
type Desk struct {
	ledger  placeBook
	Placer  place.Placer
	Kept    *work.Kept
	answers *look.Answers
	inHand  *work.InHand
	state   string // the state folder
	Mounts  Mounts
	Runs    context.Context // ends when placements may not wait for the ledger any more
	Ends    chan []turn.PlacingEnd
	Lost    func(folder string, attributes []string) // is told what a folder cannot hold of a file that came there

	waits placeQueue
	far   atomic.Int64 // on their way to or from a file system that may not answer
}

// placeBook is what placings ask of the ledger, and write to it.
type placeBook interface {
	mountBook
	RecordIntention(p *job.Placement)
	RecordPlaced(p *job.Placement, after file.Facts)
	RecordPlacement(p job.Placement)
	Sync(ctx context.Context) error
	Flush() error
	Reliers(target string, job int64) ([]job.Placement, error)
	PlacedAt(target string) ([]job.Placement, error)
}

// New makes a desk for a ledger and its state folder. Until runs ends, placings wait
// for the ledger.
func New(l placeBook, state string, a *look.Answers, h *work.InHand) *Desk {
	return &Desk{ledger: l, Kept: work.NewKept(state), answers: a, inHand: h, state: state, Runs: context.Background(),
		Ends: make(chan []turn.PlacingEnd, 8), waits: placeQueue{kick: make(chan struct{}, 1)}}
}

// placeQueue holds the end moves that wait for the placing goroutine.
type placeQueue struct {
	mu    sync.Mutex
	list  []*turn.Placing
	taken time.Time // when the placing goroutine last took some
	kick  chan struct{}
}

func (q *placeQueue) add(p []*turn.Placing) {
	q.mu.Lock()
	q.list = append(q.list, p...)
	q.mu.Unlock()
	select {
	case q.kick <- struct{}{}:
	default:
	}
}

// MaxPlaced bounds a batch of placings, so that the flow soon hears of them.
const MaxPlaced = 512

// waiting counts the placings that wait.
func (q *placeQueue) waiting() int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.list)
}

func (q *placeQueue) take(n int) []*turn.Placing {
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
// hold up no others: after a moment without progress the events go on. What a sweep
// finds waits sooner than what happens, so that one full folder holds up no other.
const (
	MaxWaiting = 2048
	MaxFound   = MaxWaiting / 2
)

// Patience is that moment. Tests on a slow machine have more of it.
var Patience = time.Second

// holdsUp reports whether events have to wait, since so many placings do, and until
// when at most.
func (q *placeQueue) holdsUp(many int, now time.Time) (until time.Time, is bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	until = q.taken.Add(Patience)
	return until, len(q.list) >= many && until.After(now)
}

// HoldsUp reports whether events have to wait for placings, since so many of them wait, and
// until when at most.
func (d *Desk) HoldsUp(many int, now time.Time) (until time.Time, is bool) {
	return d.waits.holdsUp(many, now)
}

// Waiting counts the placings that wait.
func (d *Desk) Waiting() int { return d.waits.waiting() }

// Stuck counts the placings on their way to or from a file system that may not answer.
func (d *Desk) Stuck() int { return int(d.far.Load()) }

// Now carries out all that waits, in the caller's goroutine: for tests in which nothing
// happens by itself.
func (d *Desk) Now(runs context.Context, told func([]turn.PlacingEnd)) {
	var far []*turn.Placing
	near := d.mover()
	near.near = true
	near.placeWaiting(runs, func(p *turn.Placing) { far = append(far, p) }, told)
	for _, p := range far {
		by := d.mover()
		end := by.place(p, nil)
		by.end()
		told([]turn.PlacingEnd{end})
	}
}

// Run is the placing goroutine. The intentions were recorded when the
// placings were queued; many share one commit, and no move touches a file
// before that is durable. What has to be copied to another file system is left to
// that one's lane.
func (d *Desk) Run(runs context.Context, quit <-chan struct{}) {
	far := lanes{d: d, open: map[string]*lane{}}
	defer far.workers.Wait()
	by := d.mover()
	by.near = true
	for {
		if d.waits.waiting() == 0 {
			select {
			case <-d.waits.kick:
				continue
			case <-quit:
				return
			}
		}
		// the flow listens as long as anything is under way
		by.placeWaiting(runs, far.add, func(done []turn.PlacingEnd) { d.Ends <- done })
	}
}

// placeWaiting places what waits in the queue, in batches, and tells what came of it. What lies
// far is left to another.
func (by *mover) placeWaiting(runs context.Context, far func(*turn.Placing), told func([]turn.PlacingEnd)) {
	d := by.d
	waiting := d.waits.waiting()
	err := d.ledger.Sync(runs) // the intentions of all that wait: who comes meanwhile holds up none of them
	for waiting > 0 {
		batch := d.waits.take(min(waiting, MaxPlaced))
		waiting -= len(batch)
		if done := by.placeAll(batch, err, far); len(done) > 0 {
			told(done)
		}
	}
}

// Add records the intentions of placings and has them carried out.
func (d *Desk) Add(list []*turn.Placing) {
	for _, p := range list {
		for i := range p.Moves {
			d.ledger.RecordIntention(p.Moves[i].Record)
		}
	}
	d.waits.add(list)
}

// placeAll places what lies near; err is why nothing can be placed.
func (by *mover) placeAll(batch []*turn.Placing, err error, far func(*turn.Placing)) []turn.PlacingEnd {
	done := make([]turn.PlacingEnd, 0, len(batch))
	defer by.end()
	clear(by.there)
	room := make([]turn.Moved, len(batch)) // most have but one file
	for i, p := range batch {
		result := turn.PlacingEnd{ID: p.ID, Leads: p.Leads, Err: err}
		if _, unsure := by.d.unsureWay(p); unsure && err == nil {
			far(p)
			continue
		}
		if err == nil {
			result = by.place(p, room[i:i:i+1])
		}
		if errors.Is(result.Err, place.ErrFar) {
			far(p)
			continue
		}
		done = append(done, result)
	}
	return done
}

// mover places for one goroutine.
type mover struct {
	d     *Desk
	batch *place.Placer
	there map[string]error // what mounted said of a folder
	near  bool             // what would have to be copied to another file system is refused
	kept  []string         // where the placing that is under way may keep what it replaces
}

// mover makes one; end is to be called whenever some of its work is done.
func (d *Desk) mover() *mover {
	return &mover{d: d, batch: d.Placer.Batch(), there: map[string]error{}}
}

func (by *mover) end() { by.batch.End() }

// place does the moves of one job: all or none. A file that is gone or has
// changed meanwhile is left out. room is where the moves are told, if they fit.
func (by *mover) place(p *turn.Placing, room []turn.Moved) turn.PlacingEnd {
	d, end := by.d, turn.PlacingEnd{ID: p.ID, Leads: p.Leads, Moved: room}
	defer by.over()
	for i := range p.Moves {
		m := &p.Moves[i]
		if m.Marker != nil {
			by.nameMarker(m, end.Moved)
		}
		res, err := by.move(m, p.Watch)
		if err == nil {
			m.Placed()
		}
		if err != nil && !errors.Is(err, job.ErrGone) && !errors.Is(err, job.ErrChanged) {
			end.Now = d.takeBack(p.Moves[:i], p.Watch) // the intention stands: it is tried again
			if place.Final(err) || errors.Is(err, job.ErrSkipped) {
				d.change(m, func(r *job.Placement) { r.State = job.Dropped })
			}
			end.Err, end.Final, end.Moved = err, place.Final(err), nil
			return end
		}
		if err == nil && !res.Facts.Same(m.Record.Facts) {
			if end.Now == nil {
				end.Now = map[string]file.Facts{}
			}
			end.Now[m.Record.Source] = res.Facts
		}
		if p.Alone && by.asIntended(m, res, err) {
			d.ledger.RecordPlaced(m.Record, res.Facts)
			end.Moved = append(end.Moved, turn.Moved{Source: m.Record.Source, Target: res.Target, Rest: res.Rest,
				Intended: true})
			break
		}
		d.change(m, func(r *job.Placement) { placedAs(r, res, err) })
		end.Moved = append(end.Moved, turn.Moved{Source: m.Record.Source, Target: res.Target, Rest: res.Rest, Err: err})
	}
	switch {
	case p.Note == nil:
	case p.Landed != "":
		d.writeNote(p, p.Landed)
	case len(end.Moved) > 0 && end.Moved[0].Err == nil:
		d.writeNote(p, end.Moved[0].Target)
	}
	return end
}

// over ends a placing: what it has replaced may go when there is too much of it.
func (by *mover) over() {
	if len(by.kept) > 0 {
		by.d.Kept.Over(by.kept...)
		by.kept = by.kept[:0]
	}
}

// nameMarker names a marker after the name that its file was given.
func (by *mover) nameMarker(m *turn.Move, all []turn.Moved) {
	at := slices.IndexFunc(all, func(one turn.Moved) bool { return one.Source == m.Of && one.Err == nil })
	if at < 0 {
		return
	}
	name := filepath.Base(plan.MarkerOf(m.Marker, all[at].Target))
	if name == m.To.Name {
		return
	}
	m.To.Name = name
	by.d.change(m, func(r *job.Placement) { r.Target = m.To.Path() })
	_ = by.d.ledger.Sync(by.d.Runs) // the move itself says if the ledger cannot be written
}

// move does one move.
func (by *mover) move(m *turn.Move, watch string) (place.Result, error) {
	if err := by.disk(m.To.Folder()); err != nil {
		return place.Result{}, err
	}
	r := place.Request{Source: m.Record.Source, Root: watch, To: m.To, Expect: m.Record.Facts, Same: m.Same,
		Ledger: by.d.state, Job: m.Record.Job, Near: by.near, Untouched: m.Only, First: m.First,
		Held: func(path string) bool { return by.d.inHand.HeldBesides(m.Record.Job, path) }}
	if m.Same == rule.SameReplace {
		by.d.stageOver(m, &r)
		by.d.Kept.Need(r.Kept)
		by.kept = append(by.kept, r.Kept)
	}
	r.Amend = func(s place.Staged) error {
		by.d.change(m, func(r *job.Placement) { s.Amend(r) })
		return by.d.ledger.Sync(by.d.Runs)
	}
	res, err := by.batch.Move(r)
	if len(res.Lost) > 0 && by.d.Lost != nil {
		by.d.Lost(filepath.Dir(res.Target), res.Lost)
	}
	if errors.Is(err, job.ErrGone) && place.CanComeBack(watch) != nil {
		err = fmt.Errorf("the folder %s is not there", plan.Display(watch)) // with what lies in it
	}
	return res, err
}

// asIntended reports whether a move ended just as its record says.
func (by *mover) asIntended(m *turn.Move, res place.Result, err error) bool {
	return err == nil && m.Record.Target == res.Target && res.Made == 0 && !res.Same && !res.Here &&
		m.Same != rule.SameReplace
}

// placedAs notes how a move ended.
func placedAs(r *job.Placement, res place.Result, err error) {
	r.Kind = job.Moved
	if r.State = job.Dropped; err != nil || res.Here {
		return
	}
	r.State, r.Target, r.After, r.Made = job.Done, res.Target, res.Facts, res.Made
	if res.Same {
		r.Kind = job.Duplicate
	}
}

// change records a move in another state.
func (d *Desk) change(m *turn.Move, to func(*job.Placement)) {
	next := *m.Record
	to(&next)
	m.Record = &next
	d.ledger.RecordPlacement(next)
}

// stageOver has a move that may replace something say so before it does: what
// is replaced is found by that record.
func (d *Desk) stageOver(m *turn.Move, r *place.Request) {
	kept, before := work.KeptPath(d.state, m.Record.ID), m.Record.Facts
	r.Kept = kept
	r.Stage = func(staged []place.Staged) error {
		s := staged[0]
		d.change(m, func(r *job.Placement) {
			r.Target, r.After, r.Replaced = s.Target, before, s.Replaced
			if r.Kind = job.Moved; s.Duplicate {
				r.Kind, r.After = job.Duplicate, s.Facts
			}
			if r.Kept = ""; s.Replaced {
				r.Kept = kept
			}
		})
		return d.ledger.Sync(d.Runs)
	}
}

// disk is mounted, asked once a batch for each folder.
func (by *mover) disk(folder string) error {
	err, asked := by.there[folder]
	if !asked {
		err = by.d.Mounted(folder)
		by.there[folder] = err
	}
	return err
}

// takeBack undoes the moves of a job whose later move failed, newest first. It returns how
// the files look that are back.
func (d *Desk) takeBack(moves []turn.Move, watch string) map[string]file.Facts {
	back := map[string]file.Facts{}
	for i := len(moves) - 1; i >= 0; i-- {
		m := &moves[i]
		if m.Record.State != job.Done {
			continue
		}
		record := work.RecordOf(m.Record, watch)
		record.Relied = func() error { return work.Relied(d.ledger, m.Record) }
		if err := d.Placer.Undo(record, place.PartName(d.state, m.Record.Job, m.Record.Source)); err == nil {
			now := work.LookAt(m.Record.Source, m.Record.Facts.Dir)
			if !now.Exists || now.Size != m.Record.Facts.Size || now.Mod != m.Record.Facts.Mod {
				now = m.Record.Facts
			}
			back[m.Record.Source] = now
			_ = work.BackAt(d.ledger, m.Record, now) // as for a step
			d.change(m, func(r *job.Placement) { r.State, r.Facts, r.After = job.Intended, now, now })
		}
	}
	return back
}

// writeNote puts the failure note beside the input. A note that cannot be
// written does not undo the move; the ledger knows the reason anyway.
func (d *Desk) writeNote(p *turn.Placing, target string) {
	n := *p.Note
	job := *n.Job
	job.File = target
	n.Job = &job
	if p.Output != "" {
		n.Output = work.LastLines(filepath.Join(d.state, p.Output), 20)
	}
	to := plan.SpotOf(naming.NoteOf(target))
	if there, err := watchfs.Stat(to.Path()); p.Landed != "" && (err != nil || there.Exists) {
		return // it was written before the program ended
	}
	_, _ = d.Placer.Write(place.Request{To: to, Ledger: d.state, Job: p.ID}, []byte(n.Note()))
}
