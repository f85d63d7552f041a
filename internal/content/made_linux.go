package content

import (
	"time"

	"golang.org/x/sys/unix"
)

// Made returns when a file was made (statx(2), STATX_BTIME). ok is false where the file system
// does not know.
func Made(path string) (at time.Time, ok bool) {
	var s unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BTIME, &s)
	if err != nil || s.Mask&unix.STATX_BTIME == 0 || s.Btime.Sec == 0 {
		return time.Time{}, false
	}
	return time.Unix(s.Btime.Sec, int64(s.Btime.Nsec)), true
}
