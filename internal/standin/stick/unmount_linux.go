package stick

import (
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// Unmount ends a file system that this process serves. What the system still holds of it, a file that a process has
// closed a moment ago, does not keep it in its place.
func Unmount(server *fuse.Server, at string) error {
	if err := server.Unmount(); err != nil {
		return unix.Unmount(at, unix.MNT_DETACH)
	}
	return nil
}
