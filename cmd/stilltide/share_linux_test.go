package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
	"stilltide/internal/machine"
	"stilltide/internal/standin/share"
	"stilltide/internal/standin/stick"
	"stilltide/internal/watchfs"
)

const shareRules = `version: 1
workers: 2
defaults: {debounce: 0s}
rules:
  - {name: near, watch: in, where: 'media_type != "image/png"', processed: done}
  - {name: run, watch: run, run: "true", processed: ran}
  - {name: far, watch: share/in, poll: 200ms, where: 'media_type != "image/png"', processed: share/done}
  - {name: there, watch: out, processed: share/out}
  - {name: steps, watch: steps, do: [{copy: share/copies}]}
  - {name: from, watch: from, do: [{run: "true", working_folder: share}], processed: came}
`

// A share that does not answer any more stops its own rules. The others go on, its state is
// said, the watcher ends and starts beside it, and when it answers again all is done.
func TestAShareThatHangs(t *testing.T) {
	t.Parallel()
	dir, s := onShare(t, 0, "in", "run", "out", "steps", "from", "behind/in")
	put(t, dir, "stilltide.yaml", shareRules)
	drop := func(folder, name string) { put(t, dir, filepath.Join(folder, name), name) }
	comes := func(folder, name string) {
		t.Helper()
		require.Eventually(t, func() bool {
			_, err := os.Stat(filepath.Join(dir, folder, name))
			return err == nil
		}, patience, 5*time.Millisecond, "%s/%s", folder, name)
	}
	w := watchShare(t, dir)
	w.says(t, "share/in is polled every 200 ms")
	drop("behind/in", "first")
	drop("in", "first")
	drop("out", "first")
	drop("steps", "first")
	comes("behind/done", "first")
	comes("done", "first")
	comes("behind/out", "first")
	comes("behind/copies", "first")

	require.NoError(t, s.Hang())
	for i := range 20 { // in turn, so that what hangs meets what does not
		drop("behind/in", fmt.Sprint("hung", i))
		drop("out", fmt.Sprint("hung", i))
		drop("steps", fmt.Sprint("hung", i))
		drop("from", fmt.Sprint("hung", i))
		drop("in", fmt.Sprint("near", i))
		drop("run", fmt.Sprint("near", i))
		comes("done", fmt.Sprint("near", i))
		comes("ran", fmt.Sprint("near", i))
	}
	w.says(t, "blocked: share does not answer")
	out, err := w.program(dir, "status").CombinedOutput()
	require.Error(t, err, "a rule is blocked")
	require.Contains(t, string(out), "does not answer")
	w.ends(t, s)

	w = watchShare(t, dir) // it starts beside the share
	drop("in", "second")
	comes("done", "second")
	require.NoError(t, s.GoOn())
	for i := range 20 {
		comes("behind/done", fmt.Sprint("hung", i))
		comes("behind/out", fmt.Sprint("hung", i))
		comes("behind/copies", fmt.Sprint("hung", i))
		comes("came", fmt.Sprint("hung", i))
	}
	w.ends(t, s)
}

// Each command gives up on a share that hangs, says so, and does the rest.
func TestCommandsGiveUpOnAShareThatHangs(t *testing.T) {
	t.Parallel()
	dir, s := onShare(t, 0, "in", "run", "out", "steps", "from", "behind/in")
	put(t, dir, "stilltide.yaml", shareRules)
	for _, folder := range []string{"behind/in", "out", "steps", "from", "in"} {
		put(t, dir, filepath.Join(folder, "a"), "a")
	}
	require.NoError(t, s.Hang())
	program := (*shareWatcher)(nil).program
	for _, args := range [][]string{{"check"}, {"preview"}, {"why", "share/in/a"}} {
		out, _ := program(dir, args...).CombinedOutput()
		require.Contains(t, string(out), "does not answer", args)
	}
	out, err := program(dir, "sweep").CombinedOutput()
	require.Error(t, err, "not all of the folders was seen")
	require.Contains(t, string(out), "share/in could not be read to its end")
	require.FileExists(t, filepath.Join(dir, "done/a"))
}

// A share ceases to answer in the middle of a copy. The file is open here then; commands of other rules start all the
// same.
func TestAShareThatHangsInACopy(t *testing.T) {
	t.Parallel()
	dir, s := onShare(t, 20*time.Millisecond, "run", "behind/in")
	put(t, dir, "stilltide.yaml", `version: 1
workers: 2
defaults: {debounce: 0s}
rules:
  - {name: run, watch: run, run: "true", processed: ran}
  - {name: far, watch: share/in, poll: 200ms, processed: done}
`)
	put(t, dir, "behind/in/large", strings.Repeat("0123456789abcdef", 1<<18))
	w := watchShare(t, dir)
	open := fmt.Sprintf("/proc/%d/fd/*", w.Process.Pid)
	require.Eventually(t, func() bool {
		all, err := filepath.Glob(open)
		return err == nil && slices.ContainsFunc(all, func(fd string) bool {
			to, _ := os.Readlink(fd)
			return to == filepath.Join(dir, "share/in/large")
		})
	}, patience, time.Millisecond)
	require.NoError(t, s.Hang())
	for i := range 3 {
		put(t, dir, fmt.Sprint("run/", i), "")
		w.brings(t, filepath.Join(dir, fmt.Sprint("ran/", i)))
	}
	held, err := os.Create(filepath.Join(dir, "run/held"))
	require.NoError(t, err)
	why := w.program(dir, "why", "run/held")
	time.AfterFunc(patience, func() { _ = why.Process.Kill() })
	said, _ := why.Output()
	require.Contains(t, string(said), fmt.Sprintf("(process %d)", os.Getpid()), "found beside the share")
	require.NoError(t, held.Close())
	require.NoError(t, s.GoOn())
	w.brings(t, filepath.Join(dir, "done/large"))
	w.ends(t, s)
}

// A share that is far away, where each answer takes long, is not one that does not answer: nothing says so, the files
// go their way, several at once, and a sweep knows them again.
func TestAShareThatIsFar(t *testing.T) {
	t.Parallel()
	dir, s := onShare(t, 20*time.Millisecond, "behind/in", "behind/stays")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stilltide.yaml"), []byte(`version: 1
defaults: {debounce: 0s, poll: 200ms}
rules:
  - {name: far, watch: share/in, processed: share/done}
  - {name: stays, watch: share/stays, run: "true"}
`), 0o666))
	files := map[string]int{"in": 80, "stays": 40}
	for folder, n := range files {
		for i := range n {
			path := filepath.Join(dir, "behind", folder, fmt.Sprintf("%03d", i))
			require.NoError(t, os.WriteFile(path, []byte(path), 0o666))
		}
	}
	w := watchShare(t, dir)
	require.Eventually(t, func() bool {
		done, _ := os.ReadDir(filepath.Join(dir, "behind/done"))
		return len(done) == files["in"] && strings.Count(w.text(), "stays ") >= files["stays"]
	}, patience, 20*time.Millisecond)
	w.ends(t, s)
	require.NotContains(t, w.text(), "does not answer")
	require.NotContains(t, w.text(), "cannot be placed")
	out, err := w.program(dir, "sweep").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "no job is over")
}

// A sweep gives a share that falls asleep the time to wake up: nothing else would go on meanwhile.
func TestASweepWaitsForAShareToWake(t *testing.T) {
	t.Parallel()
	dir, s := onShare(t, 0)
	put(t, dir, "stilltide.yaml", "version: 1\nrules:\n  - name: off\n    watch: in\n    debounce: 0s\n"+
		"    do: [{script: 'touch asleep; while [ -e asleep ]; do sleep 0.02; done'}, {copy: share/out}]\n")
	put(t, dir, "in/a", "a")
	sweep := (*shareWatcher)(nil).program(dir, "sweep")
	require.NoError(t, sweep.Start())
	asleep := filepath.Join(dir, "asleep")
	require.Eventually(t, func() bool { _, err := os.Stat(asleep); return err == nil }, patience, 5*time.Millisecond)
	require.NoError(t, s.Hang())
	time.AfterFunc(600*time.Millisecond, func() { _ = s.GoOn() })
	require.NoError(t, os.Remove(asleep))
	require.NoError(t, sweep.Wait())
	require.FileExists(t, filepath.Join(dir, "behind/out/a"))
}

// What a disk cannot hold of the files that come to the end of their jobs there is said, once for each folder.
func TestAnEndThatCannotHoldAll(t *testing.T) {
	t.Parallel()
	dir := onStick(t, stick.Lacks{Modes: true}, "in")
	put(t, dir, "stilltide.yaml", "version: 1\ndefaults: {debounce: 0s}\n"+
		"rules:\n  - {name: off, watch: in, processed: stick/done}\n")
	w := watchShare(t, dir)
	for _, name := range []string{"in/a", "in/b"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o640))
		w.brings(t, filepath.Join(dir, "behind/done", filepath.Base(name)))
	}
	w.says(t, filepath.Join(dir, "stick/done")+" cannot hold ")
	w.says(t, "off  b ")
	require.NoError(t, w.Process.Signal(syscall.SIGINT))
	require.NoError(t, w.Wait())
	require.Equal(t, 1, strings.Count(w.text(), "cannot hold"))
	require.Regexp(t, "cannot hold (owner, )?permissions, so files that come there lose them\n", w.text())
}

// A step that tags a file fails where its disk keeps no tags, and preview knows it.
func TestAStickThatKeepsNoTags(t *testing.T) {
	t.Parallel()
	dir := onStick(t, stick.Lacks{Tags: true}, "behind/in", "in")
	put(t, dir, "stilltide.yaml", "version: 1\ndefaults: {debounce: 0s, retry: 0}\nrules:\n"+
		"  - {name: there, watch: stick/in, do: [{tag: seen}]}\n"+
		"  - {name: here, watch: in, do: [{tag: seen}, {move: stick/out}, {tag: seen}]}\n")
	put(t, dir, "behind/in/a", "a")
	put(t, dir, "in/b", "b")
	for _, command := range []string{"preview", "sweep"} {
		out, _ := (*shareWatcher)(nil).program(dir, command).CombinedOutput()
		for _, file := range []string{"stick/in/a", "stick/out/b"} {
			require.Contains(t, string(out), file+" cannot be tagged: its file system keeps no extended attributes")
		}
	}
}

// A mirror's copy of what a command then changed is the last of that content, also where it took the place of an older
// copy, and where the copy cannot have the times of its file.
func TestACopyOnAStickMayBeTheLast(t *testing.T) {
	t.Parallel()
	dir := onStick(t, stick.Lacks{Exact: 2 * time.Second})
	put(t, dir, "stilltide.yaml", "version: 1\ndefaults: {debounce: 0s, retry: 0}\nrules:\n  - name: log\n"+
		"    watch: in\n    do: [{mirror: stick/copies}, {script: 'echo more >>\"$1\"'}, {run: \"false\"}]\n")
	put(t, dir, "in/a", "first\n")
	for range 2 {
		out, err := (*shareWatcher)(nil).program(dir, "sweep").CombinedOutput()
		require.Error(t, err, "the job fails")
		require.Contains(t, string(out), "from which it was made, has changed")
	}
	text, err := os.ReadFile(filepath.Join(dir, "behind/copies/a"))
	require.NoError(t, err)
	require.Equal(t, "first\nmore\n", string(text))
}

// What was cut short on a share, a placing or an undo, is finished when the share answers: also where no rule watches a
// folder there, so that no watched folder comes or goes. Until then it holds up nothing.
func TestWhatWasCutShortOnAShare(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		rule           string
		source, target string
		state          job.State
		placing        job.PlacementState
		arrives        string
	}{
		"placing": {"{name: there, watch: out, debounce: 0s, processed: share/out}", "out/a", "share/out/a",
			job.Running, job.Intended, "behind/out/a"},
		"undo": {"{name: there, watch: share/in, poll: 200ms, debounce: 0s, processed: out}", "share/in/a", "out/a",
			job.Processed, job.Reverting, "behind/in/a"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, s := onShare(t, 0, "out", "behind/in")
			put(t, dir, "stilltide.yaml", "version: 1\nrules:\n  - "+c.rule+"\n  - {name: near, watch: near, "+
				"debounce: 0s, processed: done}\n")
			put(t, dir, "out/a", "a")
			put(t, dir, "near/b", "b")
			cutShortOn(t, dir, c.source, c.target, c.state, c.placing)
			require.NoError(t, s.Hang())
			comes := func(path string) {
				there := func() bool { _, err := os.Stat(filepath.Join(dir, path)); return err == nil }
				require.Eventually(t, there, patience, 5*time.Millisecond, path)
			}
			w := watchShare(t, dir)
			comes("done/b")
			w.says(t, "blocked: share does not answer")
			require.NoError(t, s.GoOn())
			comes(c.arrives)
			w.ends(t, s)
		})
	}
}

// A job that waits in the ledger lies on a share that hangs: preview says so, and goes on with the other folders.
func TestAPreviewOfAJobOnAShareThatHangs(t *testing.T) {
	t.Parallel()
	dir, s := onShare(t, 0, "in", "behind/in")
	put(t, dir, "stilltide.yaml", "version: 1\ndefaults: {debounce: 0s, poll: 200ms}\nrules:\n"+
		"  - {name: far, watch: share/in, processed: share/done}\n  - {name: near, watch: in, processed: done}\n"+
		"  - {name: kept, watch: kept, do: [{mirror: share/copies, repair: true}]}\n")
	put(t, dir, "kept/c", "c")
	run(t, dir, "sweep")
	require.NoError(t, os.Remove(filepath.Join(dir, "behind/copies/c")))
	put(t, dir, "behind/in/waits", "waits")
	put(t, dir, "in/b", "b")
	l := openLedger(t, dir)
	queued(t, l, "far", filepath.Join(dir, "share/in/waits"), filepath.Join(dir, "behind/in/waits"))
	require.NoError(t, l.Close())
	require.NoError(t, s.Hang())
	preview := (*shareWatcher)(nil).program(dir, "preview")
	time.AfterFunc(patience, func() { _ = preview.Process.Kill() })
	out, err := preview.CombinedOutput()
	require.Error(t, err, "not all was seen")
	require.Contains(t, string(out), "share does not answer")
	require.Contains(t, string(out), "done/b")
	require.NotContains(t, string(out), "copies", "what is lost is not known")
	require.NoError(t, s.GoOn())
	require.Contains(t, run(t, dir, "preview"), "copies")
}

// cutShortOn leaves a ledger of a watcher that ended before a file was where its job, or the undo of that, moves it: it
// is in the folder out.
func cutShortOn(t *testing.T, dir, source, target string, state job.State, placing job.PlacementState) {
	l := openLedger(t, dir)
	source, target = filepath.Join(dir, source), filepath.Join(dir, target)
	row := queued(t, l, "there", source, filepath.Join(dir, "out/a"))
	facts := row.Facts
	row.Become(job.Running)
	l.Record(row, job.Queued)
	if state != job.Running {
		row.Become(state)
		l.Record(row, job.Running)
	}
	l.RecordPlacement(job.Placement{ID: l.NextPlacement(), Job: row.ID, Attempt: 1, Kind: job.Moved, Source: source,
		Target: target, Facts: facts, After: facts, State: placing, FinalState: job.Processed})
	require.NoError(t, l.Close())
}

func openLedger(t *testing.T, dir string) *ledger.Ledger {
	l, err := ledger.Open(filepath.Join(dir, ".stilltide"), func(err error) { require.NoError(t, err) })
	require.NoError(t, err)
	return l
}

// queued records a job that waits, of a file that is somewhere else by now.
func queued(t *testing.T, l *ledger.Ledger, rule, source, now string) job.Job {
	facts, err := watchfs.Stat(now)
	require.NoError(t, err)
	row := job.Job{ID: l.NextID(), Rule: rule, File: source, Watch: filepath.Dir(source), State: job.Queued,
		Event: file.Added, Facts: facts, FileNow: now, Attempts: 1}
	l.Record(row, "")
	return row
}

// The second watcher of a folder on a share says who watches it and since when, and ends with 3,
// unless it is told that this is wanted; the first one's end frees the folder.
func TestTwoWatchersOfAShare(t *testing.T) {
	t.Parallel()
	dir, _ := onShare(t, 0, "behind/in")
	program, err := built()
	require.NoError(t, err)
	for _, name := range []string{"one", "two"} {
		put(t, dir, name+"/stilltide.yaml", "version: 1\nrules:\n  - {name: far, watch: ../share/in, poll: 200ms, "+
			"processed: done}\n")
	}
	first := watchShare(t, filepath.Join(dir, "one"))
	first.says(t, "ready: ")
	second := exec.Command(program, "watch")
	second.Dir = filepath.Join(dir, "two")
	out, err := second.CombinedOutput()
	require.Error(t, err)
	require.Equal(t, 3, second.ProcessState.ExitCode(), string(out))
	require.Contains(t, string(out), "share/in is watched by ")
	require.Contains(t, string(out), "use --beside")
	w := &shareWatcher{}
	w.Cmd = w.program(filepath.Join(dir, "two"), "watch", "--beside")
	w.Stdout, w.Stderr = w, w
	require.NoError(t, w.Start())
	w.says(t, "ready: ")
	for _, one := range []*shareWatcher{w, first} {
		require.NoError(t, one.Process.Signal(syscall.SIGINT))
		require.NoError(t, one.Wait())
	}
	entries, err := os.ReadDir(filepath.Join(dir, "behind/in"))
	require.NoError(t, err)
	require.Empty(t, entries, "nothing is left of them")
}

// onShare is a folder with a share in it, share, that shows the folder behind, each answer after a delay. folders are
// made as well.
func onShare(t *testing.T, delay time.Duration, folders ...string) (dir string, s *share.Share) {
	t.Helper()
	dir = folderWith(t, append(folders, "behind", "share"))
	s, err := share.MountFar(filepath.Join(dir, "behind"), filepath.Join(dir, "share"), delay)
	if err != nil {
		machine.Lacks(t, "no FUSE here: "+err.Error())
	}
	t.Cleanup(s.Unmount)
	return dir, s
}

// folderWith is a new folder with some in it.
func folderWith(t *testing.T, folders []string) string {
	t.Helper()
	dir := t.TempDir()
	for _, sub := range folders {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, sub), 0o777))
	}
	return dir
}

// onStick is a folder with a plain file system in it, stick, that shows the folder behind.
func onStick(t *testing.T, lacks stick.Lacks, folders ...string) (dir string) {
	t.Helper()
	dir = folderWith(t, append(folders, "behind", "stick"))
	unmount, err := stick.Mount(filepath.Join(dir, "behind"), filepath.Join(dir, "stick"), lacks)
	if err != nil {
		machine.Lacks(t, "no FUSE here: "+err.Error())
	}
	t.Cleanup(func() { require.NoError(t, unmount()) })
	return dir
}

// shareWatcher is a watcher under way, and what it said.
type shareWatcher struct {
	*exec.Cmd
	mu   sync.Mutex
	said bytes.Buffer
}

func (w *shareWatcher) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.said.Write(p)
}

func (w *shareWatcher) text() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.said.String()
}

func watchShare(t *testing.T, dir string) *shareWatcher {
	t.Helper()
	w := &shareWatcher{}
	w.Cmd = w.program(dir, "watch")
	w.Stdout, w.Stderr = w, w
	require.NoError(t, w.Start())
	w.says(t, "End with Ctrl-C")
	return w
}

func (w *shareWatcher) program(dir string, args ...string) *exec.Cmd {
	program, err := built()
	if err != nil {
		panic(err)
	}
	c := exec.Command(program, args...)
	c.Dir = dir
	return c
}

func (w *shareWatcher) says(t *testing.T, text string) {
	t.Helper()
	w.comesTo(t, "it must say "+text, func() bool { return strings.Contains(w.text(), text) })
}

// brings waits until the watcher has put a file somewhere.
func (w *shareWatcher) brings(t *testing.T, path string) {
	t.Helper()
	w.comesTo(t, path+" must come", func() bool { _, err := os.Lstat(path); return err == nil })
}

// comesTo waits until something is so. If it does not come to that, the watcher says where it stands.
func (w *shareWatcher) comesTo(t *testing.T, what string, so func() bool) {
	t.Helper()
	if !assert.Eventually(t, so, patience, 5*time.Millisecond) {
		require.NoError(t, w.Process.Signal(syscall.SIGQUIT))
		told := func() bool { return strings.Contains(w.text(), "goroutine 1 ") }
		assert.Eventually(t, told, patience, 10*time.Millisecond)
		t.Fatalf("%s, and the watcher says:\n%s", what, w.text())
	}
}

// ends asks the watcher to end and waits until it says that it has. A call that the share
// has taken, and does not answer, keeps even a killed process in the kernel; then the share
// answers for a moment.
func (w *shareWatcher) ends(t *testing.T, s *share.Share) {
	t.Helper()
	require.NoError(t, w.Process.Signal(syscall.SIGINT))
	ended := make(chan error, 1)
	go func() { ended <- w.Wait() }() // ends with the process
	w.says(t, "ended: ")
	for answers := false; ; answers = true {
		select {
		case err := <-ended:
			require.NoError(t, err, w.text())
			if answers {
				require.NoError(t, s.Hang())
			}
			return
		case <-time.After(3 * time.Second):
			require.False(t, answers, "it does not end")
			require.NoError(t, s.GoOn())
		}
	}
}
