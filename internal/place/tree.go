package place

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/plan"
)

// copyTree copies a whole folder to a new one below root: files with all
// their attributes, links as links (never followed), everything flushed.
// Sockets, devices and FIFOs have no content to copy and are refused.
func (o realOps) copyTree(from string, root *os.Root, name string) (lost []string, err error) {
	var folders []string
	err = filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if plan.Hidden(d.Name()) && path != from {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil // on its way by another job
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(name, rel)
		switch {
		case d.IsDir():
			folders = append(folders, rel)
			return root.Mkdir(target, 0o700)
		case d.Type()&fs.ModeSymlink != 0:
			link, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return root.Symlink(link, target)
		case d.Type().IsRegular():
			missing, err := o.copyFile(path, root, target)
			lost = append(lost, missing...)
			return err
		}
		return fmt.Errorf("%s is neither file, folder nor link, and cannot go to another file system", path)
	})
	if err != nil {
		return lost, err
	}
	for i := len(folders) - 1; i >= 0; i-- { // the innermost first: what is made inside changes a folder's times
		if err := finishFolder(filepath.Join(from, folders[i]), root, filepath.Join(name, folders[i])); err != nil {
			return lost, err
		}
	}
	return lost, nil
}

func finishFolder(from string, root *os.Root, name string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := root.Open(name)
	if err != nil {
		return err
	}
	defer out.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if _, err := keepAttributes(in, out, info, func(t time.Time) error { return root.Chtimes(name, t, t) }); err != nil {
		return err
	}
	return flushFolder(out)
}

// removeUnit removes a file, or a folder with all that lies inside.
func removeUnit(path string) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if info.IsDir() {
		return os.RemoveAll(path)
	}
	return os.Remove(path)
}
