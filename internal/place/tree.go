package place

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// copyTree copies a whole folder: files with all their attributes, links as
// links (never followed), everything flushed. Sockets, devices and FIFOs have
// no content to copy and are refused.
func copyTree(from, to string) error {
	var folders []string
	err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		switch {
		case d.IsDir():
			folders = append(folders, rel)
			return os.Mkdir(target, 0o700)
		case d.Type()&fs.ModeSymlink != 0:
			link, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(link, target)
		case d.Type().IsRegular():
			return copyFile(path, target)
		}
		return fmt.Errorf("%s is neither file, folder nor link, and cannot go to another file system", path)
	})
	if err != nil {
		return err
	}
	for i := len(folders) - 1; i >= 0; i-- { // the innermost first: what is made inside changes a folder's times
		if err := finishFolder(filepath.Join(from, folders[i]), filepath.Join(to, folders[i])); err != nil {
			return err
		}
	}
	return nil
}

func finishFolder(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Open(to)
	if err != nil {
		return err
	}
	defer out.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	if err := keepAttributes(in, out, info); err != nil {
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
