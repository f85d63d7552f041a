//go:build !linux

package watchfs

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"stilltide/internal/core/file"
)

// Looker looks at many files, one after the other.
type Looker struct{}

// Close ends it.
func (*Looker) Close() {}

// LookBelow is LookAny for a path below a watched folder. Behind a link on the way from
// there it sees nothing: a link that comes to stand in a folder's place is not followed.
func (*Looker) LookBelow(root, path string) (file.Facts, error) {
	rel, err := filepath.Rel(root, filepath.Dir(path))
	if err != nil || rel == "." || !filepath.IsLocal(rel) {
		return LookAny(path)
	}
	at := root
	for _, name := range strings.Split(rel, string(filepath.Separator)) {
		at = filepath.Join(at, name)
		if info, err := os.Lstat(at); err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return file.Facts{}, nil
		}
	}
	return LookAny(path)
}

// OpenKnown opens a file or folder for reading, if it is the one with these facts. root is
// the watched folder that it lies below, "" if it lies elsewhere.
func OpenKnown(root, path string, want file.Facts) (*os.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil {
		if now := Facts(info); now.Regular != want.Regular || now.Dir != want.Dir || now.Ino != want.Ino {
			err = &os.PathError{Op: "open", Path: path, Err: errOther}
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
