//go:build !linux

package held

import (
	"errors"
	"os"
	"strings"
	"syscall"

	"stilltide/internal/core/file"
	"stilltide/internal/watchfs"
)

// descriptor is an open file that is held.
type descriptor struct{ *os.File }

func (h descriptor) Facts() (file.Facts, error) {
	info, err := h.Stat()
	if err != nil {
		return file.Facts{}, err
	}
	return watchfs.Facts(info), nil
}

// StatIn returns the facts of a name in an open folder.
func StatIn(d *Folder, name string) (file.Facts, error) {
	info, err := d.Root.Lstat(name)
	if err != nil {
		return file.Facts{}, err
	}
	return watchfs.Facts(info), nil
}

// openHeld opens a regular file for holding it.
func openHeld(d *Folder, name string) (File, error) {
	f, err := d.Read(name)
	if err != nil {
		return nil, err
	}
	return descriptor{f}, nil
}

// Read opens a regular file of the folder.
func (d *Folder) Read(name string) (*os.File, error) {
	info, err := d.Root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errNotRegular(d.At(name))
	}
	f, err := d.Root.Open(name)
	if err != nil {
		return nil, err
	}
	return regular(f)
}

func renameNew(from *Folder, name string, d *Folder, as string) error {
	return linkNew(from.At(name), d.At(as))
}

// IsCrossDevice knows EXDEV and, on Windows, ERROR_NOT_SAME_DEVICE.
func IsCrossDevice(err error) bool {
	var no syscall.Errno
	if !errors.As(err, &no) {
		return false
	}
	return no == syscall.EXDEV || no == 17 && strings.Contains(no.Error(), "different disk")
}

// beginFlush has nothing to do where a part of a file cannot be flushed alone.
func beginFlush(*os.File, int64, int64) {}

// flushFolder does nothing where a folder cannot be flushed on its own.
func flushFolder(*os.File) error { return nil }

func isSparse(os.FileInfo) bool { return false }

func clone(_, _ *os.File) bool { return false }

func copyXattrs(_, _ *os.File) ([]string, error) { return nil, nil }

func exchange(*Folder, string, string) error { return ErrNoExchange }

// keepOwner leaves the owner as it is: the user who runs the watcher.
func keepOwner(*os.File, os.FileInfo) bool { return true }

// linkIn makes a second name of a file.
func linkIn(from *Folder, name string, d *Folder, as string) error {
	return os.Link(from.At(name), d.At(as))
}

// mayTake is not known before it is tried on this system.
func mayTake(*Folder) error { return nil }
