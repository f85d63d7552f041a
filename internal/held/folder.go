// Package held opens folders, holds them open, and does what is done to files in them by the
// descriptors: whatever happens to the names on the way there meanwhile, it happens to the folder
// that was opened. Package place decides what is done.
package held

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// Folder is an open folder, of a source or a target. What is done in it goes by its
// descriptor, so a link that is swapped in for one of the folders above it
// changes nothing.
type Folder struct {
	Path string
	Root *os.Root
	Dir  *os.File // the same folder, for what os.Root cannot do

	Made  int          // how many folders were made on the way, this one included
	Ended func() error // an error (job.ErrStopped) when work in it is to end
}

// openFolder opens a destination and makes what is missing of it. root may
// pass through links; rel, which was filled from the names of files, may not.
func openFolder(root, rel string) (*Folder, error) {
	path := filepath.Join(root, rel)
	made := missing(root)
	if err := os.MkdirAll(root, 0o777); err != nil {
		return nil, CannotMake(root, err)
	}
	d, err := openThrough(root, rel, func(r *os.Root, name string) (*os.Root, error) {
		if err := r.Mkdir(name, 0o777); err == nil {
			made++
		} else if !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
		return openBelow(r, name)
	})
	if err != nil {
		RemoveMade(path, made)
		return nil, CannotMake(path, err)
	}
	d.Made = made
	return d, nil
}

// missing counts the folders that making a path would make.
func missing(path string) (n int) {
	for ; path != filepath.Dir(path); path = filepath.Dir(path) {
		if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
			break
		}
		n++
	}
	return n
}

// RemoveMade removes a folder and those above it, n in all, as far as they are empty.
func RemoveMade(path string, n int) {
	for ; n > 0 && path != filepath.Dir(path); path = filepath.Dir(path) {
		switch err := syscall.Rmdir(path); {
		case err == nil:
			n--
		case !errors.Is(err, fs.ErrNotExist):
			return
		}
	}
}

// ErrInTheWay says that a part of a folder's path is there as a file.
var ErrInTheWay = errors.New("a file is there in its place")

// ErrSwapped says that a folder on the way from the watched folder to the source is a
// link now. The watcher has not followed it, so whatever is behind it is no file of a rule.
var ErrSwapped = errors.New("a folder on the way to it is a link now, and links below a watched folder are not " +
	"followed")

// openSource opens the folder that a source lies in. The way from root to it may not
// pass through links.
func openSource(root, rel string) (*Folder, error) {
	d, err := openThrough(root, rel, openBelow)
	if errors.Is(err, ErrLink) {
		return nil, fmt.Errorf("%s: %w", filepath.Join(root, rel), ErrSwapped)
	}
	return d, err
}

// openThrough opens root, and from there one folder inside the other.
func openThrough(root, rel string, inside func(*os.Root, string) (*os.Root, error)) (*Folder, error) {
	path := filepath.Join(root, rel)
	r, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	for _, name := range strings.FieldsFunc(filepath.ToSlash(rel), func(c rune) bool { return c == '/' }) {
		inner, err := inside(r, name)
		r.Close()
		if err != nil {
			return nil, err
		}
		r = inner
	}
	dir, err := r.Open(".")
	if err != nil {
		r.Close()
		return nil, fmt.Errorf("the folder %s %w: %w", path, errOpen, Reason(err))
	}
	return &Folder{Path: path, Root: r, Dir: dir}, nil
}

var errOpen = errors.New("cannot be opened")

// ErrLink says that a part of a path is a link that may be none.
var ErrLink = errors.New("a part of it that came from a placeholder is a link, and such links are not followed")

// openBelow opens one folder inside another, and never through a link.
func openBelow(r *os.Root, name string) (*os.Root, error) {
	info, err := r.Lstat(name)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return nil, ErrLink
	}
	if !info.IsDir() {
		return nil, ErrInTheWay
	}
	inner, err := r.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	if opened, err := inner.Stat("."); err != nil || !os.SameFile(info, opened) {
		inner.Close()
		return nil, errors.Join(ErrLink, err)
	}
	return inner, nil
}

// CannotMake says in a sentence why a folder cannot be made.
func CannotMake(path string, err error) error {
	if errors.Is(err, errOpen) {
		return err
	}
	if errors.Is(err, syscall.ENOTDIR) || errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("the folder %s cannot be made: %w", path, ErrInTheWay)
	}
	return fmt.Errorf("the folder %s cannot be made: %w", path, Reason(err))
}

// At returns the path of a name in the folder.
func (d *Folder) At(name string) string {
	if strings.HasSuffix(d.Path, string(filepath.Separator)) { // the root of a file system
		return d.Path + name
	}
	return d.Path + string(filepath.Separator) + name
}

// Close closes the folder.
func (d *Folder) Close() {
	d.Dir.Close()
	d.Root.Close()
}

// regular returns an open file on if it is a regular one, and closes it otherwise.
func regular(f *os.File) (*os.File, error) {
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = errNotRegular(f.Name())
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func errNotRegular(path string) error {
	return &os.PathError{Op: "open", Path: path, Err: errors.New("it is not a regular file")}
}
