package held

import (
	"fmt"
	"io/fs"
	"os"
	"time"

	"stilltide/internal/core/plan"
)

// copyTree copies a whole folder to a new one below root: files with all
// their attributes, links as links (never followed), everything flushed.
// Sockets, devices and FIFOs have no content to copy and are refused.
func (o System) copyTree(from *Folder, name string, root *os.Root, as string, whole bool) (lost []string,
	err error) {
	in, err := from.Inside(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if err := root.Mkdir(as, 0o700); err != nil {
		return nil, err
	}
	out, err := root.OpenRoot(as)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	err = in.Each(func(e fs.DirEntry) error {
		if plan.Hidden(e.Name()) {
			return nil // on its way by another job
		}
		missing, err := o.copyEntry(in, e, out, whole)
		lost = append(lost, missing...)
		return err
	})
	if err != nil {
		return lost, err
	}
	return lost, finishFolder(in, root, as, whole) // last: what is made inside changes a folder's times
}

func (o System) copyEntry(in *Folder, e fs.DirEntry, out *os.Root, whole bool) (lost []string, err error) {
	switch {
	case e.IsDir():
		return o.copyTree(in, e.Name(), out, e.Name(), whole)
	case e.Type()&fs.ModeSymlink != 0:
		link, err := in.Root.Readlink(e.Name())
		if err != nil {
			return nil, err
		}
		return nil, out.Symlink(link, e.Name())
	case e.Type().IsRegular():
		return o.copyFile(in, e.Name(), out, e.Name(), whole)
	}
	return nil, fmt.Errorf("%s is neither a file, a folder nor a link, and cannot be moved to another file system",
		in.At(e.Name()))
}

func finishFolder(in *Folder, root *os.Root, name string, whole bool) error {
	out, err := root.Open(name)
	if err != nil {
		return err
	}
	defer out.Close()
	info, err := in.Dir.Stat()
	if err != nil {
		return err
	}
	if _, err := keepAttributes(in.Dir, out, info, func(t time.Time) error { return root.Chtimes(name, t, t) },
		whole); err != nil {
		return err
	}
	return flushFolder(out)
}

// Inside opens a folder that lies in this one.
func (d *Folder) Inside(name string) (*Folder, error) {
	r, err := openBelow(d.Root, name)
	if err != nil {
		return nil, err
	}
	dir, err := r.Open(".")
	if err != nil {
		r.Close()
		return nil, err
	}
	return &Folder{Path: d.At(name), Root: r, Dir: dir, Ended: d.Ended}, nil
}

// Each calls f with each entry, until an error.
func (d *Folder) Each(f func(fs.DirEntry) error) error {
	dir, err := d.Root.Open(".")
	if err != nil {
		return err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(-1)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := d.Ended(); err != nil {
			return err
		}
		if err := f(e); err != nil {
			return err
		}
	}
	return nil
}

// Entries counts the files in a tree, and the folders in which there is nothing.
func (d *Folder) Entries() (n int, _ error) {
	err := d.Each(func(e fs.DirEntry) error {
		if !e.IsDir() {
			n++
			return nil
		}
		inside, err := d.Inside(e.Name())
		if err != nil {
			return err
		}
		defer inside.Close()
		more, err := inside.Entries()
		n += more
		return err
	})
	return max(n, 1), err
}

// removeUnit removes a file of ours, or a folder with all that lies inside.
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
