package engine

import (
	"errors"
	"os"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/look"
	"stilltide/internal/watchfs"
)

// A file system of another machine or program may not answer. The flow does not wait for it:
// what is to be looked at there is looked at beside the flow, and answered as an input; what
// the flow must know at once it asks for a moment, and goes without it then. The folder
// counts as absent until it answers again.

// knowFolders finds out from which of the rules' folders links lead to a file system that
// may not answer.
func (e *Engine) knowFolders(set *plan.Set) {
	if !e.answers.Any() {
		return
	}
	for folder := range set.Folders() {
		e.knowFolder(folder)
	}
	for _, folder := range set.FixedPlaces() {
		e.knowFolder(folder)
	}
}

func (e *Engine) knowFolder(folder string) {
	e.answers.Know(folder)
	if e.startsApart(folder) {
		e.runner.Apart()
	}
}

// startsApart reports whether commands are to be started apart from files that are open here: where a folder of the
// rules is on a file system that may not answer.
func (e *Engine) startsApart(folder string) bool { return e.o.Starts && e.unsure(folder) }

// lookAt looks at a path for the flow, and waits for it for a moment at most.
func (e *Engine) lookAt(by *watchfs.Looker, path string) (file.Facts, error) {
	set := e.flow.Rules()
	if _, unsure := e.answers.Unsure(path); !unsure {
		return look.By(by, set, path)
	}
	res := &turn.Look{}
	if err := e.answers.Ask(path, look.Patience, func() { res.Facts, res.Err = look.From(set, path) }); err != nil {
		e.doubt(path)
		return file.Facts{}, err
	}
	return res.Facts, res.Err
}

func (e *Engine) unsure(path string) bool { _, is := e.answers.Unsure(path); return is }

// doubt has the folder looked at in which something was not answered.
func (e *Engine) doubt(path string) {
	if root := e.flow.Rules().Root(path); root != "" && e.events != nil {
		e.events.Doubt(root)
	}
}

// maxBeside bounds the answers that one look beside the flow brings.
const maxBeside = 64

// lookBeside looks at paths beside the flow, those of each file system one after the other.
func (e *Engine) lookBeside(paths []string) {
	at := map[string][]string{}
	for _, path := range paths {
		point, _ := e.answers.Unsure(path)
		if at[point] = append(at[point], path); len(at[point]) == maxBeside {
			e.lookLater(point, at[point])
			delete(at, point)
		}
	}
	for point, paths := range at {
		e.lookLater(point, paths)
	}
}

func (e *Engine) lookLater(point string, paths []string) {
	set := e.flow.Rules()
	looks := make([]turn.Look, len(paths))
	e.answers.LaterEach(point, len(paths), func(i int) { looks[i] = look.Whole(set, paths[i]) }, func() {
		_ = e.do(func() { // a watcher that has ended needs no answer
			now := time.Now()
			for i, path := range paths {
				e.flow.Answered(path, looks[i], now)
			}
		})
	})
	e.doubtLater(paths[0])
}

// source is what the flow's reads read from.
type source struct {
	store
	set      *plan.Set
	answered func() // see look.Answers.Later
}

func (s source) Look(path string) (file.Facts, error) {
	defer s.answered()
	return look.From(s.set, path)
}

func (s source) Complete(set *plan.Set, r *rule.Rule, path string, facts *file.Facts) {
	defer s.answered()
	look.Complete(set, r, path, facts)
}

func (s source) Hash(path string, size int64) (string, error) { return content.Hash("", path, size) }

// readBeside carries out reads of the flow beside it.
func (e *Engine) readBeside(reads []turn.Read) {
	from := source{e.ledger, e.flow.Rules(), func() {}}
	for _, r := range reads {
		if point, unsure := e.answers.Unsure(r.Path); unsure && r.Path != "" {
			e.answers.Later(point, func(answered func()) {
				answer := r.Do(source{from.store, from.set, answered})
				_ = e.do(func() { answer(time.Now()) }) // a watcher that has ended needs no answer
			})
			continue
		}
		e.beside(func() func() {
			answer := r.Do(from)
			return func() { answer(time.Now()) }
		})
	}
}

// beside does something beside the loop, and brings what comes of it there.
func (e *Engine) beside(do func() (bring func())) {
	e.active++
	e.work.Go(func() {
		bring := do()
		e.asks <- func() { // the loop listens as long as anything is under way
			e.active--
			bring()
		}
	})
}

// doubtAfter is how long a look beside the flow may take before its folder is asked
// whether it answers.
const doubtAfter = 500 * time.Millisecond

// doubtLater has a folder looked at in which looks take long.
func (e *Engine) doubtLater(path string) {
	time.AfterFunc(doubtAfter, func() {
		_ = e.do(func() {
			if e.flow.IsAsking(path) {
				e.doubt(path)
			}
		})
	})
}

// onlySilent reports whether all that is under way waits for file systems that do not answer.
func (e *Engine) onlySilent(now time.Time) bool {
	silent := map[string]bool{}
	for point, at := range e.answers.Since() {
		if now.Sub(at) >= time.Second {
			silent[point] = true
		}
	}
	if len(silent) == 0 {
		return false
	}
	stuck := e.desk.Stuck()
	for id := range e.cancels {
		if e.flow.Reaches(id, func(folder string) bool {
			point, _ := e.answers.Unsure(folder)
			return silent[point]
		}) {
			stuck++
		}
	}
	return e.active <= stuck
}

// sayAfter is how long a file system does not answer until that is said.
const sayAfter = 10 * time.Second

// sayLate says which file systems do not answer, and which do again. next is when there may
// be more to say.
func (e *Engine) sayLate(now time.Time) (next time.Time, ok bool) {
	if !e.answers.Any() {
		return next, false
	}
	since := e.answers.Since()
	for point, at := range since {
		switch due := at.Add(sayAfter); {
		case e.silent[point]:
		case !due.After(now):
			e.silent[point] = true
			e.sayFolder(watchfs.Event{Kind: watchfs.Trouble, Path: point, Dir: true, Err: watchfs.ErrSilent})
		case !ok || due.Before(next):
			next, ok = due, true
		}
	}
	for point := range e.silent {
		if at, waits := since[point]; !waits || at.Add(sayAfter).After(now) {
			delete(e.silent, point)
			e.sayFolder(watchfs.Event{Kind: watchfs.Recovered, Path: point, Dir: true, Err: watchfs.ErrSilent})
		}
	}
	if len(e.silent) > 0 && !ok {
		next, ok = now.Add(time.Second), true // until it answers
	}
	return next, ok
}

func (e *Engine) sayFolder(ev watchfs.Event) {
	e.tell.Folder(ev, time.Now())
	if e.o.Folders != nil {
		e.o.Folders(ev)
	}
}

// workerPatience is how long somebody waits for a file system who holds a worker meanwhile.
const workerPatience = 250 * time.Millisecond

// stepPatience is how long a step waits for a file system: in a sweep, which ends with what it has not done, as long as
// somebody who can wait.
func (e *Engine) stepPatience() time.Duration {
	if e.o.Once {
		return look.ReachPatience
	}
	return workerPatience
}

// askAgain goes on with what waits for a file system, a moment after that answers. A watched folder that is not there
// is told of when it comes.
func (e *Engine) askAgain(waits error) {
	var at look.NotReached
	if !errors.As(waits, &at) || !e.unsure(at.Path) {
		return
	}
	e.answers.Later(at.Path, func(func()) {
		_, _ = os.Lstat(at.Path)
		time.AfterFunc(time.Second, func() { _ = e.do(func() { e.goOn(e.beside) }) })
	})
}

// cutByHand is an undo or retry that a crash has cut short, and that waits for its folder.
type cutByHand struct {
	byhand.CutShort
	lent bool // its files are kept from the rules
}

// goOn takes up, beside the loop, what had begun before the start in a folder that was not there, or did not answer,
// as far as that is back: jobs, undos, and retries. The rules have left their files alone.
func (e *Engine) goOn(beside func(do func() (bring func()))) {
	set, jobs, asked := e.flow.Set, e.later, e.cutShort
	e.later, e.cutShort = nil, nil
	for _, j := range jobs {
		if e.flow.IsAbsent(j.Watch) {
			e.later = append(e.later, j)
			continue
		}
		beside(func() func() { return e.resume(j, set) })
	}
	for _, c := range asked {
		if c.lent = c.lent || e.flow.Lend(c.Row.ID, c.Paths, c.Places...); !c.lent || e.flow.IsAbsent(c.Row.Watch) {
			e.cutShort = append(e.cutShort, c)
			continue
		}
		beside(func() func() { return e.finish(c, set) })
	}
}

func (e *Engine) resume(j job.Job, set *plan.Set) (bring func()) {
	tries, m, err := e.recoverJob(j, set)
	return func() {
		if err != nil {
			e.later = append(e.later, j) // the ledger says what is wrong with it
			e.askAgain(err)
			return
		}
		e.flow.Resume(j, tries, m, true, time.Now())
		e.flow.Return(j.ID, j.Facts.Dir, time.Now())
	}
}

func (e *Engine) finish(c cutByHand, set *plan.Set) (bring func()) {
	if err := c.Reached(e.ledger, set, e.answers.ReachJob); err != nil {
		return func() {
			e.cutShort = append(e.cutShort, c)
			e.askAgain(err)
		}
	}
	row, opened, err := c.Finish(e.ledger, &e.desk.Placer, set)
	return func() {
		if opened {
			e.flow.Reopen(row, time.Now())
		}
		if e.flow.Return(c.Row.ID, c.Row.Facts.Dir, time.Now()); err != nil {
			e.flow.Blame(c.Row.Rule, c.Says(err))
		}
	}
}
