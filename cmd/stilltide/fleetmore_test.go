//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a command prints comes while it runs. A folder that helpers mount, too, is not carried:
// its files have their path there.
func TestFleetWhileItRuns(t *testing.T) {
	t.Parallel()
	y := newYard(t, "")
	require.NoError(t, os.Mkdir(filepath.Join(y.dir, "mnt"), 0o777))
	require.NoError(t, os.Mkdir(filepath.Join(y.dir, "in"), 0o777))
	require.NoError(t, os.Symlink("../in", filepath.Join(y.dir, "mnt/in")))
	y.rules(fmt.Sprintf(`rules:
  - name: shared
    watch: in
    pool: heavy
    script: |
      echo "$1 of $TIDE_REL"; cat "$1"
      until [ -e %q ]; do sleep 0.05; done
      echo over
    processed: done
`, filepath.Join(y.dir, "go")))
	y.edit("lease: 2s", fmt.Sprintf("lease: 2s, shared: {%s: %s}", filepath.Join(y.dir, "in"),
		filepath.Join(y.dir, "mnt/in")))
	put(t, y.dir, "in/chart", "its content\n")
	y.lend("one")
	y.watch()
	y.until("what it prints must come", func() bool {
		return strings.Contains(run(t, y.dir, "jobs", "log", "1"), "its content")
	})
	require.Contains(t, run(t, y.dir, "jobs", "log", "1"), filepath.Join(y.dir, "mnt/in/chart")+" of chart\n")
	put(t, y.dir, "go", "")
	y.comes("done/chart")
	require.Contains(t, run(t, y.dir, "jobs", "log", "1"), "its content\nover\n")
}

// A command that ends its helper each time fails in the end, and says why; others are done.
func TestFleetKillers(t *testing.T) {
	t.Parallel()
	y := newYard(t, `rules:
  - {name: killer, watch: bad, pool: heavy, retry: 0, script: "kill -9 $PPID", failed: failed}
  - {name: good, watch: good, pool: heavy, run: "true", processed: done}
`)
	put(t, y.dir, "bad/one", "x")
	put(t, y.dir, "good/two", "x")
	y.watch()
	ended := make(chan struct{}, 1)
	lend := func() {
		h := y.lend("one")
		go func() { _ = h.Wait(); ended <- struct{}{} }()
	}
	lend()
	lost := 0
	y.until("the job must fail", func() bool {
		select {
		case <-ended:
			lost++
			lend()
		default:
		}
		_, err := os.Stat(filepath.Join(y.dir, "failed/one.failed.txt"))
		return err == nil
	})
	require.Contains(t, y.read("failed/one.failed.txt"), "helpers were lost while they ran it")
	require.LessOrEqual(t, lost, 4)
	y.comes("done/two")
}

// With the ledger the memory of what was under way is lost, as without other machines. The
// results of the old one's jobs are dropped, though the numbers come again.
func TestFleetWithoutItsLedger(t *testing.T) {
	t.Parallel()
	y := newYard(t, "")
	y.rules(fmt.Sprintf(placing, filepath.Join(y.dir, "runs"), "2"))
	names := y.charts(2)
	y.lend("one", "--workers", "4")
	y.watch()
	y.until("two must run", func() bool { return y.lines("runs") == 2 })
	y.killWatcher()
	require.NoError(t, os.RemoveAll(filepath.Join(y.dir, ".stilltide")))
	y.watch()
	y.allPlaced(names)
	require.GreaterOrEqual(t, y.lines("runs"), 4, "more where a helper was not heard in time")
	y.watcher.stop()
}
