//go:build !linux

package place

import (
	"errors"
	"os"
	"strings"
	"syscall"

	"stilltide/internal/core/file"
	"stilltide/internal/watchfs"
)

// held is an open file that is held.
type held struct{ *os.File }

func (h held) Facts() (file.Facts, error) {
	info, err := h.Stat()
	if err != nil {
		return file.Facts{}, err
	}
	return watchfs.Facts(info), nil
}

// statIn returns the facts of a name in an open folder.
func statIn(d *folder, name string) (file.Facts, error) {
	info, err := d.root.Lstat(name)
	if err != nil {
		return file.Facts{}, err
	}
	return watchfs.Facts(info), nil
}

// openHeld opens a regular file for holding it.
func openHeld(d *folder, name string) (heldFile, error) {
	f, err := d.read(name)
	if err != nil {
		return nil, err
	}
	return held{f}, nil
}

// read opens a regular file of the folder.
func (d *folder) read(name string) (*os.File, error) {
	info, err := d.root.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errNotRegular(d.at(name))
	}
	f, err := d.root.Open(name)
	if err != nil {
		return nil, err
	}
	return regular(f)
}

func renameNew(from *folder, name string, d *folder, as string) error {
	return linkNew(from.at(name), d.at(as))
}

// isCrossDevice knows EXDEV and, on Windows, ERROR_NOT_SAME_DEVICE.
func isCrossDevice(err error) bool {
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

func copyXattrs(_, _ *os.File) ([]string, error) { return nil, nil }

func exchange(*folder, string, string) error { return errNoExchange }

// keepOwner leaves the owner as it is: the user who runs the watcher.
func keepOwner(*os.File, os.FileInfo) bool { return true }

// linkIn makes a second name of a file.
func linkIn(from *folder, name string, d *folder, as string) error {
	return os.Link(from.at(name), d.at(as))
}
