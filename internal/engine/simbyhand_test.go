//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/job"

	"github.com/stretchr/testify/require"
)

// errand is what a person has asked the running engine for: it is carried out in a goroutine of
// its own, in turn with the world's, and asks the loop for two things.
type errand struct {
	what string
	job  job.Job
	asks func() // what it waits for in the loop, nil if it is over
	over chan any
	sent byhand.Sent
}

// askByHand has a job be retried or undone, or lets the errand under way go on.
func (w *world) askByHand() {
	if w.errand != nil {
		w.goOn()
		return
	}
	jobs, err := w.store.Jobs(job.Filter{})
	if err != nil || len(jobs) == 0 {
		return // the disk is full
	}
	j := jobs[w.r.IntN(len(jobs))]
	switch {
	case !j.State.Final():
		w.begin("cancel", j, w.e.Cancel)
	case w.r.IntN(2) == 0:
		w.begin("undo", j, w.e.Undo)
	default:
		w.begin("retry", j, w.e.Retry)
	}
}

// begin begins an errand, and carries it out up to where it comes back to the loop.
func (w *world) begin(what string, j job.Job, do func(id int64) byhand.Sent) {
	x := &errand{what: what, job: j, over: make(chan any)}
	w.errand = x
	switch what {
	case "retry":
		delete(w.off, j.ID)
		w.wanted[j.ID] = true
	case "undo":
		w.begun[j.ID] = true
	}
	for _, input := range w.inputsOf(j) { // a crash may come in its middle, and the next start finishes it
		switch what {
		case "undo":
			w.undone[input] = true
		case "cancel":
			w.cancelled[input] = true
		}
	}
	w.say("%s of job %d, %s", what, j.ID, j.State)
	go func() {
		defer func() { x.over <- recover() }()
		x.sent = do(j.ID)
	}()
	w.await()
	if w.errand != nil {
		w.goOn()
	}
}

// goOn has the loop do what an errand waits for.
func (w *world) goOn() {
	before, x := w.inbox(), w.errand
	ask := x.asks
	x.asks = nil
	ask()
	defer w.tellBack(before, x)
	w.await()
}

// await waits until an errand needs the loop, or is over.
func (w *world) await() {
	select {
	case w.errand.asks = <-w.e.asks:
	case failed := <-w.errand.over:
		w.errandOver(failed)
	}
}

// beside keeps what the engine does beside its loop: it takes its time.
func (w *world) beside(do func() (bring func())) { w.apart = append(w.apart, do) }

// serve does something beside the loop, which does what it is asked meanwhile.
func (w *world) serve(f func()) {
	over := make(chan any)
	go func() {
		defer func() { over <- recover() }()
		f()
	}()
	for {
		select {
		case ask := <-w.e.asks:
			ask()
		case failed := <-over:
			if failed != nil {
				panic(failed)
			}
			return
		}
	}
}

// inbox lists the names in the watched folder.
func (w *world) inbox() map[string]bool {
	names := map[string]bool{}
	entries, _ := os.ReadDir(filepath.Join(w.dir, "in"))
	for _, e := range entries {
		names[e.Name()] = true
	}
	return names
}

// tellBack has the system tell of the files that an errand has put back.
func (w *world) tellBack(before map[string]bool, x *errand) {
	undone := x.what == "undo" && (x == w.errand || x.sent.Done)
	for name := range w.inbox() {
		if path := filepath.Join(w.dir, "in", name); !before[name] {
			w.changed[inner(path)], w.handled[path] = w.now, undone
			w.tellOf(path)
		}
	}
}

// errandOver notes what came of an errand, or what has ended it by force.
func (w *world) errandOver(failed any) {
	x := w.errand
	w.errand = nil
	w.noteErrand(x)
	w.told(x)
	w.say("%s of job %d: %s", x.what, x.job.ID, x.sent.Reason)
	if failed != nil {
		panic(failed)
	}
	if w.r.IntN(6) == 0 {
		w.say("crash, just when the person was told")
		panic(crashed{})
	}
}

// told notes what a person was told, which must stay so.
func (w *world) told(x *errand) {
	if x.what == "cancel" && strings.HasPrefix(x.sent.Reason, "cancelled") && !w.store.full {
		w.off[x.job.ID] = true
	}
}

// noteErrand notes what an errand may have done, and what it surely has.
func (w *world) noteErrand(x *errand) {
	_, open, _ := w.store.OpenJob(x.job.File) // else it was cancelled meanwhile
	for _, input := range w.inputsOf(x.job) {
		if x.what == "retry" && x.sent.Done && !w.store.full && open && x.job.Rule != "first" {
			delete(w.undone, input)
			delete(w.cancelled, input)
		}
	}
	for _, path := range x.job.Files() {
		if x.what == "retry" || !x.sent.Done {
			delete(w.handled, path)
		}
	}
	if x.what == "retry" && x.job.State == job.Processed {
		w.again[x.job.ID] = true
	}
}

// takes checks that a file which undo has put back is not worked on before it changes.
func (w *world) takes(path string) {
	if w.handled[path] {
		w.fail("%s was put back by an undo, and is taken again", path)
	}
}

// dropErrand ends an errand with the watcher: what the loop still does for it is lost.
func (w *world) dropErrand() {
	for w.errand != nil {
		w.errand.asks()
		select {
		case w.errand.asks = <-w.e.asks:
		case <-w.errand.over:
			w.noteErrand(&errand{what: w.errand.what, job: w.errand.job})
			w.errand = nil
		}
	}
}

// A job that a command has opened again is taken up once, and not at all if it was cancelled before
// the command came back.
func TestAJobIsOpenedAgainOnce(t *testing.T) {
	r := newReader(t, stays)
	r.drop("a")
	require.Equal(t, "a", r.end())
	row, err := byhand.JobByID(r.store, 1)
	require.NoError(t, err)
	reopen := func(was job.State) {
		row.Become(job.Queued)
		r.store.Record(row, was)
	}
	reopen(job.Processed)
	r.Reopen(row, r.now)
	r.pass(time.Second)
	require.Equal(t, []string{"a"}, r.begun)
	r.Reopen(row, r.now)
	r.pass(time.Second)
	require.Equal(t, []string{"a"}, r.rest())

	reopen(job.Processed)
	opened := row
	row.Become(job.Cancelled)
	r.store.Record(row, job.Queued)
	r.Reopen(opened, r.now)
	r.pass(time.Second)
	require.Empty(t, r.rest())
}
