package engine

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/placing"

	"github.com/stretchr/testify/require"
)

// slowDisk stands in for another file system below a folder, to which no copy
// comes to its end before it is let go.
type slowDisk struct {
	folder string
	letGo  chan struct{}

	mu        sync.Mutex
	now, most int // copies under way
}

func (d *slowDisk) before(operation string, paths ...string) error {
	to := paths[len(paths)-1]
	if !strings.HasPrefix(to, d.folder+"/") {
		return nil
	}
	switch {
	case operation == "rename" && filepath.Dir(paths[0]) != filepath.Dir(to):
		return &os.LinkError{Op: operation, Old: paths[0], New: to, Err: syscall.EXDEV}
	case operation == "copy":
		d.mu.Lock()
		d.now++
		d.most = max(d.most, d.now)
		d.mu.Unlock()
		<-d.letGo
		d.mu.Lock()
		d.now--
		d.mu.Unlock()
	}
	return nil
}

func (d *slowDisk) busy() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.now
}

// farOffice is a folder with a watched one, and a slow disk below far.
func farOffice(t *testing.T) (dir, in string, disk *slowDisk) {
	dir = t.TempDir()
	in = filepath.Join(dir, "in")
	require.NoError(t, os.Mkdir(in, 0o700))
	return dir, in, &slowDisk{folder: filepath.Join(dir, "far"), letGo: make(chan struct{})}
}

// A disk that is slow has so many copies under way and no more, and holds up no
// one who goes elsewhere; all its own arrive in the end.
func TestASlowDiskHoldsUpNoOneElse(t *testing.T) {
	dir, in, disk := farOffice(t)
	var got outcomes
	_, stop := runGuarded(t, dir, `rules:
  - {name: far, watch: in, match: "*.pdf", debounce: 0s, processed: far}
  - {name: near, watch: in, match: "*.csv", debounce: 0s, processed: near}
`, got.add, disk.before)
	for _, name := range []string{"a.pdf", "b.pdf", "c.pdf", "d.pdf"} {
		require.NoError(t, os.WriteFile(filepath.Join(in, name), []byte(name), 0o600))
	}
	require.Eventually(t, func() bool { return disk.busy() == placing.MaxCopies }, 5*time.Second, time.Millisecond)
	require.NoError(t, os.WriteFile(filepath.Join(in, "tide.csv"), []byte("x"), 0o600))
	require.Eventually(t, func() bool { return got.count(job.Processed) == 1 }, 5*time.Second, time.Millisecond,
		"the near one waits for the far ones")
	require.FileExists(t, filepath.Join(dir, "near", "tide.csv"))
	close(disk.letGo)
	require.Eventually(t, func() bool { return got.count(job.Processed) == 5 }, 5*time.Second, time.Millisecond)
	for _, name := range []string{"a.pdf", "b.pdf", "c.pdf", "d.pdf"} {
		require.FileExists(t, filepath.Join(dir, "far", name))
		require.NoFileExists(t, filepath.Join(in, name))
	}
	require.Equal(t, placing.MaxCopies, disk.most)
	stop()
}

// Two files for one name go one after the other, in the order in which they
// came, so that the newer one is what stays.
func TestOneNameOneCopy(t *testing.T) {
	dir, in, disk := farOffice(t)
	var got outcomes
	_, stop := runGuarded(t, dir, `rules:
  - {name: far, watch: in, depth: all, match: "*.pdf", debounce: 0s, processed: far, same_name: replace}
  - {name: near, watch: in, match: "*.csv", debounce: 0s, processed: near}
`, got.add, disk.before)
	for _, sub := range []string{"1", "2"} {
		require.NoError(t, os.Mkdir(filepath.Join(in, sub), 0o700))
	}
	require.NoError(t, os.WriteFile(filepath.Join(in, "1", "berth.pdf"), []byte("first"), 0o600))
	require.Eventually(t, func() bool { return disk.busy() == 1 }, 5*time.Second, time.Millisecond)
	require.NoError(t, os.WriteFile(filepath.Join(in, "2", "berth.pdf"), []byte("second"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(in, "tide.csv"), []byte("x"), 0o600)) // which comes after it
	require.Eventually(t, func() bool { return got.count(job.Processed) == 1 }, 5*time.Second, time.Millisecond)
	close(disk.letGo)
	require.Eventually(t, func() bool { return got.count(job.Processed) == 3 }, 5*time.Second, time.Millisecond)
	text, err := os.ReadFile(filepath.Join(dir, "far", "berth.pdf"))
	require.NoError(t, err)
	require.Equal(t, "second", string(text))
	require.Equal(t, 1, disk.most)
	stop()
}

// A copy that takes longer than the end allows is ended, and made anew by the
// next start.
func TestALongCopyDoesNotHoldUpTheEnd(t *testing.T) {
	dir, in, disk := farOffice(t)
	var got outcomes
	rules := "rules: [{name: far, watch: in, debounce: 0s, processed: far}]\n"
	e, stop := runGuarded(t, dir, rules, got.add, disk.before)
	require.NoError(t, os.WriteFile(filepath.Join(in, "berth.pdf"), []byte("plan"), 0o600))
	require.Eventually(t, func() bool { return disk.busy() == 1 }, 5*time.Second, time.Millisecond)
	go func() {
		<-e.desk.Runs.Done() // the time to end is over
		close(disk.letGo)
	}()
	stop()
	require.FileExists(t, filepath.Join(in, "berth.pdf"))
	left, err := os.ReadDir(filepath.Join(dir, "far"))
	require.NoError(t, err)
	require.Empty(t, left)
	require.Zero(t, got.count(job.Processed))

	_, stop = run(t, dir, rules, got.add)
	require.Eventually(t, func() bool { return got.count(job.Processed) == 1 }, 5*time.Second, time.Millisecond)
	stop()
	text, err := os.ReadFile(filepath.Join(dir, "far", "berth.pdf"))
	require.NoError(t, err)
	require.Equal(t, "plan", string(text))
	require.NoFileExists(t, filepath.Join(in, "berth.pdf"))
}
