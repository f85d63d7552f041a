//go:build unix

package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/lock"
)

// moving is a folder whose rule moves what comes.
func moving(t *testing.T) string {
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml", "version: 1\nrules: [{name: keep, watch: in, debounce: 0s, processed: out}]\n")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	return dir
}

// ready waits for the watcher's line that says so.
func (w *watcher) ready() {
	w.t.Helper()
	require.Eventually(w.t, func() bool { return strings.Contains(w.said(), "ready:") }, patience, 5*time.Millisecond)
}

// printsTo starts a command of the program that prints there, and says the rest into its log.
func printsTo(t *testing.T, dir string, out *os.File, args ...string) *watcher {
	t.Helper()
	program, err := built()
	require.NoError(t, err)
	return (&watcher{t: t, dir: dir, cmd: exec.Command(program, args...)}).start(out)
}

// files waits until a folder has so many.
func files(t *testing.T, dir string, n int) {
	t.Helper()
	require.Eventually(t, func() bool { list, _ := os.ReadDir(dir); return len(list) == n }, patience,
		5*time.Millisecond)
}

// What the watcher prints is not read, as in a terminal that was stopped with Ctrl-S: it works,
// and ends when it is asked to. What was printed before that is there when it is read.
func TestUnreadOutputHoldsNoWorkUp(t *testing.T) {
	t.Parallel()
	dir := moving(t)
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	w := printsTo(t, dir, write, "watch")
	write.Close()
	w.ready()
	const many = 2000 // their lines are twice what a pipe holds
	for i := range many {
		put(t, dir, fmt.Sprintf("in/a-%d", i), "x")
	}
	files(t, filepath.Join(dir, "out"), many)
	require.Contains(t, w.stop(), "ended: 2,000 jobs: 2,000 processed")
	text, err := io.ReadAll(read)
	require.NoError(t, err)
	require.Contains(t, string(text), "keep  a-0 ")
	require.Less(t, strings.Count(string(text), "\n"), many)
}

// A sweep whose lines are read slowly leaves none out.
func TestASweepsLinesAreAllThere(t *testing.T) {
	t.Parallel()
	dir := moving(t)
	const many = 2000
	for i := range many {
		put(t, dir, fmt.Sprintf("in/a-%d", i), "x")
	}
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	w := printsTo(t, dir, write, "sweep", "--json")
	write.Close()
	files(t, filepath.Join(dir, "in"), 0) // all its work is done before the first line is read
	lines, seen := bufio.NewScanner(read), map[string]bool{}
	for lines.Scan() {
		var j struct{ File string }
		require.NoError(t, json.Unmarshal(lines.Bytes(), &j))
		seen[j.File] = true
	}
	require.NoError(t, w.cmd.Wait())
	require.Len(t, seen, many)
}

// unread waits until nothing reads a pipe: a child that another test is starting holds it open until it has become its
// program.
func unread(t *testing.T, write *os.File) {
	t.Helper()
	require.Eventually(t, func() bool {
		fds := []unix.PollFd{{Fd: int32(write.Fd())}}
		n, err := unix.Poll(fds, 0)
		return err == nil && n == 1 && fds[0].Revents&unix.POLLERR != 0
	}, patience, 5*time.Millisecond)
	require.NoError(t, write.Close())
}

// A program that reads what the watcher prints ends before it: the work goes on, that is said
// once, and the end is in order.
func TestAReaderThatIsGoneEndsNoWork(t *testing.T) {
	t.Parallel()
	dir := moving(t)
	read, write, err := os.Pipe()
	require.NoError(t, err)
	w := printsTo(t, dir, write, "watch")
	w.ready()
	read.Close()
	unread(t, write)
	for i := range 3 {
		put(t, dir, fmt.Sprintf("in/a-%d", i), "x")
		files(t, filepath.Join(dir, "out"), i+1)
	}
	said := w.stop()
	require.Equal(t, 1, strings.Count(said, "standard output cannot be written (broken pipe); the work goes on"), said)
	require.Contains(t, said, "ended: 3 jobs: 3 processed")
}

// A command that shows something ends when its reader does (`jobs log 1 --follow | head`), and says nothing of it.
func TestAReaderThatIsGoneEndsWhatIsShown(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "stilltide.yaml", `version: 1
rules: [{name: r, watch: in, debounce: 0s, script: "until test -e go; do echo line; sleep 0.02; done", processed: out}]
`)
	put(t, dir, "in/a", "x")
	w := startWatcher(t, dir)
	w.ready()
	require.Eventually(t, func() bool {
		list, _ := os.ReadDir(filepath.Join(dir, ".stilltide", "output"))
		return len(list) > 0
	}, patience, 5*time.Millisecond)
	read, write, err := os.Pipe()
	require.NoError(t, err)
	follower := printsTo(t, dir, write, "jobs", "log", "1", "--follow")
	write.Close()
	_, err = bufio.NewReaderSize(read, 16).ReadString('\n')
	require.NoError(t, err)
	read.Close()
	_ = follower.cmd.Wait()
	require.Empty(t, follower.said())
	require.Equal(t, 141, follower.cmd.ProcessState.ExitCode())
	put(t, dir, "go", "")
	files(t, filepath.Join(dir, "out"), 1)
	w.stop()
}

// Closing the terminal (SIGHUP) ends the watcher as Ctrl-C does: what runs is finished. Under
// nohup it goes on.
func TestClosingTheTerminalEndsInOrder(t *testing.T) {
	t.Parallel()
	needs(t, "nohup")
	program, err := built()
	require.NoError(t, err)
	for _, nohup := range []bool{false, true} {
		dir := t.TempDir()
		put(t, dir, "stilltide.yaml", `version: 1
rules:
  - name: r
    watch: in
    debounce: 0s
    script: "echo >> begun; until test -e go; do sleep 0.02; done"
    processed: out
`)
		require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
		w := &watcher{t: t, dir: dir, cmd: exec.Command(program, "watch")}
		if nohup {
			w.cmd = exec.Command("nohup", program, "watch")
		}
		w.start(nil).ready()
		put(t, dir, "in/a", "x")
		begun := filepath.Join(dir, "begun")
		require.Eventually(t, func() bool { _, err := os.Stat(begun); return err == nil }, patience, 5*time.Millisecond)
		require.NoError(t, w.cmd.Process.Signal(syscall.SIGHUP))
		if !nohup {
			require.Eventually(t, func() bool { return strings.Contains(w.said(), "stopping:") }, patience,
				5*time.Millisecond)
			require.NoError(t, w.cmd.Process.Signal(syscall.SIGHUP)) // shells send it, and then the system
		}
		put(t, dir, "go", "")
		files(t, filepath.Join(dir, "out"), 1)
		if nohup {
			put(t, dir, "in/b", "x")
			files(t, filepath.Join(dir, "out"), 2)
			require.Contains(t, w.stop(), "ended: 2 jobs: 2 processed")
			continue
		}
		require.NoError(t, w.cmd.Wait(), w.said())
		require.Contains(t, w.said(), "ended: 1 job: 1 processed")
	}
}

// A demo that is ended, or whose reader is gone, takes its watcher along.
func TestADemoLeavesNoWatcherBehind(t *testing.T) {
	t.Parallel()
	for _, signalled := range []bool{true, false} {
		dir := filepath.Join(t.TempDir(), "office")
		read, write, err := os.Pipe()
		require.NoError(t, err)
		defer read.Close()
		w := printsTo(t, filepath.Dir(dir), write, "demo", "--folder", dir)
		write.Close()
		lines := bufio.NewScanner(read)
		for lines.Scan() && !strings.Contains(lines.Text(), "Three tide gauges") {
			continue
		}
		read.Close()
		if signalled {
			require.NoError(t, w.cmd.Process.Signal(syscall.SIGTERM))
		}
		require.Error(t, w.cmd.Wait())
		require.Contains(t, w.said(), "the demo was ended before it was over")
		require.False(t, lock.InUse(filepath.Join(dir, ".stilltide")))
	}
}
