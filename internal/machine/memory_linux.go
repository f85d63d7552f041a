package machine

import (
	"os"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

// enough is what the tests of a package take at most, in bytes, with room to spare.
const enough = 4 << 30

// roomInMemory reports whether the file system in memory is one, has room, and lets programs be started.
func roomInMemory() bool {
	var fs unix.Statfs_t
	return unix.Statfs(memory, &fs) == nil && fs.Type == unix.TMPFS_MAGIC && fs.Flags&unix.ST_NOEXEC == 0 &&
		fs.Bavail*uint64(fs.Bsize) >= enough
}

// device returns the file system that a folder is on.
func device(t testing.TB, dir string) uint64 {
	t.Helper()
	info, err := os.Stat(dir)
	if err != nil {
		t.Fatal(err)
	}
	return info.Sys().(*syscall.Stat_t).Dev
}
