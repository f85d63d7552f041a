package watchfs

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"stilltide/internal/machine"
)

// A folder on a disk that is unplugged and plugged in again, with something of
// the same name on the disk below.
func TestAnUnpluggedDiskIsAbsent(t *testing.T) {
	if os.Getuid() != 0 {
		machine.Lacks(t, "only root may mount")
	}
	card := mkdir(t, filepath.Join(t.TempDir(), "card"))
	mount := func() { require.NoError(t, unix.Mount("none", card, "tmpfs", 0, "")) }
	mount()
	t.Cleanup(func() { _ = unix.Unmount(card, unix.MNT_DETACH) })
	in := mkdir(t, filepath.Join(card, "in"))
	missing := func(string) error {
		if IsMountPoint(card) {
			return nil
		}
		return errors.New("its disk is not mounted")
	}
	l := listen(t, Options{Missing: missing}, map[string]int{in: 0})
	l.wait(Present, in)
	for range 5 {
		l.clear()
		// A sweep holds a folder open for an instant, and another mount anywhere has all swept.
		require.Eventually(t, func() bool { return unix.Unmount(card, 0) != unix.EBUSY }, waitAtMost, tick,
			"no descriptor keeps it busy")
		require.False(t, IsMountPoint(card))
		l.wait(Absent, in)
		stranger := touch(t, filepath.Join(mkdir(t, in), "stranger"))
		l.w.Sweep()
		l.wait(Swept, in)
		require.False(t, l.came(stranger))
		require.NoError(t, os.RemoveAll(in))
		mount()
		f := touch(t, filepath.Join(mkdir(t, in), "f"))
		l.wait(Present, in)
		require.Eventually(t, func() bool { return l.count(Closed, f)+l.count(Found, f) > 0 }, waitAtMost, tick)
	}
}
