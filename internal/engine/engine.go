// Package engine connects the other packages: it brings the events of watchfs
// to the core, carries out what the core decides, and records it in the ledger.
//
// It is the only owner of long-lived goroutines. One runs the flow, which makes
// every decision and shares nothing; one places files in batches; and each
// attempt in progress has one. All of them end with Run.
package engine

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notice"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/fleet"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/naming"
	"stilltide/internal/notify"
	"stilltide/internal/placing"
	"stilltide/internal/runner"
	"stilltide/internal/sift"
	"stilltide/internal/telling"
	_ "stilltide/internal/verbs" // what steps do
	"stilltide/internal/watcher"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// SafetySweep is how often all watched folders are looked through, in case an
// event was lost in a way that nobody noticed.
const SafetySweep = time.Hour

// Options are what an engine needs to run.
type Options struct {
	Rules *rule.File // free of errors
	// Version is the program's own, for those who ask.
	Version string
	// Once handles what is there now and ends.
	Once bool
	// Chosen is what a single pass works on.
	Chosen turn.Chosen
	// Next works on the next file that arrives, and on nothing else.
	Next bool
	// Arrived is called for that file, and for others that arrive before and that no rule takes.
	Arrived func(turn.Arrival)
	// Report is called with the outcomes of a round, from one goroutine. The list
	// is its only until it returns.
	Report func([]turn.Outcome)
	// Folders is called when the state of a watched folder changes.
	Folders func(watchfs.Event)
	// Overdue is called for each file that did not become ready in time.
	Overdue func(turn.OverdueFile)
	// CaughtUp is called when a rule has nothing to do any more.
	CaughtUp func(turn.Batch)
	// Notice is called for what is told to the channel log.
	Notice func(notice.Event)
	// Said is called with sentences about the channels themselves.
	Said func(sentence string)
	// Ready is called once, when all folders were looked through for the first time.
	Ready func(watcher.Start)
	// Trouble is called when the ledger cannot be written, and with nil when it can again.
	Trouble     func(error)
	SafetySweep time.Duration // replaces the constant, 0 for it
	// Lacking says of rules whose program is not there why they cannot work.
	Lacking map[string]string
	// Starts tells that this program serves starts of commands (runner.ServeStarts).
	Starts bool
	// MaxWatches bounds the system's watches that are used, 0 for the system's own bound.
	MaxWatches int
}

// Engine runs the rules of one file. Use Open, then Run, then Close.
type Engine struct {
	o      Options
	ledger store
	runner *runner.Runner
	inHand work.InHand

	state   string
	flow    *flow.Flow
	events  *watchfs.Watcher
	folders map[string]*folderState
	started time.Time

	results  chan turn.AttemptEnd
	asks     chan func()
	listens  bool // the loop carries out what it is asked: not before Run has taken up what was left
	wake     chan struct{}
	desk     *placing.Desk
	sift     *sift.Sifter
	fleet    *fleet.Fleet // nil without rules whose commands run on other machines
	pools    pools
	work     sync.WaitGroup
	crew     *crew
	active   int                               // attempts, placements, and what is done beside the loop
	cancels  map[int64]context.CancelCauseFunc // of the running attempts, by job
	answers  *look.Answers
	silent   map[string]bool // file systems of which was said that they do not answer
	cutShort []cutByHand
	later    []job.Job   // running when the watcher ended, and on a file system that has not answered since
	hub      *notify.Hub // of the channels
	tell     *telling.Teller
	went     []string       // folders that went, below which known files are to be looked for
	seeking  bool           // that is being done
	passes   int            // of a sweep, after the first
	sweeps   map[*pass]bool // by hand, and followed
	before   int            // jobs of an earlier run that are not over
	ended    chan struct{}  // closed when Run ends

	keepHistory atomic.Int64 // nanoseconds
	stopAfter   atomic.Int64 // nanoseconds

	health struct {
		sync.Mutex
		err  error
		lost map[string]bool // folders of which was said that they cannot hold attributes
	}
}

// Open takes the ledger. An error that wraps ledger.ErrBusy says that another
// program holds it.
func Open(o Options) (*Engine, error) {
	state := o.Rules.StateFolder()
	e := &Engine{
		o: o, state: state, results: make(chan turn.AttemptEnd),
		asks: make(chan func()),
		wake: make(chan struct{}, 1), folders: map[string]*folderState{}, ended: make(chan struct{}),
		started: time.Now(), cancels: map[int64]context.CancelCauseFunc{}, silent: map[string]bool{},
	}
	e.useTimes(o.Rules)
	if o.SafetySweep == 0 {
		e.o.SafetySweep = SafetySweep
	}
	l, err := byhand.Begin(o.Rules, e.ledgerTrouble)
	if err != nil {
		return nil, err
	}
	e.ledger = l
	for _, sub := range []string{"output", "scratch", "scripts", "kept"} {
		if err := os.MkdirAll(filepath.Join(state, sub), 0o700); err != nil {
			e.ledger.Close()
			return nil, fmt.Errorf("the state folder cannot be used: %w", err)
		}
	}
	if e.hub, err = notify.Open(e.hubOptions()); err != nil {
		e.ledger.Close()
		return nil, err
	}
	e.runner, e.crew, e.answers = runner.New(), newCrew(), look.NewAnswers()
	e.sift = sift.New(l, o.Once)
	e.desk = placing.New(l, state, e.answers, &e.inHand)
	e.desk.Lost = e.endCannotHold
	e.desk.Kept.Bound(o.Rules.KeepReplaced())
	e.flow = flow.New(look.NewSet(o.Rules), e.ledger, &eyes{look: e.lookAt, unsure: e.unsure}, &e.inHand, rand.Float64)
	e.tell = telling.New(e.hub, e.flow.Rules, state)
	e.knowFolders(e.flow.Rules())
	if e.fleet, err = e.newFleet(); err != nil {
		return nil, errors.Join(err, e.ledger.Close())
	}
	e.flow.WorkOn(o.Chosen, false)
	e.health.lost = map[string]bool{}
	return e, nil
}

// Close releases the ledger. Run must have ended.
func (e *Engine) Close() error {
	e.runner.Close()
	return e.ledger.Close()
}

// ledgerTrouble is called by the ledger's writer.
func (e *Engine) ledgerTrouble(err error) {
	e.health.Lock()
	e.health.err = err
	e.health.Unlock()
	if e.o.Trouble != nil {
		e.o.Trouble(err)
	}
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

// Run handles files until the context ends (or, with Once, until there is
// nothing left to do). Running commands then get the rules' stop_after to end by
// themselves; what is queued stays in the ledger.
func (e *Engine) Run(ctx context.Context) error { return ledger.Explain(e.state, e.run(ctx)) }

func (e *Engine) run(ctx context.Context) error {
	defer close(e.ended)
	if err := e.begin(); err != nil {
		return err
	}
	endFleet, err := e.startFleet()
	if err != nil {
		return err
	}
	defer endFleet()
	w, err := watchfs.New(watchfs.Options{Once: e.o.Once, Look: e.o.Rules.PollEvery(), MaxWatches: e.o.MaxWatches,
		Missing: e.desk.Mounts.Missing, Sift: e.sift.Begin, Apart: true})
	if err != nil {
		return err
	}
	e.events, e.listens = w, true
	runs, stopRuns := context.WithCancel(context.Background())
	e.desk.Runs, e.desk.Placer.Stop, e.desk.Placer.Numbers = runs, runs.Done(), &naming.Numbers{}
	quit := make(chan struct{})
	var placer sync.WaitGroup
	placer.Go(func() { e.desk.Run(runs, quit) })
	w.TellWriting(e.flow.Rules().WritingFolders())
	w.Want(e.wanted())
	e.hub.Start(e.o.Rules.Channels)
	e.work.Go(func() { e.pruneHistory(runs) })
	err = e.loop(ctx, runs, stopRuns)
	stopRuns()
	close(quit)
	w.Close()
	if errors.Is(err, errLeft) { // what does not come back ends with the program
		err = nil
	} else {
		e.crew.end()
		e.work.Wait()
		placer.Wait()
	}
	e.hub.Close()
	return err
}

// begin takes up what an earlier run has left, and what this one works on.
func (e *Engine) begin() error {
	runner.EndSurvivors(e.state)
	points, err := e.ledger.Mounts()
	if err != nil {
		return err
	}
	e.desk.Mounts.Begin(e.ledger, e.flow.Rules(), points)
	if err := e.recover(time.Now()); err != nil {
		return err
	}
	for name, why := range e.o.Lacking {
		e.flow.BlockForProgram(name, why)
	}
	e.flow.WorkOn(e.o.Chosen, e.o.Once)
	if e.o.Next {
		e.flow.WaitForNext()
	}
	if e.o.Chosen.Again {
		e.flow.HandleAgain(e.o.Chosen)
	}
	return e.findLeaving()
}

// errLeft says that something under way was left behind, because it does not come back.
var errLeft = errors.New("a call to the system does not come back")

// leftAfter is how long the watcher's end waits for what is under way after all of it was
// told to end.
const leftAfter = 5 * time.Second

// prunedBySweep bounds what a sweep removes of the history, so that it does not take much longer by it.
const prunedBySweep = 2000

// pruneHistory removes the details of old jobs at the start and once a day.
func (e *Engine) pruneHistory(runs context.Context) {
	most := 0
	if e.o.Once {
		most = prunedBySweep
	}
	for {
		before := time.Now().Add(-time.Duration(e.keepHistory.Load()))
		if _, err := e.ledger.Prune(before, most); err != nil && e.o.Trouble != nil {
			e.o.Trouble(err)
		}
		if e.o.Once {
			return
		}
		select {
		case <-runs.Done():
			return
		case <-time.After(24 * time.Hour):
		}
	}
}

// Alive reports whether the engine's own loop goes round: it is asked something
// and must answer in time.
func (e *Engine) Alive(within time.Duration) bool {
	answered := make(chan struct{})
	late := time.NewTimer(within)
	defer late.Stop()
	select {
	case e.asks <- func() { close(answered) }:
	case <-late.C:
		return false
	case <-e.ended:
		return false
	}
	select {
	case <-answered:
		return true
	case <-late.C:
		return false
	}
}
