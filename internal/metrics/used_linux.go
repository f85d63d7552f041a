package metrics

import (
	"bytes"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// used reads what this process takes: getrusage(2), getrlimit(2), and proc(5).
func used() (u usage, ok bool) {
	var times unix.Rusage
	var files unix.Rlimit
	if unix.Getrusage(unix.RUSAGE_SELF, &times) != nil || unix.Getrlimit(unix.RLIMIT_NOFILE, &files) != nil {
		return u, false
	}
	u.processor = time.Duration(times.Utime.Nano() + times.Stime.Nano())
	u.most = int(min(files.Cur, 1<<31))
	text, err := os.ReadFile("/proc/self/statm") // in pages: size, resident, and more
	fields := bytes.Fields(text)
	if err != nil || len(fields) < 2 {
		return u, false
	}
	pages, err := strconv.ParseInt(string(fields[1]), 10, 64)
	if err != nil {
		return u, false
	}
	u.memory = pages * int64(os.Getpagesize())
	open, err := os.ReadDir("/proc/self/fd")
	u.files = len(open)
	return u, err == nil
}
