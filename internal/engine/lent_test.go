//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"stilltide/internal/byhand"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
	"stilltide/internal/machine"
	"stilltide/internal/watchfs"

	"github.com/stretchr/testify/require"
)

// A file that is kept from the rules for one job is not lent for another, nor for the same one again: what ends first
// would give it back to the rules under the hands of the other.
func TestAFileIsLentOnce(t *testing.T) {
	w := newWorld(t, machine.Memory(t), 1)
	w.start()
	defer w.lose()
	path, place := filepath.Join(w.dir, "in", "f1.work"), filepath.Join(w.dir, "in", "f1.renamed")
	w.write(path, "token-1 ")
	w.write(place, "token-2 ")
	f := w.e.flow
	require.True(t, f.Lend(7, []string{path}, place))
	require.False(t, f.Lend(8, []string{path}))
	require.False(t, f.Lend(7, []string{path}))
	require.True(t, f.Lend(8, nil, place), "it is the other's")
	elsewhere := filepath.Join(w.dir, "done", "f1.work")
	require.True(t, f.Lend(9, nil, elsewhere), "no rule looks there")
	require.True(t, f.Lend(10, []string{elsewhere}))
	f.Return(8, false, w.now)
	for range 5 {
		w.pump()
	}
	require.Empty(t, w.running)
	f.Return(7, false, w.now)
	for len(w.running) < 1 {
		w.pump()
	}
}

// A job that waits in the ledger alone, and whose rule takes its file no more, does not begin because somebody asks for
// the file.
func TestAJobThatFitsNoMoreIsNotTakenFromTheLedger(t *testing.T) {
	w := newWorld(t, machine.Memory(t), 1)
	w.start() // with no machine in the pool, so that it waits
	defer w.lose()
	path := filepath.Join(w.dir, "in", "f1.hold")
	w.write(path, "token-1 ")
	for w.e.flow.ByPath[path] == nil {
		w.pump()
	}
	require.NoError(t, w.store.Flush())
	w.lose()
	w.start()
	w.reload()
	w.e.flow.Window.Find(&w.e.flow.Jobs, path)
	require.Nil(t, w.e.flow.ByPath[path])
	w.usePool(turn.Pool{Places: 2})
	for range 10 {
		w.pump()
	}
	require.Empty(t, w.running)
}

// inSteps is a world in which an attempt is just to begin its steps.
func inSteps(t *testing.T, seed uint64) (w *world, path, renamed string) {
	w = newWorld(t, machine.Memory(t), seed)
	w.calm = true // crashes come where a test wants them
	w.start()
	path, renamed = filepath.Join(w.dir, "in", "f1.steps"), filepath.Join(w.dir, "in", "f1.renamed")
	w.write(path, "token-1 ")
	for len(w.running) == 0 {
		w.pump()
	}
	return w, path, renamed
}

// What a failed attempt left under another name, and could not take back, is its job's until that is over: also after
// a crash.
func TestWhatCouldNotBeTakenBackIsItsJobsAfterACrash(t *testing.T) {
	w, _, renamed := inSteps(t, 1)
	defer w.lose()
	w.e.desk.Placer.Before = func(operation string, paths ...string) error {
		if _, err := os.Lstat(renamed); err == nil {
			return &os.PathError{Op: operation, Path: paths[0], Err: syscall.EROFS}
		}
		return nil
	}
	w.endAttempt()
	w.pump()
	require.Equal(t, 1, w.e.desk.Waiting(), "it failed, and is to be placed")
	require.FileExists(t, renamed)
	require.NoError(t, w.store.Flush())
	w.lose()
	w.start()
	for range 5 {
		w.pump()
		require.Empty(t, w.running, "no other rule takes it")
	}
	w.quiet()
	require.FileExists(t, filepath.Join(w.dir, "failed", "f1.renamed"))
}

// What a job left under another name, and another job has taken since, is not put back under the hands of that.
func TestARetryLeavesWhatAnotherJobHas(t *testing.T) {
	w := newWorld(t, machine.Memory(t), 1)
	w.start()
	defer w.lose()
	path, renamed := filepath.Join(w.dir, "in", "f1.steps"), filepath.Join(w.dir, "in", "f1.renamed")
	w.write(renamed, "token-1 ")
	facts, err := watchfs.Stat(renamed)
	require.NoError(t, err)
	row := job.Job{ID: w.store.NextID(), Rule: "steps", File: path, Watch: filepath.Dir(path), State: job.Queued,
		Event: file.Added, Facts: facts, FileNow: renamed}
	w.store.Record(row, "")
	row.Become(job.Cancelled)
	w.store.Record(row, job.Queued)
	for len(w.running) == 0 {
		w.pump()
	}
	require.Equal(t, renamed, w.running[0].Plan.File)
	for what, do := range map[string]func(int64) byhand.Sent{"retry": w.e.Retry, "undo": w.e.Undo} {
		var sent byhand.Sent
		w.serve(func() { sent = do(row.ID) })
		require.False(t, sent.Done, what)
		require.FileExists(t, renamed, what)
	}
}

// What an undo or a retry keeps from the rules is given back, also where it cannot be finished.
func TestWhatCannotBeFinishedIsGivenBack(t *testing.T) {
	w := newWorld(t, machine.Memory(t), 1)
	w.start()
	defer w.lose()
	path := filepath.Join(w.dir, "in", "f1.work")
	w.write(path, "token-1 ")
	lost := cutByHand{CutShort: byhand.CutShort{Row: job.Job{ID: 999, Rule: "work", File: path}}, lent: true}
	require.True(t, w.e.flow.Lend(999, []string{path}))
	var bring func()
	w.serve(func() { bring = w.e.finish(lost, w.e.flow.Set) })
	bring()
	require.True(t, w.e.flow.Lend(998, []string{path}), "the ledger knows of no such job")
}

// What an undo has brought back only in part, to a name that another rule takes, is left alone until undo goes on.
func TestAnUndoThatStopsOnItsWay(t *testing.T) {
	w, path, renamed := inSteps(t, 1)
	defer w.lose()
	a := w.running[0]
	w.running = nil
	w.endSteps(a, 0)
	stepped := filepath.Join(w.dir, "stepped", "f1.renamed")
	for w.e.flow.ByID[a.Plan.ID] != nil {
		w.pump()
		w.placeBatch()
	}
	require.FileExists(t, stepped)
	w.e.desk.Placer.Before = func(operation string, paths ...string) error {
		if strings.Contains(paths[0], "again") {
			return &os.PathError{Op: operation, Path: paths[0], Err: syscall.EROFS}
		}
		return nil
	}
	undo := func() (sent byhand.Sent) {
		w.serve(func() { sent = w.e.Undo(a.Plan.ID) })
		return sent
	}
	sent := undo()
	require.False(t, sent.Done)
	require.Contains(t, sent.Reason, "run undo again to continue")
	require.FileExists(t, renamed)
	for range 10 {
		w.pump()
	}
	require.Empty(t, w.running)
	w.e.desk.Placer.Before = w.before
	sent = undo()
	require.True(t, sent.Done, sent.Reason)
	require.FileExists(t, path)
}
