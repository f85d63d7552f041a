//go:build unix

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A setting changes (again_on), and the watcher is ended by force while all is handled again: the next start handles
// what it had not come to, also if its job had not begun.
func TestKillWhileAllIsHandledAgain(t *testing.T) {
	t.Parallel()
	const files, kills = 200, 4
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml", `version: 1
defaults: {debounce: 0s}
rules:
  - {name: made, watch: in, again_on: set/*, script: 'cp set/look "out/$TIDE_NAME"'}
`)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o777))
	put(t, dir, "set/look", "look -1")
	for i := range files {
		put(t, dir, fmt.Sprintf("in/%04d", i), "x")
	}
	run(t, dir, "sweep")
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	chance := rand.New(rand.NewPCG(seed, 1))
	for round := range kills {
		look := fmt.Sprint("look ", round)
		put(t, dir, "set/look", look)
		watchKilled(t, dir, time.Duration(10+chance.IntN(60))*time.Millisecond)
		run(t, dir, "sweep")
		for i := range files {
			text, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("out/%04d", i)))
			require.NoError(t, err)
			require.Equal(t, look, string(text), "file %d", i)
		}
		require.Contains(t, run(t, dir, "sweep"), "no job is over", "and then it is over")
	}
}
