package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// From nothing to a rule that works, by keys alone, in a small terminal; and cancelling writes
// nothing.
func TestTheFormMakesARule(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "arrivals/gauge-NOR_2031-04-01.csv", "b\na\n")
	put(t, dir, "arrivals/gauge-NOR_2031-04-02.csv", "d\nc\n")
	put(t, dir, "arrivals/slip.txt", "fog\n")
	term := newTerminal(t, dir, "80", "24")
	term.keys("0", "stilltide rules add", "Enter")
	term.sees("0", "Which folder is to be watched?")
	term.keys("0", "arr", "Escape")
	term.sees("0", "Nothing was written.")
	require.NoFileExists(t, filepath.Join(dir, "stilltide.yaml"))

	term.keys("0", "clear; stilltide rules add", "Enter")
	term.sees("0", "Which folder is to be watched?")
	term.keys("0", "arr", "Right") // takes the proposal
	term.sees("0", "It would take 3 files")
	term.keys("0", "Enter", "Right")
	term.sees("0", "It would take 2 files, and leave 1 to others")
	term.keys("0", "Enter", "Enter", "sort {fil")
	term.sees("0", "}") // it is said what is wrong
	term.keys("0", "e}", "Enter", "Right")
	screen := term.sees("0", "run sort arrivals/gauge-NOR_2031-04-01.csv")
	require.Contains(t, screen, "→ done/gauge-NOR_2031-04-01.csv")
	term.keys("0", "Enter", "Enter")
	term.keys("0", "C-u", "levels")
	term.sees("0", "levels")
	term.keys("0", "C-s")
	term.sees("0", "Wrote it into stilltide.yaml, line 3.")
	text, err := os.ReadFile(filepath.Join(dir, "stilltide.yaml"))
	require.NoError(t, err)
	require.Equal(t, "version: 1\nrules:\n  - name: levels\n    watch: arrivals\n    match: \"gauge-NOR_*.csv\"\n"+
		"    run: \"sort {file}\"\n    processed: done\n", string(text))
	term.keys("0", "clear; stilltide sweep", "Enter")
	term.sees("0", "2 jobs: 2 processed.")
}
