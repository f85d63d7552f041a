package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// folder is an open destination folder. What is done in it goes by its
// descriptor, so a link that is swapped in for one of the folders above it
// changes nothing.
type folder struct {
	path string
	root *os.Root
	dir  *os.File // the same folder, for what os.Root cannot do
}

// openFolder opens a destination and makes what is missing of it. root may
// pass through links; rel, which was filled from the names of files, may not.
func openFolder(root, rel string) (*folder, error) {
	path := filepath.Join(root, rel)
	if err := os.MkdirAll(root, 0o777); err != nil {
		return nil, cannotMake(root, err)
	}
	r, err := os.OpenRoot(root)
	if err != nil {
		return nil, cannotMake(root, err)
	}
	for _, name := range strings.FieldsFunc(filepath.ToSlash(rel), func(c rune) bool { return c == '/' }) {
		inner, err := openBelow(r, name)
		r.Close()
		if err != nil {
			return nil, cannotMake(path, err)
		}
		r = inner
	}
	dir, err := r.Open(".")
	if err != nil {
		r.Close()
		return nil, fmt.Errorf("the folder %s cannot be opened: %w", path, reason(err))
	}
	return &folder{path: path, root: r, dir: dir}, nil
}

var errLink = errors.New("a part of it that was filled is a link, and links are not followed there")

// openBelow opens one folder inside another, made if it is missing, and never
// through a link.
func openBelow(r *os.Root, name string) (*os.Root, error) {
	if err := r.Mkdir(name, 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	info, err := r.Lstat(name)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return nil, errLink
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
		return nil, errors.Join(errLink, err)
	}
	return inner, nil
}

func cannotMake(path string, err error) error {
	if errors.Is(err, syscall.ENOTDIR) || errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("the folder %s cannot be made: %w", path, ErrInTheWay)
	}
	return fmt.Errorf("the folder %s cannot be made: %w", path, reason(err))
}

// at is the path of a name in the folder.
func (d *folder) at(name string) string {
	if strings.HasSuffix(d.path, string(filepath.Separator)) { // the root of a file system
		return d.path + name
	}
	return d.path + string(filepath.Separator) + name
}

func (d *folder) close() {
	d.dir.Close()
	d.root.Close()
}
