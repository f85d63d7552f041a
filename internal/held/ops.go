package held

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/watchfs"
)

// Ops are the operations on files, one by one, so that a test can let each of
// them fail.
type Ops interface {
	Stat(path string) (file.Facts, error)
	// Discard removes a part-file of ours; it is no error if it is not there.
	Discard(path string) error
	// Preserve gives a file a second name, or copies it where it cannot have one.
	Preserve(from, to string) error

	// Open opens a destination folder, made as needed.
	Open(root, rel string) (*Folder, error)
	// OpenSource opens a folder that is there.
	OpenSource(root, rel string) (*Folder, error)
	StatIn(d *Folder, name string) (file.Facts, error)
	// Hold opens a file without following a link; the descriptor stays with
	// the file whatever happens to its name.
	Hold(d *Folder, name string) (File, error)
	// Rename brings a file from one folder into another, or the same, and never
	// replaces: it fails with fs.ErrExist.
	Rename(from *Folder, name string, d *Folder, as string) error
	// Remove removes a file, or an empty folder.
	Remove(d *Folder, name string) error
	// RemoveAll removes a folder with all that lies inside.
	RemoveAll(d *Folder, name string) error
	// Exchange swaps two names of a folder in one instant; ErrNoExchange says that it cannot.
	Exchange(d *Folder, a, b string) error
	// Copy makes a flushed copy with mode, times and extended attributes.
	// lost names what the target cannot hold of them: attributes by their names, "permissions", "times".
	// whole says that the original is to go: its owner is kept then, too, where
	// this user may, and otherwise "owner" is lost.
	Copy(from *Folder, name string, d *Folder, as string, whole bool) (lost []string, err error)
	// Adopt gives a file the mode, owner and extended attributes of another.
	Adopt(d *Folder, from, to string) error
	// Dress gives a file the mode and the time that another had.
	Dress(d *Folder, name string, f file.Facts) error
	Write(d *Folder, name string, content []byte) error
	// Link makes a second name of a file (a hard link), or a symbolic link that leads to a path.
	Link(from *Folder, name string, d *Folder, as string) error
	Symlink(to string, d *Folder, name string) error
	Flush(d *Folder) error
	DiscardIn(d *Folder, name string) error
}

// ErrNoExchange says that two names cannot be swapped.
var ErrNoExchange = errors.New("this file system cannot swap two names")

// File is a file that is held open: its descriptor stays with it whatever happens to its name.
type File interface {
	Facts() (file.Facts, error)
	Close() error
}

// System works on the real file system.
type System struct {
	Stop, Cancel <-chan struct{} // either ends what is under way, with job.ErrStopped
}

func (o System) ended() error {
	select {
	case <-o.Stop:
		return job.ErrStopped
	case <-o.Cancel:
		return job.ErrStopped
	default:
		return nil
	}
}

// with has a folder know when work in it is to end.
func (o System) with(d *Folder, err error) (*Folder, error) {
	if err != nil {
		return nil, err
	}
	d.Ended = o.ended
	return d, nil
}

func (System) Stat(path string) (file.Facts, error)           { return watchfs.Stat(path) }
func (o System) Open(root, rel string) (*Folder, error)       { return o.with(openFolder(root, rel)) }
func (o System) OpenSource(root, rel string) (*Folder, error) { return o.with(openSource(root, rel)) }
func (System) Hold(d *Folder, name string) (File, error)      { return openHeld(d, name) }
func (System) Remove(d *Folder, name string) error            { return d.Root.Remove(name) }
func (System) RemoveAll(d *Folder, name string) error         { return d.Root.RemoveAll(name) }
func (System) Exchange(d *Folder, a, b string) error          { return exchange(d, a, b) }
func (System) Flush(d *Folder) error                          { return flushFolder(d.Dir) }

func (System) Rename(from *Folder, name string, d *Folder, as string) error {
	return renameNew(from, name, d, as)
}

func (System) StatIn(d *Folder, name string) (file.Facts, error) {
	f, err := StatIn(d, name)
	if errors.Is(err, fs.ErrNotExist) {
		return file.Facts{}, nil
	}
	return f, err
}

func (System) Discard(path string) error {
	if err := removeUnit(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (System) DiscardIn(d *Folder, name string) error { return d.Root.RemoveAll(name) }

func (o System) Preserve(from, to string) error {
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

func (System) Adopt(d *Folder, from, to string) error {
	in, err := d.Root.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := d.Root.OpenFile(to, os.O_WRONLY, 0)
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
	return holding(out.Chmod(info.Mode().Perm()))
}

func (System) Dress(d *Folder, name string, f file.Facts) error {
	out, err := d.Root.Open(name) // its mode may allow no writing
	if err != nil {
		return err
	}
	defer out.Close()
	if f.Mode != 0 { // ledgers of before did not record it
		err = holding(out.Chmod(os.FileMode(f.Mode).Perm()))
	}
	return errors.Join(err, holding(d.Root.Chtimes(name, f.Mod.Time(), f.Mod.Time())), out.Sync())
}

func (System) Write(d *Folder, name string, content []byte) error {
	f, err := d.Root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

func (System) Link(from *Folder, name string, d *Folder, as string) error {
	return linkIn(from, name, d, as)
}

func (System) Symlink(to string, d *Folder, name string) error { return d.Root.Symlink(to, name) }

func (o System) Copy(from *Folder, name string, d *Folder, as string, whole bool) (lost []string, err error) {
	f, err := StatIn(from, name)
	if err == nil && whole {
		if err = mayTake(from); err != nil { // the copy would be in vain
			err = fmt.Errorf("it could not be removed after that: %w", err)
		}
	}
	if err != nil {
		return nil, err
	}
	if f.Dir {
		return o.copyTree(from, name, d.Root, as, whole)
	}
	return o.copyFile(from, name, d.Root, as, whole)
}

// copyFile copies one file that is no link.
func (o System) copyFile(from *Folder, name string, root *os.Root, as string, whole bool) (lost []string,
	err error) {
	in, err := from.Read(name)
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
func (o System) copyInto(in, out *os.File, setTimes func(time.Time) error, whole bool) (lost []string, err error) {
	info, err := in.Stat()
	if err != nil {
		return nil, errors.Join(err, out.Close())
	}
	copyAll := o.copyContent
	if isSparse(info) {
		copyAll = o.copySparse
	}
	n, err := copyAll(in, out)
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
func (o System) copyContent(in, out *os.File) (n int64, err error) {
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
	if err := Hold(&lost, "permissions", out.Chmod(mode)); err != nil {
		return lost, err
	}
	err = Hold(&lost, "times", setTimes(info.ModTime()))
	return lost, err
}

// Hold notes, once, what a file system has no place for, which is no error.
func Hold(lost *[]string, what string, err error) error {
	if !cannotHold(err) {
		return err
	}
	if !slices.Contains(*lost, what) {
		*lost = append(*lost, what)
	}
	return nil
}

// cannotHold reports whether a file system refuses what it has no place for: those of sticks, cameras and
// of storage on the web know no permissions, and some no times.
func cannotHold(err error) bool {
	return errors.Is(err, fs.ErrPermission) || errors.Is(err, errors.ErrUnsupported)
}

// holding is an error, but not that of a file system that cannot hold something.
func holding(err error) error {
	if cannotHold(err) {
		return nil
	}
	return err
}

// linkNew renames in two steps of which the first refuses to replace. Killed
// in between, the file has both names, and the next start removes the first.
func linkNew(from, to string) error {
	err := os.Link(from, to)
	if err == nil {
		return os.Remove(from)
	}
	if errors.Is(err, fs.ErrExist) || errors.Is(err, fs.ErrNotExist) || IsCrossDevice(err) {
		return err
	}
	// No hard links here: look, then rename.
	if _, statErr := os.Lstat(to); statErr == nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: fs.ErrExist}
	}
	return os.Rename(from, to)
}

// Reason takes the operation and path from a system error, for messages that
// name the path themselves.
func Reason(err error) error {
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

// Cannot says in a sentence what could not be done with a file.
func Cannot(path, what string, err error) error {
	return fmt.Errorf("%s cannot be %s: %w", path, what, Reason(err))
}
