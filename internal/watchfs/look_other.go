//go:build !linux

package watchfs

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"stilltide/internal/core/file"
)

func gone(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// Look is Stat: this system has no way to ask whether somebody has a file
// open for writing, so Writers is Unknown and the file must hold still.
func Look(path string) (file.Facts, error) { return Stat(path) }

// LookIn is Look for a name in an open folder.
func LookIn(dir *os.File, name string) (file.Facts, error) {
	return Stat(filepath.Join(dir.Name(), name))
}

// StatIn is Stat for a name in an open folder.
func StatIn(dir *os.File, name string) (file.Facts, error) {
	return Stat(filepath.Join(dir.Name(), name))
}

// lstat returns the facts of a path that is there.
func lstat(path string) (file.Facts, error) {
	info, err := os.Lstat(path)
	if err != nil {
		return file.Facts{}, err
	}
	return Facts(info), nil
}

// OpenPlain opens a regular file that is read once, and at once; root is the watched folder that it
// lies below, "" if it lies elsewhere.
func OpenPlain(_, path string) (*os.File, error) { return os.Open(path) }

// openFolder opens a folder.
func openFolder(path string) (*os.File, error) { return os.Open(path) }

// Remote reports whether a path lies on a file system that sends no events. It
// is not known on this system.
func Remote(string) bool { return false }
