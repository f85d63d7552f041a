package watchfs

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// listener collects a watcher's events.
type listener struct {
	t *testing.T
	w *Watcher

	mu   sync.Mutex
	seen []Event
}

func listen(t *testing.T, o Options, folders map[string]int) *listener {
	t.Helper()
	w, err := New(o)
	require.NoError(t, err)
	l := &listener{t: t, w: w}
	var done sync.WaitGroup
	stop := make(chan struct{})
	done.Go(func() {
		for {
			select {
			case batch := <-w.Events():
				l.mu.Lock()
				l.seen = append(l.seen, batch...)
				l.mu.Unlock()
			case <-stop:
				return
			}
		}
	})
	t.Cleanup(func() {
		w.Close()
		close(stop)
		done.Wait()
	})
	w.Want(folders)
	return l
}

// wait waits for an event of a kind at a path.
func (l *listener) wait(kind Kind, path string) {
	l.t.Helper()
	require.Eventually(l.t, func() bool { return l.count(kind, path) > 0 }, waitAtMost, tick, "no event %d for %s",
		kind, path)
}

func (l *listener) count(kind Kind, path string) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for _, e := range l.seen {
		if e.Kind == kind && e.Path == path {
			n++
		}
	}
	return n
}

// came reports whether a file that was made and closed was told of. That it was made
// may go unsaid, if both came in one read.
func (l *listener) came(path string) bool {
	return l.count(Created, path)+l.count(Closed, path)+l.count(Found, path) > 0
}

func (l *listener) clear() {
	l.mu.Lock()
	l.seen = nil
	l.mu.Unlock()
}

func touch(t *testing.T, path string) string {
	t.Helper()
	require.NoError(t, os.WriteFile(path, []byte("x"), 0o666))
	return path
}

func mkdir(t *testing.T, path string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(path, 0o777))
	return path
}

func TestWhatIsThereIsFoundAndWhatComesIsTold(t *testing.T) {
	dir := t.TempDir()
	old := touch(t, filepath.Join(dir, "old"))
	l := listen(t, Options{}, map[string]int{dir: 0})
	l.wait(Found, old)
	l.wait(Swept, dir)
	made := filepath.Join(dir, "made")
	f, err := os.Create(made)
	require.NoError(t, err)
	l.wait(Created, made)
	require.NoError(t, f.Close())
	l.wait(Closed, made)
	require.NoError(t, os.Rename(made, made+"2"))
	l.wait(Removed, made)
	l.wait(Moved, made+"2")
	require.NoError(t, os.Remove(made+"2"))
	l.wait(Removed, made+"2")
	below := mkdir(t, filepath.Join(dir, "below"))
	l.wait(Created, below)
	touch(t, filepath.Join(below, "deep"))
	time.Sleep(20 * time.Millisecond)
	require.False(t, l.came(filepath.Join(below, "deep")), "depth 0: subfolders are not watched")
}

// Folders that are made, filled at once, and moved, at any depth: every file
// is told, by an event or by the sweep behind the new watch.
func TestNewSubfoldersWithoutARace(t *testing.T) {
	dir := t.TempDir()
	l := listen(t, Options{}, map[string]int{dir: Deepest})
	l.wait(Swept, dir)
	var files []string
	for i := range 50 {
		sub := mkdir(t, filepath.Join(dir, fmt.Sprint("a", i), "b", "c"))
		files = append(files, touch(t, filepath.Join(sub, "f")),
			touch(t, filepath.Join(dir, fmt.Sprint("a", i), "g")))
	}
	for _, f := range files {
		require.Eventually(t, func() bool { return l.came(f) }, waitAtMost, tick, f)
	}
	require.NoError(t, os.Rename(filepath.Join(dir, "a1"), filepath.Join(dir, "moved")))
	l.wait(Found, filepath.Join(dir, "moved", "g"))
	l.clear()
	late := touch(t, filepath.Join(dir, "moved", "b", "late"))
	l.wait(Closed, late)
}

func TestAbsentFoldersAreWaitedFor(t *testing.T) {
	dir := t.TempDir()
	want := filepath.Join(dir, "x", "y", "z")
	l := listen(t, Options{}, map[string]int{want: 0})
	l.wait(Absent, want)
	mkdir(t, filepath.Join(dir, "x"))
	mkdir(t, want)
	l.wait(Present, want)
	f := touch(t, filepath.Join(want, "f"))
	require.Eventually(t, func() bool { return l.count(Closed, f)+l.count(Found, f) > 0 }, waitAtMost, tick)
	for range 3 {
		l.clear()
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "x")))
		l.wait(Absent, want)
		mkdir(t, want)
		touch(t, f)
		l.wait(Present, want)
		require.Eventually(t, func() bool { return l.count(Closed, f)+l.count(Found, f) > 0 }, waitAtMost, tick)
	}
}

func TestWithoutWatchesFoldersAreLookedAt(t *testing.T) {
	dir := t.TempDir()
	for i := range 6 {
		mkdir(t, filepath.Join(dir, fmt.Sprint("d", i)))
	}
	l := listen(t, Options{MaxWatches: 3, Look: 20 * time.Millisecond}, map[string]int{dir: Deepest})
	l.wait(Swept, dir)
	polled := 0
	for i := range 6 {
		sub := filepath.Join(dir, fmt.Sprint("d", i))
		polled += l.count(Polled, sub)
		f := touch(t, filepath.Join(sub, "f"))
		require.Eventually(t, func() bool { return l.count(Closed, f)+l.count(Found, f) > 0 }, waitAtMost, tick, f)
		require.NoError(t, os.Remove(f))
		l.wait(Removed, f)
	}
	require.Equal(t, 4, polled)
	// When watches are free again the folders go back to events.
	for i := range 6 {
		if sub := filepath.Join(dir, fmt.Sprint("d", i)); l.count(Polled, sub) == 0 {
			require.NoError(t, os.RemoveAll(sub))
		}
	}
	require.Eventually(t, func() bool {
		n := 0
		for i := range 6 {
			n += l.count(Recovered, filepath.Join(dir, fmt.Sprint("d", i)))
		}
		return n > 0
	}, waitAtMost, tick)
}

// A sweep tells of a file in a folder that is polled; the file goes
// before the next look, which had never seen it.
func TestWhatASweepFoundBetweenTwoLooksCanGo(t *testing.T) {
	dir := t.TempDir()
	sub := filepath.Join(dir, "sub")
	mkdir(t, sub)
	l := listen(t, Options{MaxWatches: 1, Look: time.Hour}, map[string]int{dir: Deepest})
	l.wait(Polled, sub)
	require.Eventually(t, func() bool {
		l.w.mu.Lock()
		defer l.w.mu.Unlock()
		return l.w.polled[sub] != nil
	}, waitAtMost, tick, "no first look")
	f := touch(t, filepath.Join(sub, "f"))
	l.w.Sweep()
	l.wait(Found, f)
	l.clear()
	l.w.Sweep() // walks follow each other: the first one is over when the second tells of anything
	l.wait(Found, f)
	require.NoError(t, os.Remove(f))
	l.w.looks <- struct{}{}
	l.wait(Removed, f)
}

func TestSweepFindsAgain(t *testing.T) {
	dir := t.TempDir()
	f := touch(t, filepath.Join(dir, "f"))
	l := listen(t, Options{}, map[string]int{dir: 0})
	l.wait(Found, f)
	l.clear()
	l.w.Sweep()
	l.wait(Found, f)
	l.clear()
	l.w.Want(map[string]int{})
	touch(t, filepath.Join(dir, "g"))
	time.Sleep(20 * time.Millisecond)
	require.False(t, l.came(filepath.Join(dir, "g")), "not wanted any more")
}

func TestOnceSweepsAndDoesNotWatch(t *testing.T) {
	dir := t.TempDir()
	f := touch(t, filepath.Join(mkdir(t, filepath.Join(dir, "a")), "f"))
	l := listen(t, Options{Once: true}, map[string]int{dir: 1, filepath.Join(dir, "none"): 0})
	l.wait(Found, f)
	l.wait(Swept, dir)
	l.wait(Swept, filepath.Join(dir, "none"))
}

const (
	waitAtMost = 10 * time.Second
	tick       = time.Millisecond
)

// What happens does not wait behind what a sweep finds in a full folder, however long that is not
// taken.
func TestAFullFolderHoldsUpNoEvent(t *testing.T) {
	dir := t.TempDir()
	full, other := mkdir(t, filepath.Join(dir, "full")), mkdir(t, filepath.Join(dir, "other"))
	for n := range (foundAhead + 3) * batchSize {
		touch(t, filepath.Join(full, fmt.Sprint(n)))
	}
	w, err := New(Options{Apart: true})
	require.NoError(t, err)
	defer w.Close()
	w.Want(map[string]int{other: 0})
	for swept := false; !swept; {
		for _, e := range <-w.Found() {
			swept = swept || e.Kind == Swept
		}
	}
	w.Want(map[string]int{other: 0, full: 0})
	require.Eventually(t, w.Full, waitAtMost, tick, "the sweep is under way")
	made := touch(t, filepath.Join(other, "made"))
	for told := false; !told; {
		select {
		case batch := <-w.Events():
			for _, e := range batch {
				require.NotEqual(t, Found, e.Kind)
				told = told || e.Path == made
			}
		case <-time.After(waitAtMost):
			require.Fail(t, "the event waits")
		}
	}
}
