package watchfs

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/machine"
	"stilltide/internal/standin/share"
)

// TestMain serves a share where this program is started for that.
func TestMain(m *testing.M) {
	share.Serve()
	os.Exit(m.Run())
}

// What a share does not answer is asked while nothing is locked: other folders, and who asks the watcher something, do
// not wait for it.
func TestAShareThatHangsHoldsNoLock(t *testing.T) {
	dir := t.TempDir()
	near, behind, at := filepath.Join(dir, "near"), filepath.Join(dir, "behind"), filepath.Join(dir, "share")
	for _, folder := range []string{near, filepath.Join(behind, "in"), at} {
		require.NoError(t, os.MkdirAll(folder, 0o777))
	}
	mounted, err := share.Mount(behind, at)
	if err != nil {
		machine.Lacks(t, "no FUSE here: "+err.Error())
	}
	t.Cleanup(mounted.Unmount)
	far := filepath.Join(at, "in")
	l := listen(t, Options{Look: time.Hour}, map[string]int{near: 0, far: 0})
	l.wait(Swept, near)
	l.wait(Swept, far)
	require.NoError(t, mounted.Hang())
	for name, asks := range map[string]func(*sweeper){
		"attach": func(s *sweeper) { s.attachFar(far) },
		"guard":  func(s *sweeper) { s.guard(filepath.Join(far, "below", "it")) },
		"await":  func(s *sweeper) { s.awaits(filepath.Join(far, "missing")) },
		"root":   func(s *sweeper) { s.root(far) },
	} {
		t.Run(name, func(t *testing.T) {
			s, over := &sweeper{w: l.w}, make(chan struct{})
			go func() {
				defer close(over)
				asks(s)
			}()
			require.Eventually(t, func() bool { return s.asked.Load() != 0 }, waitAtMost, tick)
			free := make(chan struct{})
			go func() {
				l.w.Doubt(near)
				l.w.TellWriting(map[string]int{far: 0, near: 0})
				close(free)
			}()
			select {
			case <-free:
			case <-time.After(waitAtMost):
				t.Error("the watcher waits for the share")
			}
			require.NoError(t, mounted.GoOn())
			<-over
			<-free
			require.NoError(t, mounted.Hang())
		})
	}
	file := filepath.Join(near, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o666))
	l.wait(Closed, file)
	require.NoError(t, mounted.GoOn())
}
