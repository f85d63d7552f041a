package engine

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime/pprof"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
	"stilltide/internal/work"
)

// run runs an engine on rules in a folder until stop is called. At the end no
// goroutine of it is left.
func run(t *testing.T, dir, rules string, report func(turn.Outcome)) (e *Engine, stop func()) {
	t.Helper()
	return runGuarded(t, dir, rules, report, nil)
}

// runGuarded is run with something that is asked before each operation on a file.
func runGuarded(t *testing.T, dir, rules string, report func(turn.Outcome),
	before func(operation string, paths ...string) error) (e *Engine, stop func()) {
	t.Helper()
	f, diags := notation.Parse(filepath.Join(dir, "stilltide.yaml"), []byte("version: 1\n"+rules))
	require.Empty(t, diags)
	each := func(list []turn.Outcome) {
		for _, o := range list {
			report(o)
		}
	}
	var done sync.WaitGroup
	ctx, cancel := context.WithCancel(context.Background())
	// A goroutine inherits the labels of the one that begins it, so that those
	// of this engine are told from those of the tests beside it.
	pprof.Do(ctx, pprof.Labels("engine", dir), func(ctx context.Context) {
		var err error
		f.Stop = rule.Duration{Duration: 100 * time.Millisecond, Pos: rule.Pos{Line: 1}}
		e, err = Open(Options{Rules: f, Report: each})
		require.NoError(t, err)
		e.desk.Placer.Before = before
		done.Go(func() {
			if err := e.Run(ctx); err != nil {
				t.Error(err)
			}
		})
	})
	return e, func() {
		require.NotEmpty(t, goroutines(t, dir), "the labels are read wrong")
		cancel()
		done.Wait()
		require.NoError(t, e.Close())
		for end := time.Now().Add(5 * time.Second); len(goroutines(t, dir)) > 0; time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("goroutines are left:\n%s", strings.Join(goroutines(t, dir), "\n\n"))
			}
		}
	}
}

// goroutines returns the stacks of those that run for the engine in dir.
func goroutines(t *testing.T, dir string) (stacks []string) {
	t.Helper()
	var all strings.Builder
	require.NoError(t, pprof.Lookup("goroutine").WriteTo(&all, 1))
	for one := range strings.SplitSeq(all.String(), "\n\n") {
		if strings.Contains(one, fmt.Sprintf("{%q:%q}", "engine", dir)) {
			stacks = append(stacks, one)
		}
	}
	return stacks
}

// outcomes collects what an engine reports.
type outcomes struct {
	mu   sync.Mutex
	list []turn.Outcome
}

func (o *outcomes) add(one turn.Outcome) {
	o.mu.Lock()
	o.list = append(o.list, one)
	o.mu.Unlock()
}

func (o *outcomes) count(state job.State) (n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, one := range o.list {
		if one.Job.State == state {
			n++
		}
	}
	return n
}

// A hanging job whose children ignore SIGTERM is gone after timeout and grace,
// and others run meanwhile.
func TestAHangingJobHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	var o outcomes
	_, stop := run(t, dir, `
workers: 2
defaults: {debounce: 0s, retry: 0}
rules:
  - {name: hang, watch: in, match: "hang*", timeout: 300ms, script: 'trap "" TERM; (trap "" TERM; sleep 61) & sleep 61'}
  - {name: quick, watch: in, match: "quick*", script: 'exit 0'}
`, o.add)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "hang"), []byte("x"), 0o666))
	for i := range 20 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in", fmt.Sprint("quick", i)), []byte("x"), 0o666))
	}
	require.Eventually(t, func() bool { return o.count(job.Processed) == 20 }, 20*time.Second, time.Millisecond)
	require.Zero(t, o.count(job.Failed), "the hanging one is still being ended")
	require.Eventually(t, func() bool { return o.count(job.Failed) == 1 }, 20*time.Second, 10*time.Millisecond)
	o.mu.Lock()
	reason := o.list[len(o.list)-1].Job.Reason
	o.mu.Unlock()
	require.Contains(t, reason, "timed out after 300 ms")
	stop()
}

// A queue that is longer than the memory's part of it: every job runs once,
// in the order of arrival, also over a restart.
func TestALongQueueWaitsInTheLedger(t *testing.T) {
	crowded(t)
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o777))
	files := 3*underway.MaxQueued + 17
	for i := range files {
		require.NoError(t, os.WriteFile(filepath.Join(in, fmt.Sprintf("f%05d", i)), nil, 0o666))
	}
	var o outcomes
	rules := `
rules:
  - {name: all, watch: in, debounce: 0s, processed: done}
`
	e, stop := run(t, dir, rules, o.add)
	require.NoError(t, e.Pause([]string{"all"}, true, time.Time{}))
	require.Eventually(t, func() bool {
		tally, err := e.ledger.Tally()
		return err == nil && tally["all"][job.Queued]+tally["all"][job.Processed] == files
	}, 30*time.Second, 5*time.Millisecond)
	stop()
	e, stop = run(t, dir, rules, o.add)
	var inMemory int
	require.NoError(t, e.do(func() { inMemory = e.flow.Open() }))
	require.LessOrEqual(t, inMemory, underway.MaxQueued)
	require.NoError(t, e.Pause(nil, false, time.Time{}))
	require.Eventually(t, func() bool { return o.count(job.Processed) == files }, 60*time.Second,
		5*time.Millisecond)
	stop()
	done, err := os.ReadDir(filepath.Join(dir, "done"))
	require.NoError(t, err)
	require.Len(t, done, files)
}

// What is left out of an output is counted byte by byte, over several cuts, and whole lines stay.
func TestOutputIsBounded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "out")
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	require.NoError(t, err)
	defer f.Close()
	line := []byte("a line of thirty-two characters\n")
	var bound work.Bound
	const cuts, lines = 3, 400_000
	for range cuts {
		_, err := f.Write(bytes.Repeat(line, lines))
		require.NoError(t, err)
		bound.Look(path)
	}
	_, err = f.Write([]byte("the end\n"))
	require.NoError(t, err)
	require.Equal(t, []string{"a line of thirty-two characters", "the end"}, work.LastLines(path, 2))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Less(t, len(text), 1<<20+200)
	head, rest, _ := strings.Cut(string(text), "\n")
	rest = strings.TrimSuffix(rest, "the end\n")
	require.Empty(t, strings.ReplaceAll(rest, string(line), ""), "only whole lines")
	require.Equal(t, fmt.Sprintf("--- %d bytes before this were not kept", cuts*lines*len(line)-len(rest)), head)
}

// crowded makes the memory's part of the queue small.
func crowded(t *testing.T) {
	queued, together := underway.MaxQueued, underway.MaxTogether
	underway.MaxQueued, underway.MaxTogether = 250, 0
	t.Cleanup(func() { underway.MaxQueued, underway.MaxTogether = queued, together })
}

// More events for files whose jobs wait in the ledger alone make no second job.
func TestEventsForJobsInTheLedgerAlone(t *testing.T) {
	crowded(t)
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o777))
	var o outcomes
	e, stop := run(t, dir, `
workers: 2
rules:
  - {name: all, watch: in, debounce: 0s, script: 'exit 0', processed: done}
`, o.add)
	files := 2*underway.MaxQueued + 100
	write := func(i int) {
		require.NoError(t, os.WriteFile(filepath.Join(in, fmt.Sprintf("f%05d", i)), nil, 0o666))
	}
	for i := range files {
		write(i)
	}
	require.NoError(t, e.do(func() { // when it has begun
		e.events.Sweep()
		e.events.Sweep()
	}))
	most := 0
	require.Eventually(t, func() bool {
		_ = e.do(func() { most = max(most, e.flow.Open()) })
		return o.count(job.Processed) >= files
	}, 100*time.Second, 5*time.Millisecond)
	stop()
	require.LessOrEqual(t, most, underway.MaxQueued+underway.MaxQueued/2, "the memory holds a part of the queue")
	o.mu.Lock()
	defer o.mu.Unlock()
	seen := map[string]int{}
	for _, one := range o.list {
		seen[one.Job.File]++
	}
	for path, n := range seen {
		require.Equal(t, 1, n, path)
	}
	require.Len(t, seen, files)
}
