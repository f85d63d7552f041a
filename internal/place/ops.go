package place

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/watchfs"
)

// ops are the operations on files, one by one, so that a test can let each of
// them fail.
type ops interface {
	Stat(path string) (file.Facts, error)
	// Discard removes a part-file of ours; it is no error if it is not there.
	Discard(path string) error
	// Preserve gives a file a second name, or copies it where it cannot have one.
	Preserve(from, to string) error

	// Open opens a destination folder, made as needed.
	Open(root, rel string) (*folder, error)
	// OpenSource opens a folder that is there.
	OpenSource(root, rel string) (*folder, error)
	StatIn(d *folder, name string) (file.Facts, error)
	// Hold opens a file without following a link; the descriptor stays with
	// the file whatever happens to its name.
	Hold(d *folder, name string) (heldFile, error)
	// Rename brings a file from one folder into another, or the same, and never
	// replaces: it fails with fs.ErrExist.
	Rename(from *folder, name string, d *folder, as string) error
	// Remove removes a file, or an empty folder.
	Remove(d *folder, name string) error
	// RemoveAll removes a folder with all that lies inside.
	RemoveAll(d *folder, name string) error
	// Exchange swaps two names of a folder in one instant.
	Exchange(d *folder, a, b string) error
	// Copy makes a flushed copy with mode, times and extended attributes.
	// lost names the attributes that the target cannot hold.
	// whole says that the original is to go: its owner is kept then, too, where
	// this user may, and otherwise "owner" is lost.
	Copy(from *folder, name string, d *folder, as string, whole bool) (lost []string, err error)
	// Adopt gives a file the mode, owner and extended attributes of another.
	Adopt(d *folder, from, to string) error
	// Dress gives a file the mode and the time that another had.
	Dress(d *folder, name string, f file.Facts) error
	Write(d *folder, name string, content []byte) error
	// Link makes a second name of a file (a hard link), or a symbolic link that leads to a path.
	Link(from *folder, name string, d *folder, as string) error
	Symlink(to string, d *folder, name string) error
	Flush(d *folder) error
	DiscardIn(d *folder, name string) error
}

type heldFile interface {
	Facts() (file.Facts, error)
	Close() error
}

// realOps works on the real file system.
type realOps struct {
	stop, cancel <-chan struct{} // either ends what is under way
}

func (o realOps) ended() error {
	select {
	case <-o.stop:
		return job.ErrStopped
	case <-o.cancel:
		return job.ErrStopped
	default:
		return nil
	}
}

// with has a folder know when work in it is to end.
func (o realOps) with(d *folder, err error) (*folder, error) {
	if err != nil {
		return nil, err
	}
	d.ended = o.ended
	return d, nil
}

func (realOps) Stat(path string) (file.Facts, error)           { return watchfs.Stat(path) }
func (o realOps) Open(root, rel string) (*folder, error)       { return o.with(openFolder(root, rel)) }
func (o realOps) OpenSource(root, rel string) (*folder, error) { return o.with(openSource(root, rel)) }
func (realOps) Hold(d *folder, name string) (heldFile, error)  { return openHeld(d, name) }
func (realOps) Remove(d *folder, name string) error            { return d.root.Remove(name) }
func (realOps) RemoveAll(d *folder, name string) error         { return d.root.RemoveAll(name) }
func (realOps) Exchange(d *folder, a, b string) error          { return exchange(d, a, b) }
func (realOps) Flush(d *folder) error                          { return flushFolder(d.dir) }

func (realOps) Rename(from *folder, name string, d *folder, as string) error {
	return renameNew(from, name, d, as)
}

func (realOps) StatIn(d *folder, name string) (file.Facts, error) {
	f, err := statIn(d, name)
	if errors.Is(err, fs.ErrNotExist) {
		return file.Facts{}, nil
	}
	return f, err
}

func (realOps) Discard(path string) error {
	if err := removeUnit(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (realOps) DiscardIn(d *folder, name string) error { return d.root.RemoveAll(name) }

func (o realOps) Preserve(from, to string) error {
	if err := os.Link(from, to); err == nil {
		return nil
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = o.copyInto(in, out, func(t time.Time) error { return os.Chtimes(to, t, t) }, false)
	return err
}

func (realOps) Adopt(d *folder, from, to string) error {
	in, err := d.root.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := d.root.OpenFile(to, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer out.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	_ = keepOwner(out, info)
	if _, err := copyXattrs(in, out); err != nil {
		return err
	}
	return out.Chmod(info.Mode().Perm())
}

func (realOps) Dress(d *folder, name string, f file.Facts) error {
	out, err := d.root.Open(name) // its mode may allow no writing
	if err != nil {
		return err
	}
	defer out.Close()
	if f.Mode != 0 { // ledgers of before did not record it
		err = out.Chmod(os.FileMode(f.Mode).Perm())
	}
	return errors.Join(err, d.root.Chtimes(name, f.Mod.Time(), f.Mod.Time()), out.Sync())
}

func (realOps) Write(d *folder, name string, content []byte) error {
	f, err := d.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

func (realOps) Link(from *folder, name string, d *folder, as string) error {
	return linkIn(from, name, d, as)
}

func (realOps) Symlink(to string, d *folder, name string) error { return d.root.Symlink(to, name) }

func (o realOps) Copy(from *folder, name string, d *folder, as string, whole bool) (lost []string, err error) {
	f, err := statIn(from, name)
	if err != nil {
		return nil, err
	}
	if f.Dir {
		return o.copyTree(from, name, d.root, as, whole)
	}
	return o.copyFile(from, name, d.root, as, whole)
}

// copyFile copies one file that is no link.
func (o realOps) copyFile(from *folder, name string, root *os.Root, as string, whole bool) (lost []string,
	err error) {
	in, err := from.read(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	out, err := root.OpenFile(as, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	return o.copyInto(in, out, func(t time.Time) error { return root.Chtimes(as, t, t) }, whole)
}

// copyInto copies content and attributes, flushes and closes the copy.
func (o realOps) copyInto(in, out *os.File, setTimes func(time.Time) error, whole bool) (lost []string, err error) {
	info, err := in.Stat()
	if err != nil {
		return nil, errors.Join(err, out.Close())
	}
	n, err := o.copyContent(in, out)
	if err == nil && n != info.Size() {
		err = job.ErrChanged
	}
	if err == nil {
		lost, err = keepAttributes(in, out, info, setTimes, whole)
	}
	if err == nil {
		err = out.Sync()
	}
	return lost, errors.Join(err, out.Close())
}

// stretch is how much is copied before the disk is told to begin with it, so
// that it works while the rest is read, and the flush at the end is short.
const stretch = 1 << 20

// copyContent copies in the kernel, where it can.
func (o realOps) copyContent(in, out *os.File) (n int64, err error) {
	for {
		if err := o.ended(); err != nil {
			return n, err
		}
		more, err := io.CopyN(out, in, stretch)
		if more > 0 {
			beginFlush(out, n, more)
		}
		n += more
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// keepAttributes gives the copy the mode, times and extended attributes of
// its original.
func keepAttributes(in, out *os.File, info fs.FileInfo, setTimes func(time.Time) error, whole bool) (lost []string,
	err error) {
	if lost, err = copyXattrs(in, out); err != nil {
		return lost, err
	}
	mode := info.Mode().Perm()
	if whole && keepOwner(out, info) {
		mode = info.Mode() & (fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky)
	} else if whole {
		lost = append(lost, "owner")
	}
	if err := out.Chmod(mode); err != nil {
		return lost, err
	}
	return lost, setTimes(info.ModTime())
}

// reason takes the operation and path from a system error, for messages that
// name the path themselves.
func reason(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	var le *os.LinkError
	if errors.As(err, &le) {
		return le.Err
	}
	return err
}

// cannot says in a sentence what could not be done with a file.
func cannot(path, what string, err error) error {
	return fmt.Errorf("%s cannot be %s: %w", path, what, reason(err))
}
