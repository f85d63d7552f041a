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

// statIn gives the facts of a name in an open folder.
func statIn(d *folder, name string) (file.Facts, error) {
	info, err := d.root.Lstat(name)
	if err != nil {
		return file.Facts{}, err
	}
	return watchfs.Facts(info), nil
}

// openHeld opens a regular file for holding it.
func openHeld(path string) (heldFile, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &os.PathError{Op: "open", Path: path, Err: errors.New("not a regular file")}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return held{f}, nil
}

func renameNew(from, to string) error { return linkNew(from, to) }

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

func renameInto(from string, d *folder, name string) error { return linkNew(from, d.at(name)) }

func renameIn(d *folder, from, to string) error { return linkNew(d.at(from), d.at(to)) }

func exchange(*folder, string, string) error { return errNoExchange }

// keepOwner leaves the owner as it is: the user who runs the watcher.
func keepOwner(*os.File, os.FileInfo) {}
