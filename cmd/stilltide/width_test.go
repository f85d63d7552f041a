package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// longNamed is a folder whose rules, files and reasons are longer than a terminal is wide, with
// jobs in as many states as there can be without a watcher.
func longNamed(t *testing.T) string {
	dir, err := os.MkdirTemp("", "w") // short, as messages that say it do not shorten it
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "arrivals/from-the-northern-gauges"), 0o777))
	put(t, dir, "stilltide.yaml", `version: 1
defaults: {debounce: 0s, retry: 0}
rules:
  - name: readings-of-the-northern-tide-gauges
    watch: arrivals/from-the-northern-gauges
    match: ["gauge-<station>_<day>.csv", "gauge-<station>_<day>.tsv", "levels-of-<station>-<day>.csv"]
    where: 'size > 0 && !name.contains("a part of the name that no file here has in it") && ext != "text"'
    processed: "done/of-the-northern-gauges/{station}"
  - name: slips
    watch: arrivals/from-the-northern-gauges
    match: "slip*.txt"
    script: |
      echo "the register of the harbour office is locked by the night watchman, who has gone to the northern pier"
      exit 65
    failed: failed/of-the-northern-gauges
  - {name: held-back, watch: arrivals/from-the-northern-gauges, match: "*.held", processed: done}
  - {name: off, watch: arrivals/from-the-northern-gauges, match: "*.off", processed: done, enabled: false}
  - {name: nowhere, watch: a-folder-that-is-not-there, processed: done}
`)
	run(t, dir, "pause", "held-back")
	put(t, dir, "arrivals/from-the-northern-gauges/gauge-NOR_"+strings.Repeat("a-very-long-name-",
		8)+"2031-04-02.csv", "1")
	put(t, dir,
		"arrivals/from-the-northern-gauges/slip of the night watchman, with spaces in its name, 2031-04-02.txt", "1")
	put(t, dir, "arrivals/from-the-northern-gauges/x.held", "1")
	run(t, dir, "sweep")
	put(t, dir, "arrivals/from-the-northern-gauges/gauge-PIR_"+strings.Repeat("a-very-long-name-",
		8)+"2031-04-03.csv", "1")
	put(t, dir, "arrivals/from-the-northern-gauges/"+strings.Repeat("taken-by-no-rule-", 8)+".bin", "1")
	return dir
}

// run runs the program and returns what it prints, whatever its status.
func run(t *testing.T, dir string, args ...string) string {
	program, err := built()
	require.NoError(t, err)
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	out, _ := cmd.CombinedOutput()
	return string(out)
}

// On a terminal nothing is longer than a line, and the end of a name can be seen: its date.
func TestNothingWrapsOnATerminal(t *testing.T) {
	t.Parallel()
	dir := longNamed(t)
	gauge := "arrivals/from-the-northern-gauges/gauge-PIR_" + strings.Repeat("a-very-long-name-", 8) + "2031-04-03.csv"
	commands := []struct{ line, ends string }{
		{"status", "held-back"}, {"jobs", "04-02.csv"}, {"jobs show 1", "04-02.csv"}, {"jobs show 2", "04-02.txt"},
		{"rules", ".yaml:4"}, {"preview", "04-03.csv"}, {"preview --brief", "04-03.csv"}, {"check", "5 rules"},
		{"why " + gauge, "04-03.csv"}, {"why --all " + gauge, "04-03.csv"},
		{"why failed/of-the-northern-gauges/slip*2031-04-02.txt", "65"},
		{"sweep", "04-03.csv"}, {"watch", "held: held-back is paused"},
	}
	for _, wide := range []string{"80", "100", "200"} {
		term := newTerminal(t, dir, wide, "60")
		for i, c := range commands {
			over := fmt.Sprintf("over-%d", i)
			term.keys("0", "clear; "+called(c.line)+"; echo "+over[:3]+"${x}"+over[3:], "Enter")
			term.sees("0", over)
			screen, joined := term.screen("0"), term.tmux("capture-pane", "-p", "-J", "-t", "0")
			shown, whole := printedLines(screen, over), printedLines(joined, over)
			require.Equal(t, whole, shown, "%s wraps at %s columns", c.line, wide)
			require.Contains(t, screen, c.ends, "%s at %s columns", c.line, wide)
		}
		put(t, dir, filepath.Join("done", ".keep"), "")
		run(t, dir, "undo", "4")
		run(t, dir, "retry", "4")
	}
}

// called is a command as it is typed; watch ends by itself.
func called(line string) string {
	if line == "watch" {
		return "timeout -s INT 1 stilltide watch"
	}
	return "stilltide " + line
}

// printedLines are the lines that a command has printed: those between the prompts.
func printedLines(screen, over string) (lines []string) {
	for line := range strings.SplitSeq(screen, "\n") {
		switch line = strings.TrimRight(line, " "); {
		case strings.HasPrefix(line, "> "):
			lines = nil
		case line == over:
			return lines
		default:
			lines = append(lines, line)
		}
	}
	return lines
}

// In a file or pipe nothing is shortened, and with --wide on no terminal.
func TestNothingIsShortenedInAPipe(t *testing.T) {
	t.Parallel()
	dir := longNamed(t)
	first := "gauge-NOR_" + strings.Repeat("a-very-long-name-", 8) + "2031-04-02.csv"
	second := "gauge-PIR_" + strings.Repeat("a-very-long-name-", 8) + "2031-04-03.csv"
	reason := "the register of the harbour office is locked by the night watchman, who has gone to the northern pier"
	for line, wants := range map[string][]string{
		"status": {"readings-of-the-northern-tide-gauges",
			"slip of the night watchman, with spaces in its name, 2031-04-02.txt"},
		"jobs":        {first, "readings-of-the-northern-tide-gauges", "done/of-the-northern-gauges/NOR"},
		"jobs show 1": {first},
		"jobs show 2": {reason},
		"rules":       {"levels-of-<station>-<day>.csv", "that no file here has in it"},
		"preview": {second, "done/of-the-northern-gauges/PIR/" + second, strings.Repeat("taken-by-no-rule-",
			8) + ".bin"},
		"preview --brief": {second},
		"sweep":           {second, "readings-of-the-northern-tide-gauges"},
	} {
		if line == "sweep" {
			continue // the last one
		}
		checkWhole(t, line, run(t, dir, strings.Fields(line)...), wants)
	}
	term := newTerminal(t, dir, "80", "60")
	term.keys("0", "clear; stilltide jobs --wide; echo ov${x}er", "Enter")
	term.sees("0", "over")
	checkWhole(t, "jobs --wide", term.tmux("capture-pane", "-p", "-J", "-t", "0"), []string{first})
	checkWhole(t, "sweep", run(t, dir, "sweep"), []string{second, "readings-of-the-northern-tide-gauges"})
}

func checkWhole(t *testing.T, line, printed string, wants []string) {
	require.NotContains(t, printed, "…", line)
	for _, want := range wants {
		require.Contains(t, printed, want, line)
	}
}
