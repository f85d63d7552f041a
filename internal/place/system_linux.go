package place

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// openHeld opens a path for holding it: no link is followed, nothing is read.
func openHeld(path string) (*os.File, error) {
	fd, err := unix.Open(path, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(fd), path), nil
}

// renameNew renames and never replaces (renameat2(2)). Where the file system
// lacks that, link and unlink do the same in two steps, of which the first
// refuses to replace.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENOTSUP) {
		return linkNew(from, to)
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}

func isCrossDevice(err error) bool { return errors.Is(err, unix.EXDEV) }

func flushFolder(d *os.File) error {
	err := d.Sync()
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOTSUP) {
		return nil // this file system has nothing to flush
	}
	return err
}

// copyXattrs copies the extended attributes that the target can hold.
func copyXattrs(in, out *os.File) error {
	size, err := unix.Flistxattr(int(in.Fd()), nil)
	if err != nil || size == 0 {
		return nil // none, or a file system without any
	}
	names := make([]byte, size)
	if size, err = unix.Flistxattr(int(in.Fd()), names); err != nil {
		return nil
	}
	for rest := names[:size]; len(rest) > 0; {
		end := 0
		for end < len(rest) && rest[end] != 0 {
			end++
		}
		name := string(rest[:end])
		rest = rest[min(end+1, len(rest)):]
		if err := copyXattr(in, out, name); err != nil && !lacksXattr(err) {
			return err
		}
	}
	return nil
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

func lacksXattr(err error) bool {
	return errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENODATA) || errors.Is(err, unix.EACCES)
}
