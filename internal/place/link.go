package place

import (
	"errors"
	"io/fs"
	"os"
)

// linkNew renames in two steps of which the first refuses to replace. Killed
// in between, the file has both names, and the next start removes the first.
func linkNew(from, to string) error {
	err := os.Link(from, to)
	if err == nil {
		return os.Remove(from)
	}
	if errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) || isCrossDevice(err) {
		return err
	}
	// No hard links here: look, then rename.
	if _, statErr := os.Lstat(to); statErr == nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: fs.ErrExist}
	}
	return os.Rename(from, to)
}
