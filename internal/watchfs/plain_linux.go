package watchfs

import (
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// plain is what OpenPlain opens. An os.File would be offered to the poller, which does not take
// regular files, and be watched over by the collector; for a small file that takes as long as to
// read it.
type plain int

// OpenPlain opens a regular file that is read once, and at once; root is the watched folder that it
// lies below, "" if it lies elsewhere.
func OpenPlain(root, path string) (f plain, err error) {
	err = inFolder(root, path, func(dir int, name string) error {
		fd, err := openAt(dir, name, unix.O_RDONLY)
		if err != nil {
			return &os.PathError{Op: "open", Path: path, Err: err}
		}
		f = plain(fd)
		return nil
	})
	return f, err
}

func (f plain) Read(to []byte) (int, error) {
	for {
		n, err := unix.Read(int(f), to)
		switch {
		case err == unix.EINTR:
			continue
		case err != nil:
			return 0, os.NewSyscallError("read", err)
		case n == 0:
			return 0, io.EOF
		}
		return n, nil
	}
}

func (f plain) Close() error { return unix.Close(int(f)) }
