package watchfs

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Writer is a process that has a file open for writing.
type Writer struct {
	PID     int
	Program string
}

// untilSeen is how long a file that is being made may be open before its descriptor can be seen: the file is there, and
// is announced, before open(2) has returned.
const untilSeen = 20 * time.Millisecond

// WhoWrites finds the processes that have a file open for writing, among
// those that this user may look at (proc_pid_fd(5), proc_pid_fdinfo(5)).
func WhoWrites(path string) []Writer {
	found := writersNow(path)
	if len(found) == 0 {
		time.Sleep(untilSeen)
		found = writersNow(path)
	}
	return found
}

func writersNow(path string) []Writer {
	want, err := os.Stat(path)
	if err != nil {
		return nil
	}
	processes, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	var found []Writer
	for _, p := range processes {
		pid, err := strconv.Atoi(p.Name())
		if err == nil && pid != os.Getpid() && writes(pid, want) {
			program, _ := os.ReadFile(filepath.Join("/proc", p.Name(), "comm"))
			found = append(found, Writer{pid, strings.TrimSpace(string(program))})
		}
	}
	return found
}

func writes(pid int, want os.FileInfo) bool {
	dir := filepath.Join("/proc", strconv.Itoa(pid))
	fds, err := os.ReadDir(filepath.Join(dir, "fd"))
	if err != nil {
		return false
	}
	for _, fd := range fds {
		info, err := os.Stat(filepath.Join(dir, "fd", fd.Name()))
		if err == nil && os.SameFile(info, want) && openForWriting(filepath.Join(dir, "fdinfo", fd.Name())) {
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
