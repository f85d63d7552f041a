package main

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A file that status has shown is shown until its job is over: it is not lost from sight on
// its way from the files that settle to the jobs.
func TestStatusLosesSightOfNoFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml",
		"version: 1\nrules:\n  - {name: slips, watch: in, debounce: 30ms, processed: done}\n")
	put(t, dir, "in/.keep", "")
	startWatcher(t, dir)
	require.Eventually(t, func() bool { return strings.Contains(run(t, dir, "pause"), "paused") }, patience,
		10*time.Millisecond)
	for i := range 40 {
		put(t, dir, filepath.Join("in", fmt.Sprint(i)), "fog\n")
		end := time.Now().Add(patience)
		for most, held := 0, -1; held != i+1; {
			require.True(t, time.Now().Before(end), "file %d is never held", i)
			var settling int
			settling, held = shownFiles(t, dir)
			require.GreaterOrEqual(t, settling+held, max(most, i), "settling %d, held %d", settling, held)
			most = max(most, min(settling+held, i+1))
		}
	}
}

// shownFiles is how many files status shows as settling, and as held.
func shownFiles(t *testing.T, dir string) (settling, held int) {
	lines := strings.Split(strings.TrimSpace(run(t, dir, "status", "--json")), "\n")
	require.Len(t, lines, 2)
	var rule struct{ Settling, Held int }
	require.NoError(t, json.Unmarshal([]byte(lines[1]), &rule))
	return rule.Settling, rule.Held
}
