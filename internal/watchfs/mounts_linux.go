package watchfs

import (
	"os"

	"golang.org/x/sys/unix"
)

// watchMounts sweeps when a file system is mounted or unmounted: inotify says
// nothing when something is mounted over a watched folder. The kernel wakes a
// poll for POLLPRI on the mount table when it changes (proc_pid_mountinfo(5)).
func (w *Watcher) watchMounts() {
	table, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return // without /proc the safety sweep finds it later
	}
	defer table.Close()
	var pipe [2]int
	if unix.Pipe2(pipe[:], unix.O_CLOEXEC) != nil {
		return
	}
	defer unix.Close(pipe[0])
	w.done.Go(func() {
		<-w.stop
		unix.Close(pipe[1])
	})
	fds := []unix.PollFd{{Fd: int32(table.Fd()), Events: unix.POLLPRI}, {Fd: int32(pipe[0]), Events: unix.POLLIN}}
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
