package watchfs

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"stilltide/internal/core/file"
)

// openBelow opens a folder that lies below another, without following a link on the way.
func openBelow(root, rel string) (fd int, err error) {
	top, err := openAt(unix.AT_FDCWD, root, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return -1, err
	}
	defer unix.Close(top)
	fd, err = openat2(top, rel)
	// an old kernel, or a sandbox that does not know the call
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) {
		return stepBelow(top, rel)
	}
	return fd, err
}

// openat2 is openat2(2) with RESOLVE_BENEATH and RESOLVE_NO_SYMLINKS.
func openat2(top int, rel string) (fd int, err error) {
	how := unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS}
	for {
		fd, err = unix.Openat2(top, rel, &how)
		if err != unix.EINTR && err != unix.EAGAIN {
			return fd, err
		}
	}
}

// stepBelow does the same one folder after the other.
func stepBelow(top int, rel string) (fd int, err error) {
	at := top
	for _, name := range strings.Split(rel, "/") {
		next, err := openAt(at, name, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW)
		if at != top {
			unix.Close(at)
		}
		if err != nil {
			return -1, err
		}
		at = next
	}
	return at, nil
}

// openAt is openat(2) for what is not to be made.
func openAt(dir int, name string, flags int) (fd int, err error) {
	for {
		fd, err = unix.Openat(dir, name, unix.O_CLOEXEC|flags, 0)
		if err != unix.EINTR {
			return fd, err
		}
	}
}

// inFolder calls f with the open folder that a path lies in and its name there: below a
// watched folder no link is followed on the way.
func inFolder(root, path string, f func(dir int, name string) error) error {
	var l Looker
	defer l.Close()
	return l.in(root, path, f)
}

// relBelow returns where a folder lies below a watched one; "" if that is itself, or none.
func relBelow(root, folder string) string {
	if len(folder) == len(root)+1 && strings.HasPrefix(folder, root) { // right in it, as most are
		return ""
	}
	rel, err := filepath.Rel(root, filepath.Clean(folder))
	if root == "" || err != nil || rel == "." || !filepath.IsLocal(rel) {
		return ""
	}
	return rel
}

// OpenKnown opens a file or folder for reading, if it is the one with these facts. root is
// the watched folder that it lies below, "" if it lies elsewhere.
func OpenKnown(root, path string, want file.Facts) (*os.File, error) {
	var f *os.File
	err := inFolder(root, path, func(dir int, name string) error {
		fd, err := unix.Openat(dir, name,
			unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC|unix.O_NOCTTY, 0)
		if err != nil {
			return &os.PathError{Op: "open", Path: path, Err: err}
		}
		f = os.NewFile(uintptr(fd), path)
		return nil
	})
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil {
		if now := Facts(info); now.Regular != want.Regular || now.Dir != want.Dir || now.Ino != want.Ino ||
			now.Dev != want.Dev {
			err = &os.PathError{Op: "open", Path: path, Err: errOther}
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Looker looks at many files, one after the other. It keeps the last folder open, because
// opening it costs more than a look. Use it from one goroutine, and close it soon: a folder
// that is replaced meanwhile is not noticed.
type Looker struct {
	root, folder string
	fd           int
	open         bool
}

// Close closes the folder that is open.
func (l *Looker) Close() {
	if l.open {
		unix.Close(l.fd)
	}
	l.open = false
}

// in is inFolder with the folder that is open, if it is that one.
func (l *Looker) in(root, path string, f func(dir int, name string) error) error {
	folder, name := filepath.Split(path)
	if l.open && folder == l.folder && root == l.root {
		return f(l.fd, name)
	}
	rel := relBelow(root, folder)
	if rel == "" {
		return f(unix.AT_FDCWD, path)
	}
	l.Close()
	fd, err := openBelow(root, rel)
	if err != nil {
		return &os.PathError{Op: "open", Path: filepath.Clean(folder), Err: err}
	}
	l.root, l.folder, l.fd, l.open = root, folder, fd, true
	return f(fd, name)
}

// LookBelow is LookAny for a path below a watched folder. Behind a link on the way from
// there it sees nothing: a link that comes to stand in a folder's place is not followed.
func (l *Looker) LookBelow(root, path string) (file.Facts, error) {
	return lookWhole(path, func() (f file.Facts, err error) {
		err = l.in(root, path, func(dir int, name string) error {
			f, err = lookAt(dir, name, path)
			return err
		})
		if errors.Is(err, unix.ELOOP) || err != nil && gone(err) {
			return file.Facts{}, nil
		}
		return f, err
	})
}
