package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// harbour is a folder with a watcher at work: jobs that print and last until
// the file go is there, and short ones of which some fail.
func harbour(t *testing.T, files int) (string, *watcher) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	put(t, dir, "stilltide.yaml", `version: 1
workers: 2
rules:
  - name: gauge-readings
    watch: in
    match: "gauge-*.csv"
    debounce: 0s
    order: name
    script: |
      echo "reading $1"
      while [ ! -e go ]; do sleep 0.05; done
    processed: done
  - name: slips
    watch: in
    match: "slip-*.txt"
    debounce: 0s
    order: name
    retry: 0
    run: grep -c fog
    processed: done
    failed: failed
`)
	w := startWatcher(t, dir)
	require.Eventually(t, func() bool { return strings.Contains(w.said(), "Files that are there") }, patience,
		5*time.Millisecond)
	arrive := func(name, text string) { // whole: one that is being written would come later than the next
		put(t, dir, name, text)
		require.NoError(t, os.Rename(filepath.Join(dir, name), filepath.Join(dir, "in", name)))
	}
	for i := range files {
		arrive(fmt.Sprintf("gauge-%04d.csv", i), "x")
	}
	arrive("slip-1.txt", "fog\n")
	arrive("slip-2.txt", "sun\n")
	return dir, w
}

func TestTheLiveViewDoesWhatItsKeysSay(t *testing.T) {
	t.Parallel()
	dir, w := harbour(t, 12)
	term := newTerminal(t, dir, "80", "24")
	term.keys("0", "echo before", "Enter")
	term.sees("0", "\nbefore\n>")
	term.keys("0", "stilltide status --live", "Enter")
	term.sees("0", "2 running")
	term.sees("0", "reading")
	screen := term.sees("0", "grep ended")
	for _, line := range strings.Split(screen, "\n") {
		require.LessOrEqual(t, len([]rune(line)), 80)
	}
	require.Contains(t, screen, "RUNNING")
	require.True(t, chosen(screen, "gauge-0000.csv"), "what runs is chosen first:\n%s", screen)

	term.keys("0", "Enter")
	term.sees("0", ": gauge-readings, gauge-0000.csv")
	term.sees("0", "in/gauge-0000.csv")
	term.keys("0", "q")
	term.sees("0", "WAITING FOR THEIR TURN")

	term.keys("0", "p")
	term.sees("0", "Paused: all rules.")
	term.sees("0", "(all rules are paused)")
	term.keys("0", "p")
	term.sees("0", "Going on: all rules.")

	term.keys("0", "Tab", "c")
	term.sees("0", "y cancels it")
	term.keys("0", "n")
	term.keys("0", "c")
	term.sees("0", "y cancels it")
	term.keys("0", "y")
	term.sees("0", "cancelled; its input stays where it is")

	term.keys("0", "P")
	term.sees("0", "(paused: gauge-readings)")
	term.keys("0", "P")
	term.sees("0", "Going on: gauge-readings.")

	require.FileExists(t, filepath.Join(dir, "failed/slip-2.txt"))
	put(t, dir, "failed/slip-2.txt", "fog at last\n")
	at := 0 // how often it was seen to stay there: a slow machine draws what keys did before
	for end := time.Now().Add(patience); at < 3 && time.Now().Before(end); time.Sleep(60 * time.Millisecond) {
		switch screen = term.screen("0"); {
		case chosen(screen, "slip-2.txt"):
			at++
			continue
		case chosen(screen, "slip-1.txt"): // that is the last
			term.keys("0", "k")
		default:
			term.keys("0", "j")
		}
		at = 0
	}
	require.True(t, chosen(screen, "slip-2.txt"), screen)
	term.keys("0", "r")
	term.sees("0", "queued again")
	require.Eventually(t, func() bool {
		_,
			err := os.Stat(filepath.Join(dir, "done/slip-2.txt"))
		return err == nil
	}, patience,
		10*time.Millisecond)

	term.keys("0", "q")
	term.sees("0", "--live\n>")
	term.keys("0", "echo ended with $?", "Enter")
	screen = term.sees("0", "ended with 0")
	require.Contains(t, screen, "before", "the terminal is as it was")
	require.NotContains(t, screen, "RUNNING")
	put(t, dir, "go", "")
	w.stop()
}

func chosen(screen, name string) bool {
	for _, line := range strings.Split(screen, "\n") {
		if strings.Contains(line, "▸") && strings.Contains(line, name) {
			return true
		}
	}
	return false
}

// Thousands of rows and a large window: nothing wraps, the rest is counted.
func TestTheLiveViewWithThousandsOfRows(t *testing.T) {
	t.Parallel()
	dir, w := harbour(t, 3000)
	term := newTerminal(t, dir, "200", "60")
	term.keys("0", "stilltide status --live", "Enter")
	term.sees("0", "2,99")
	screen := term.sees("0", "more")
	require.Regexp(t, `… and 2,9\d\d more`, screen)
	require.Contains(t, screen, "jobs a minute, last hour")
	for _, line := range strings.Split(screen, "\n") {
		require.LessOrEqual(t, len([]rune(line)), 200)
	}
	term.keys("0", "C-c")
	term.sees("0", "--live\n>")
	term.keys("0", "echo ended with $?", "Enter")
	term.sees("0", "ended with 0")
	put(t, dir, "go", "")
	require.NoError(t, w.cmd.Process.Kill())
}

func TestTheLiveViewWithoutAWatcher(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml", "version: 1\nrules:\n  - name: slips\n    watch: in\n    processed: done\n")
	term := newTerminal(t, dir, "80", "24")
	term.keys("0", "stilltide status --live", "Enter")
	term.sees("0", "No watcher runs (stilltide watch starts it)")
	term.keys("0", "q")
	term.sees("0", "--live\n>")
	term.keys("0", "stilltide status --live | cat", "Enter")
	term.sees("0", "needs a terminal")
}

// On a terminal a burst is summed up; its failures are shown anyway.
func TestABurstIsSummedUpOnATerminal(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml", `version: 1
workers: 1
rules:
  - name: slips
    watch: in
    debounce: 0s
    retry: 0
    order: name
    script: |
      until [ "$TIDE_NAME" != slip-100.txt ] || [ -e go ]; do sleep 0.05; done
      grep -q fog "$1"
    processed: done
    failed: failed
`)
	for i := range 300 {
		put(t, dir, fmt.Sprintf("in/slip-%03d.txt", i), "fog\n")
	}
	put(t, dir, "in/slip-200.txt", "sun\n")
	term := newTerminal(t, dir, "100", "60")
	term.keys("0", "stilltide sweep", "Enter")
	term.sees("0", "to do")
	put(t, dir, "go", "")
	screen := term.sees("0", "300 jobs: 299 processed, 1 failed.")
	require.Regexp(t, `slips: 300 files done: 299 processed, 1 failed, in .* \(\d+ not listed here\)`, screen)
	require.Contains(t, screen, "slip-200.txt")
	require.Less(t, strings.Count(screen, "processed  "), 100)
	require.NotContains(t, screen, "to do", "the line at the bottom goes")
}

// What is held says so in its row, too: its rule is blocked without its program.
func TestTheLiveViewShowsWhatIsHeld(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "in/slip-9.txt", "fog\n")
	put(t, dir, "stilltide.yaml",
		"version: 1\nrules:\n  - {name: slips, watch: in, debounce: 0s, run: no-such-program}\n")
	startWatcher(t, dir)
	term := newTerminal(t, dir, "100", "24")
	term.keys("0", "stilltide status --live", "Enter")
	term.sees("0", "1 rule blocked: slips")
	for line := range strings.SplitSeq(term.sees("0", "slip-9.txt"), "\n") {
		if strings.Contains(line, "slip-9.txt") {
			require.Contains(t, line, "held")
		}
	}
	term.keys("0", "q")
}
