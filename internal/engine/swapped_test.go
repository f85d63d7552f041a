//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
)

// A step that renames a file where it is follows no link that is swapped in for its folder after
// that was opened: the file gets its name in the folder that it was found in.
func TestARenameFollowsNoSwappedFolder(t *testing.T) {
	dir := t.TempDir()
	sub, aside, victim := filepath.Join(dir, "in", "sub"), filepath.Join(dir, "aside"), filepath.Join(dir, "victim")
	for _, folder := range []string{sub, victim} {
		require.NoError(t, os.MkdirAll(folder, 0o777))
	}
	require.NoError(t, os.WriteFile(filepath.Join(sub, "f.b"), []byte("mine"), 0o666))
	var o outcomes
	var swapped atomic.Bool
	_, stop := runGuarded(t, dir, "rules: [{name: named, watch: in, depth: all, debounce: 0s, retry: 0, "+
		"do: [{rename: \"{stem}.c\"}]}]\n", o.add, func(operation string, paths ...string) error {
		if operation == "rename" && paths[0] == filepath.Join(sub, "f.b") && swapped.CompareAndSwap(false, true) {
			require.NoError(t, os.Rename(sub, aside))
			require.NoError(t, os.Symlink(victim, sub))
		}
		return nil
	})
	require.Eventually(t, func() bool {
		return o.count(job.Failed)+o.count(job.Processed)+o.count(job.Vanished) > 0
	}, 30*time.Second, 10*time.Millisecond)
	stop()
	require.True(t, swapped.Load(), "the folder was swapped")
	there, err := os.ReadDir(victim)
	require.NoError(t, err)
	require.Empty(t, there)
	mine, err := os.ReadFile(filepath.Join(aside, "f.c"))
	require.NoError(t, err)
	require.Equal(t, "mine", string(mine))
}
