package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/placing"

	"github.com/stretchr/testify/require"
)

// drop makes files in a folder.
func drop(t *testing.T, folder, name string, n int) {
	t.Helper()
	for i := range n {
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprint(name, i)), nil, 0o666))
	}
}

// Many more files at once than jobs may be under way: each is moved once, and
// none takes the long way through a queue in the ledger alone.
func TestABurstWaitsInItsFolder(t *testing.T) {
	const files = 4 * placing.MaxWaiting
	patience := placing.Patience
	placing.Patience = time.Minute // no batch is taken for a stuck one
	t.Cleanup(func() { placing.Patience = patience })
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o777))
	var o outcomes
	var e *Engine
	var ready, dropped atomic.Bool
	renamed, most := 0, 0 // and how many waited at once; of the placing goroutine
	e, stop := runGuarded(t, dir, "rules: [{name: move, watch: in, debounce: 0s, processed: out}]\n", o.add,
		func(operation string, _ ...string) error {
			if operation == "rename" && ready.Load() {
				most = max(most, e.desk.Waiting())
				if renamed++; renamed%16 == 0 || !dropped.Load() {
					time.Sleep(time.Millisecond) // slower than they come, on a busy machine, too
				}
			}
			return nil
		})
	ready.Store(true)
	drop(t, in, "f", files)
	dropped.Store(true)
	more := false
	require.Eventually(t, func() bool {
		p, err := e.Progress()
		require.NoError(t, err)
		more = more || p.More
		return o.count(job.Processed) == files
	}, time.Minute, 10*time.Millisecond)
	stop()
	require.True(t, more, "who asks how far it is hears that there are more")
	require.GreaterOrEqual(t, renamed, files)
	// more than MaxWaiting: some were on their way already
	require.Less(t, most, files*3/4, "the others waited in their folder")
	require.Empty(t, e.flow.Behind())
	moved, err := os.ReadDir(filepath.Join(dir, "out"))
	require.NoError(t, err)
	require.Len(t, moved, files)
}

// A move that does not come to its end holds up the moves behind it, but no
// other rule's commands.
func TestAStuckMoveHoldsNoCommandUp(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	in, other := filepath.Join(dir, "in"), filepath.Join(dir, "other")
	require.NoError(t, os.Mkdir(in, 0o777))
	require.NoError(t, os.Mkdir(other, 0o777))
	letGo := make(chan struct{})
	var o outcomes
	_, stop := runGuarded(t, dir, `
rules:
  - {name: move, watch: in, debounce: 0s, processed: out}
  - {name: command, watch: other, debounce: 0s, script: "exit 0"}
`, o.add, func(operation string, _ ...string) error {
		if operation == "rename" {
			<-letGo
		}
		return nil
	})
	const files = placing.MaxWaiting + 2*placing.MaxPlaced
	drop(t, in, "f", files)
	drop(t, other, "g", 1)
	require.Eventually(t, func() bool { return o.count(job.Processed) == 1 }, 30*time.Second,
		10*time.Millisecond)
	close(letGo)
	require.Eventually(t, func() bool { return o.count(job.Processed) == files+1 }, time.Minute,
		10*time.Millisecond)
	stop()
}
