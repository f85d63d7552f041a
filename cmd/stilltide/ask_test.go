package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// On a terminal, jobs that were chosen by what they have in common are shown before anything is
// done with them; whoever says nothing, says no.
func TestUndoAndRetryAskFirst(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml", "version: 1\nrules:\n  - {name: slips, watch: in, debounce: 0s, processed: done}\n")
	put(t, dir, "in/a.txt", "fog\n")
	put(t, dir, "in/b.txt", "gale\n")
	run(t, dir, "sweep")
	there := func(path string) bool { _, err := os.Stat(filepath.Join(dir, path)); return err == nil }
	term := newTerminal(t, dir, "100", "30")
	term.keys("0", "stilltide undo --rule slips", "Enter")
	screen := term.sees("0", "Undo 2 jobs? [y/N]")
	require.Contains(t, screen, "1 placement")
	require.Contains(t, screen, "a.txt")
	term.keys("0", "Enter")
	term.sees("0", "Nothing was done.")
	require.True(t, there("done/a.txt"))
	term.keys("0", "clear; stilltide undo --last 1", "Enter")
	term.sees("0", "Undo 1 job? [y/N]")
	term.keys("0", "y", "Enter")
	term.sees("0", "taken back")
	require.True(t, there("in/b.txt"))
	term.keys("0", "clear; stilltide retry 1", "Enter") // it succeeded
	term.sees("0", "Run again 1 job? [y/N]")
	term.keys("0", "yes", "Enter")
	term.sees("0", "queued")
	term.keys("0", "clear; stilltide undo 2 --yes; stilltide undo --since 1h --yes; echo end", "Enter")
	term.sees("0", "end")
}
