package writers

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// untilSeen is how long a file that is being made may be open before its descriptor can be seen: the file is there, and
// is announced, before open(2) has returned.
const untilSeen = 20 * time.Millisecond

// Of finds the processes that have a file open for writing, among
// those that this user may look at (proc_pid_fd(5), proc_pid_fdinfo(5)).
func Of(path string) []Process {
	found := now(path)
	if len(found) == 0 {
		time.Sleep(untilSeen)
		found = now(path)
	}
	return found
}

func now(path string) []Process {
	want, err := identify(path, 0)
	if err != nil {
		return nil
	}
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var found []Process
	for _, p := range processes {
		pid, err := strconv.Atoi(p.Name())
		if err == nil && pid != os.Getpid() && writes(pid, want) {
			program, _ := os.ReadFile(filepath.Join("/proc", p.Name(), "comm"))
			found = append(found, Process{pid, strings.TrimSpace(string(program))})
		}
	}
	return found
}

// identity is which file one is.
type identity struct {
	major, minor uint32
	inode        uint64
}

func identify(path string, flags int) (identity, error) {
	var st unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, flags, unix.STATX_INO, &st)
	return identity{st.Dev_major, st.Dev_minor, st.Ino}, err
}

func writes(pid int, want identity) bool {
	dir := filepath.Join("/proc", strconv.Itoa(pid))
	fds, err := os.ReadDir(filepath.Join(dir, "fd"))
	if err != nil {
		return false
	}
	for _, fd := range fds {
		// What the kernel knows will do: a file system that does not answer is not asked (statx(2)).
		is, err := identify(filepath.Join(dir, "fd", fd.Name()), unix.AT_STATX_DONT_SYNC)
		if err == nil && is == want && openForWriting(filepath.Join(dir, "fdinfo", fd.Name())) {
			return true
		}
	}
	return false
}

func openForWriting(fdinfo string) bool {
	text, err := os.ReadFile(fdinfo)
	if err != nil {
		return false
	}
	for _, line := range strings.Split(string(text), "\n") {
		if rest, ok := strings.CutPrefix(line, "flags:"); ok {
			flags, err := strconv.ParseInt(strings.TrimSpace(rest), 8, 64)
			return err == nil && flags&unix.O_ACCMODE != unix.O_RDONLY
		}
	}
	return false
}
