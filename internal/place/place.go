// Package place moves and copies files so that no byte is lost and none is
// overwritten by accident.
//
// A rename is always tried first; it is atomic and refuses to replace
// (renameat2(2), RENAME_NOREPLACE). Where source and target lie on different
// file systems the content goes to a hidden name in the target folder, is
// flushed, gets its final name, the folder is flushed, and only then the
// source goes, after another look that it is still what was copied. At every
// instant the whole content is at one of the two names.
//
// The file that is moved must be the one that was meant: it is held open by a
// descriptor meanwhile and compared before and after. A stranger that took its
// name in between is put back.
package place

import (
	"bytes"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/watchfs"
)

var (
	// ErrGone says that the source is not there any more.
	ErrGone = errors.New("the file is not there any more")
	// ErrChanged says that the source is not the file that was meant.
	ErrChanged = errors.New("the file has changed meanwhile")
)

// Request is one move.
type Request struct {
	Source string
	Folder string     // made if needed
	Name   string     // wanted name; numbered if it is taken by other content
	Expect file.Facts // what the source must be
	Part   string     // hidden name for a file on its way; the same after a crash, so that it can be found
}

// Result is what a move did.
type Result struct {
	Target string
	Facts  file.Facts // of the target, after the move
	Same   bool       // the same content was there already; only the source was removed
}

// Placer moves files. The zero value works on the real file system.
type Placer struct {
	// Before, if set, is called with the name of each operation on files and
	// their paths before it is done; an error makes it fail. Tests use it.
	Before func(operation string, paths ...string) error

	ops ops
}

func (p *Placer) system() ops {
	inner := p.ops
	if inner == nil {
		inner = realOps{}
	}
	if p.Before != nil {
		return guarded{inner, p.Before}
	}
	return inner
}

// Discard removes a part-file or the hidden rest of a move, if it is there.
func (p *Placer) Discard(path string) error { return p.system().Discard(path) }

// Rename gives a file another name and never replaces.
func (p *Placer) Rename(from, to string) error { return p.system().Rename(from, to) }

// Move does one move. Errors name the file and the reason; after any error
// the source is where it was, whole, and no part-file is left.
func (p *Placer) Move(r Request) (Result, error) {
	src, err := p.hold(r)
	if err != nil {
		return Result{}, err
	}
	defer src.Close()
	for n := 1; ; n++ {
		target := filepath.Join(r.Folder, Numbered(r.Name, n))
		crossed, err := p.moveTo(r, target)
		switch {
		case err == nil && crossed:
			now, _ := p.system().Stat(target) // moved, even if this last look fails
			return Result{Target: target, Facts: now}, nil
		case err == nil:
			return p.finished(src, r, target)
		case !errors.Is(err, fs.ErrExist):
			return Result{}, err
		}
		same, err := false, error(nil)
		if !r.Expect.Dir {
			same, err = SameContent(r.Source, target, r.Expect.Size)
		}
		if err != nil {
			return Result{}, err
		}
		if same {
			return p.removeTwin(r, target)
		}
	}
}

// hold opens the source and checks that it is the file that was meant.
func (p *Placer) hold(r Request) (heldFile, error) {
	src, err := p.system().Hold(r.Source)
	if errors.Is(err, fs.ErrNotExist) {
		if err := p.unhide(r); err != nil {
			return nil, err
		}
		src, err = p.system().Hold(r.Source)
	}
	if err != nil {
		return nil, err
	}
	f, err := src.Facts()
	if err == nil && r.Expect.Dir {
		f, err = p.look(r.Source, r)
	}
	if err == nil && !f.Same(r.Expect) {
		err = ErrChanged
	}
	if err != nil {
		src.Close()
		return nil, err
	}
	return src, nil
}

// unhide gives the source its name back, if an earlier try failed after it
// was hidden; otherwise the source is gone.
func (p *Placer) unhide(r Request) error {
	hidden := filepath.Join(filepath.Dir(r.Source), r.Part)
	now, err := p.look(hidden, r)
	if err != nil {
		return err
	}
	if !now.Same(r.Expect) {
		return ErrGone
	}
	return p.system().Rename(hidden, r.Source)
}

// look gives the facts that Expect is compared with: for a folder those of
// all that lies inside.
func (p *Placer) look(path string, r Request) (file.Facts, error) {
	if r.Expect.Dir {
		return watchfs.LookTree(path)
	}
	return p.system().Stat(path)
}

// moveTo tries one target name. An error that is fs.ErrExist says it is
// taken; crossed says that the file went to another file system.
func (p *Placer) moveTo(r Request, target string) (crossed bool, err error) {
	sys := p.system()
	err = sys.Rename(r.Source, target)
	if errors.Is(err, fs.ErrNotExist) {
		if err := sys.MakeFolder(r.Folder); err != nil {
			return false, err
		}
		if err = sys.Rename(r.Source, target); errors.Is(err, fs.ErrNotExist) {
			return false, ErrGone
		}
	}
	if isCrossDevice(err) {
		return true, p.across(r, target)
	}
	return false, err
}

// finished checks that the file at the target is the one that was held.
func (p *Placer) finished(src heldFile, r Request, target string) (Result, error) {
	sys := p.system()
	now, err := sys.Stat(target)
	held, heldErr := src.Facts()
	if err != nil || heldErr != nil {
		return Result{Target: target}, nil // moved; only the last look failed
	}
	if now.Exists && now.Ino != held.Ino {
		if err := sys.Rename(target, r.Source); err != nil {
			return Result{}, fmt.Errorf("a stranger took the name of %s during the move and lies in %s now: %w", r.Source, target, err)
		}
		return Result{}, ErrChanged
	}
	return Result{Target: target, Facts: now}, nil
}

// across moves to another file system.
func (p *Placer) across(r Request, target string) (err error) {
	sys := p.system()
	part := filepath.Join(r.Folder, r.Part)
	if err := sys.MakeFolder(r.Folder); err != nil {
		return err
	}
	if err := sys.Copy(r.Source, part); err != nil {
		return errors.Join(err, sys.Discard(part))
	}
	if err := sys.Rename(part, target); err != nil {
		return errors.Join(err, sys.Discard(part))
	}
	if err := sys.FlushFolder(r.Folder); err != nil {
		return errors.Join(err, sys.Discard(target))
	}
	now, err := p.look(r.Source, r)
	if err == nil && !now.Same(r.Expect) {
		err = ErrChanged
	}
	if err == nil {
		err = p.removeExpected(r)
	}
	if err != nil {
		return errors.Join(err, sys.Discard(target))
	}
	return nil
}

// removeExpected removes the source by way of a hidden name, so that a
// stranger that takes its name in the last moment is noticed and put back.
func (p *Placer) removeExpected(r Request) error {
	sys := p.system()
	hidden := filepath.Join(filepath.Dir(r.Source), r.Part)
	if err := sys.Rename(r.Source, hidden); err != nil {
		return err
	}
	now, err := p.look(hidden, r)
	if err == nil && !now.Same(r.Expect) {
		err = ErrChanged
	}
	if err == nil {
		err = sys.Remove(hidden)
	}
	if err != nil {
		return errors.Join(err, sys.Rename(hidden, r.Source))
	}
	return nil
}

// removeTwin ends a move whose content is at the target already.
func (p *Placer) removeTwin(r Request, target string) (Result, error) {
	if err := p.removeExpected(r); err != nil {
		return Result{}, err
	}
	now, _ := p.system().Stat(target) // done, even if this last look fails
	return Result{Target: target, Facts: now, Same: true}, nil
}

// SameContent tells whether b is a regular file with the content of a, which
// has the given size. It compares byte by byte.
func SameContent(a, b string, size int64) (bool, error) {
	there, err := watchfs.Stat(b)
	if err != nil || !there.Regular || there.Size != size {
		return false, err
	}
	fa, err := os.Open(a)
	if err != nil {
		return false, err
	}
	defer fa.Close()
	fb, err := os.Open(b)
	if err != nil {
		return false, err
	}
	defer fb.Close()
	return sameBytes(fa, fb)
}

func sameBytes(a, b io.Reader) (bool, error) {
	bufA, bufB := make([]byte, 256<<10), make([]byte, 256<<10)
	for {
		n, errA := io.ReadFull(a, bufA)
		m, errB := io.ReadFull(b, bufB)
		if n != m || !bytes.Equal(bufA[:n], bufB[:m]) {
			return false, nil
		}
		if errA != nil || errB != nil {
			end := func(err error) bool { return err == nil || err == io.EOF || err == io.ErrUnexpectedEOF }
			if !end(errA) {
				return false, errA
			}
			if !end(errB) {
				return false, errB
			}
			return true, nil
		}
	}
}

// Numbered gives the n-th choice of a name: stem.ext, stem-2.ext, stem-3.ext, …
func Numbered(name string, n int) string {
	if n == 1 {
		return name
	}
	stem, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		stem, ext = name[:i], name[i:]
	}
	return stem + "-" + strconv.Itoa(n) + ext
}

// WriteNew writes a new file with content, whole or not at all, and gives the
// name it got: the wanted one, or numbered if that is taken.
func (p *Placer) WriteNew(folder, name, partName string, content []byte) (string, error) {
	sys := p.system()
	if err := sys.MakeFolder(folder); err != nil {
		return "", err
	}
	part := filepath.Join(folder, partName)
	if err := sys.Write(part, content); err != nil {
		return "", errors.Join(err, sys.Discard(part))
	}
	for n := 1; ; n++ {
		target := filepath.Join(folder, Numbered(name, n))
		err := sys.Rename(part, target)
		if err == nil {
			return target, nil
		}
		if !errors.Is(err, fs.ErrExist) {
			return "", errors.Join(err, sys.Discard(part))
		}
	}
}

// PartName gives the hidden name of a file on its way: short, never taken by
// any rule, and the same each time for the same job.
func PartName(ledger string, job int64) string {
	sum := sha256.Sum256([]byte(ledger + "\x00" + strconv.FormatInt(job, 10)))
	return plan.HiddenPrefix + strings.ToLower(base32.StdEncoding.EncodeToString(sum[:5]))
}
