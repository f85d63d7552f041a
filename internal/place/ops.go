package place

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"stilltide/internal/core/file"
	"stilltide/internal/watchfs"
)

// ops are the operations on files, one by one, so that a test can let each of
// them fail.
type ops interface {
	// Hold opens a file without following a link; the descriptor stays with
	// the file whatever happens to its name.
	Hold(path string) (heldFile, error)
	Stat(path string) (file.Facts, error)
	// Rename never replaces: it fails with fs.ErrExist.
	Rename(from, to string) error
	MakeFolder(path string) error
	// Copy makes a flushed copy with mode, times and extended attributes.
	Copy(from, to string) error
	Write(path string, content []byte) error
	FlushFolder(path string) error
	Remove(path string) error
	// Discard removes a part-file of ours; it is no error if it is not there.
	Discard(path string) error
}

type heldFile interface {
	Facts() (file.Facts, error)
	Close() error
}

type realOps struct{}

type held struct{ f *os.File }

func (h held) Close() error { return h.f.Close() }

func (h held) Facts() (file.Facts, error) {
	info, err := h.f.Stat()
	if err != nil {
		return file.Facts{}, err
	}
	return watchfs.Facts(info), nil
}

func (realOps) Hold(path string) (heldFile, error) {
	f, err := openHeld(path)
	if err != nil {
		return nil, err
	}
	return held{f}, nil
}

func (realOps) Stat(path string) (file.Facts, error) { return watchfs.Stat(path) }
func (realOps) Rename(from, to string) error         { return renameNew(from, to) }
func (realOps) Remove(path string) error             { return removeUnit(path) }

func (realOps) MakeFolder(path string) error {
	if err := os.MkdirAll(path, 0o777); err != nil {
		return fmt.Errorf("the folder %s cannot be made: %w", path, reason(err))
	}
	return nil
}

func (realOps) Discard(path string) error {
	if err := removeUnit(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func (realOps) Write(path string, content []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

func (realOps) FlushFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return flushFolder(d)
}

func (realOps) Copy(from, to string) error {
	info, err := os.Lstat(from)
	if err != nil {
		return err
	}
	if info.IsDir() {
		return copyTree(from, to)
	}
	return copyFile(from, to)
}

func copyFile(from, to string) error {
	src, err := openHeld(from)
	if err != nil {
		return err
	}
	defer src.Close()
	info, err := src.Stat()
	if err != nil {
		return err
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	if again, err := in.Stat(); err != nil || !os.SameFile(info, again) {
		return errors.Join(ErrChanged, err)
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, in) // in the kernel, where it can
	if err == nil && n != info.Size() {
		err = ErrChanged
	}
	if err == nil {
		err = keepAttributes(in, out, info)
	}
	return errors.Join(err, out.Sync(), out.Close())
}

// keepAttributes gives the copy the mode, times and extended attributes of
// its original.
func keepAttributes(in, out *os.File, info fs.FileInfo) error {
	if err := copyXattrs(in, out); err != nil {
		return err
	}
	if err := out.Chmod(info.Mode().Perm()); err != nil {
		return err
	}
	return os.Chtimes(out.Name(), info.ModTime(), info.ModTime())
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
