package work

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What was replaced is bounded: the oldest goes, and what is still needed stays.
func TestKeptIsBounded(t *testing.T) {
	state := t.TempDir()
	k := NewKept(state)
	require.NoError(t, os.Mkdir(k.folder, 0o700))
	var paths []string
	keep := func(size int) string {
		path := KeptPath(state, int64(len(paths)+1))
		require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("x", size)), 0o600))
		paths = append(paths, path)
		time.Sleep(2 * time.Millisecond) // the next one has another change time
		return path
	}
	has := func(wanted ...string) {
		t.Helper()
		entries, err := os.ReadDir(k.folder)
		require.NoError(t, err)
		var found []string
		for _, e := range entries {
			found = append(found, filepath.Join(k.folder, e.Name()))
		}
		require.ElementsMatch(t, wanted, found)
	}
	needed := keep(30)
	k.Need(needed)
	old := keep(40)
	k.Over(old)
	has(needed, old) // there is no bound yet
	k.Bound(100)
	young := keep(30)
	k.Over(young)
	has(needed, old, young)
	last := keep(20)
	k.Over(last)
	has(needed, young, last) // the oldest that nothing needs has gone
	k.Over(needed)
	newest := keep(30)
	k.Over(newest)
	has(young, last, newest)
	require.NoError(t, os.Remove(newest)) // it was put back
	k.Over(keep(25))
	has(young, last, paths[len(paths)-1])
	k.Over(KeptPath(state, 99)) // nothing was replaced
	has(young, last, paths[len(paths)-1])
}
