package held

import (
	"errors"
	"os"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
	"stilltide/internal/watchfs"
)

// descriptor is the descriptor of a file that is held.
type descriptor int

// openHeld opens a file for holding it: no link is followed, nothing is read.
func openHeld(d *Folder, name string) (File, error) {
	fd, err := unix.Openat(int(d.Dir.Fd()), name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: d.At(name), Err: err}
	}
	return descriptor(fd), nil
}

// Read opens a regular file of the folder, and never through a link.
func (d *Folder) Read(name string) (*os.File, error) {
	for {
		fd, err := unix.Openat(int(d.Dir.Fd()), name,
			unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_NOCTTY|unix.O_CLOEXEC, 0)
		if err == nil {
			return regular(os.NewFile(uintptr(fd), d.At(name)))
		}
		if err != unix.EINTR {
			return nil, &os.PathError{Op: "open", Path: d.At(name), Err: err}
		}
	}
}

func (h descriptor) Close() error { return unix.Close(int(h)) }

func (h descriptor) Facts() (file.Facts, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(h), &st); err != nil {
		return file.Facts{}, os.NewSyscallError("fstat", err)
	}
	return watchfs.FromStat(&st), nil
}

// StatIn returns the facts of a name in an open folder.
func StatIn(d *Folder, name string) (file.Facts, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(int(d.Dir.Fd()), name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return file.Facts{}, &os.PathError{Op: "look at", Path: d.At(name), Err: err}
	}
	return watchfs.FromStat(&st), nil
}

// renameNew renames and never replaces (renameat2(2)). Where the file system
// lacks that, link and unlink do the same in two steps, of which the first
// refuses to replace.
func renameNew(from *Folder, name string, d *Folder, as string) error {
	err := unix.Renameat2(int(from.Dir.Fd()), name, int(d.Dir.Fd()), as, unix.RENAME_NOREPLACE)
	if noSuchFlag(err) {
		return linkNew(from.At(name), d.At(as))
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from.At(name), New: d.At(as), Err: err}
	}
	return nil
}

func noSuchFlag(err error) bool {
	return errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENOTSUP)
}

// linkIn makes a second name of a file (linkat(2)).
func linkIn(from *Folder, name string, d *Folder, as string) error {
	if err := unix.Linkat(int(from.Dir.Fd()), name, int(d.Dir.Fd()), as, 0); err != nil {
		return &os.LinkError{Op: "link", Old: from.At(name), New: d.At(as), Err: err}
	}
	return nil
}

// exchange swaps two names (renameat2(2), RENAME_EXCHANGE). Where the file
// system lacks that, ErrNoExchange says so.
func exchange(d *Folder, a, b string) error {
	fd := int(d.Dir.Fd())
	err := unix.Renameat2(fd, a, fd, b, unix.RENAME_EXCHANGE)
	if noSuchFlag(err) {
		return ErrNoExchange
	}
	if err != nil {
		return &os.LinkError{Op: "exchange", Old: d.At(a), New: d.At(b), Err: err}
	}
	return nil
}

// mayTake returns an error if files may not be taken out of a folder, by this user or at all (access(2)).
func mayTake(d *Folder) error { return unix.Faccessat(int(d.Dir.Fd()), ".", unix.W_OK|unix.X_OK, 0) }

// IsCrossDevice reports whether two names are on different file systems (EXDEV).
func IsCrossDevice(err error) bool { return errors.Is(err, unix.EXDEV) }

func flushFolder(d *os.File) error {
	err := d.Sync()
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOTSUP) {
		return nil // this file system has nothing to flush
	}
	return err
}

// beginFlush has the disk begin to write a part of a file (sync_file_range(2)).
// It promises nothing: the flush at the end does.
func beginFlush(f *os.File, from, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), from, n, unix.SYNC_FILE_RANGE_WRITE)
}

// isSparse reports whether a file takes less room than its size: it has holes, or is compressed.
func isSparse(info os.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && st.Blocks*512 < st.Size // stat(2) counts in 512 bytes
}

// clone makes a file the same as another without a copy (ioctl_ficlone(2)), where the file system can.
func clone(in, out *os.File) bool { return unix.IoctlFileClone(int(out.Fd()), int(in.Fd())) == nil }

// copyXattrs copies the extended attributes that the target can hold, and
// names the ones that it cannot.
func copyXattrs(in, out *os.File) (lost []string, err error) {
	size, err := unix.Flistxattr(int(in.Fd()), nil)
	if err != nil || size == 0 {
		return nil, nil // none, or a file system without any
	}
	names := make([]byte, size)
	if size, err = unix.Flistxattr(int(in.Fd()), names); err != nil {
		return nil, nil
	}
	for _, name := range strings.Split(strings.TrimRight(string(names[:size]), "\x00"), "\x00") {
		switch err := copyXattr(in, out, name); {
		case err == nil:
		case !lacksXattr(err):
			return lost, err
		case strings.HasPrefix(name, "user."): // the others belong to the system of that disk
			lost = append(lost, name)
		}
	}
	return lost, nil
}

func copyXattr(in, out *os.File, name string) error {
	size, err := unix.Fgetxattr(int(in.Fd()), name, nil)
	if err != nil {
		return err
	}
	value := make([]byte, size)
	if size, err = unix.Fgetxattr(int(in.Fd()), name, value); err != nil {
		return err
	}
	return unix.Fsetxattr(int(out.Fd()), name, value[:size], 0)
}

// keepOwner gives a file its original's owner, where this user may; it tells whether that
// is the owner now.
func keepOwner(f *os.File, info os.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && f.Chown(int(st.Uid), int(st.Gid)) == nil
}

func lacksXattr(err error) bool {
	return errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENODATA) ||
		errors.Is(err, unix.EACCES)
}
