package watchfs

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// watchMounts sweeps when a file system is mounted or unmounted: inotify says
// nothing when something is mounted over a watched folder. The kernel wakes a
// poll for POLLPRI on the mount table when it changes (proc_pid_mountinfo(5)).
func (w *Watcher) watchMounts() {
	// Not os.Open: the runtime would poll the file, too, and each change wakes
	// only the first who asks.
	table, err := unix.Open("/proc/self/mountinfo", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return // without /proc the safety sweep finds it later
	}
	defer unix.Close(table)
	var pipe [2]int
	if unix.Pipe2(pipe[:], unix.O_CLOEXEC) != nil {
		return
	}
	defer unix.Close(pipe[0])
	w.done.Go(func() {
		<-w.stop
		unix.Close(pipe[1])
	})
	fds := []unix.PollFd{{Fd: int32(table), Events: unix.POLLPRI}, {Fd: int32(pipe[0]), Events: unix.POLLIN}}
	for {
		if _, err := unix.Poll(fds, -1); err != nil && err != unix.EINTR {
			return
		}
		if fds[1].Revents != 0 {
			return
		}
		if fds[0].Revents != 0 {
			w.Sweep()
		}
	}
}

// MountPoint returns the mount point that a path lies on, "" if it is not known.
func MountPoint(path string) string {
	best := ""
	for _, point := range mountPoints() {
		inside := point == "/" || path == point || strings.HasPrefix(path, point+"/")
		if inside && len(point) > len(best) {
			best = point
		}
	}
	return best
}

// ListedMounts returns the mount points that a table of file systems names (fstab(5)), but
// for the root's.
func ListedMounts(table string) (points []string) {
	text, err := os.ReadFile(table)
	if err != nil {
		return nil
	}
	for _, line := range strings.Split(string(text), "\n") {
		fields := strings.Fields(line)
		if len(fields) < 3 || strings.HasPrefix(fields[0], "#") || !strings.HasPrefix(fields[1], "/") ||
			fields[1] == "/" {
			continue
		}
		points = append(points, filepath.Clean(unescaped(fields[1])))
	}
	return points
}

// IsMountPoint reports whether something is mounted at a path now (statx(2),
// STATX_ATTR_MOUNT_ROOT; older systems have it in the mount table).
func IsMountPoint(path string) bool {
	var st unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW|unix.AT_NO_AUTOMOUNT|unix.AT_STATX_DONT_SYNC, 0,
		&st)
	if err == nil && st.Attributes_mask&unix.STATX_ATTR_MOUNT_ROOT != 0 {
		return st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0
	}
	return slices.Contains(mountPoints(), path)
}

// mountPoints reads the fifth field of each line of proc_pid_mountinfo(5),
// where spaces and such are written as octal numbers.
func mountPoints() []string {
	table, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	var points []string
	for _, line := range strings.Split(string(table), "\n") {
		if fields := strings.Fields(line); len(fields) > 4 {
			points = append(points, unescaped(fields[4]))
		}
	}
	return points
}

// unescaped reads a path of a table in which fields are parted by spaces.
func unescaped(field string) string { return escapes.Replace(field) }

var escapes = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)
