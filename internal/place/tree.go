package place

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
)

// A whole folder goes to another file system in this order: it is copied and flushed
// under a hidden name; the copy gets its own name; the source gets its hidden name, so that
// no path leads to it any more; it is asked for writers and compared with the copy, byte by
// byte; and only then its files go one by one, each after another look, and its folders
// when they are empty. Nothing is ever removed with all that lies inside.

// sameTree checks that a copy holds all that its source does, byte by byte.
func sameTree(source, copied *held.Folder) error {
	return source.Each(func(e fs.DirEntry) error {
		if plan.Hidden(e.Name()) {
			return nil
		}
		differs := fmt.Errorf("%s: %w", source.At(e.Name()), job.ErrChanged)
		switch {
		case e.IsDir():
			return withInside(source, copied, e.Name(), sameTree)
		case e.Type()&fs.ModeSymlink != 0:
			if !sameLink(source, copied, e.Name()) {
				return differs
			}
			return nil
		}
		now, err := held.StatIn(source, e.Name())
		if err != nil {
			return err
		}
		there, err := held.StatIn(copied, e.Name())
		if err != nil {
			return errors.Join(differs, err)
		}
		is, err := payloadIn(source, e.Name(), now).Same(payloadIn(copied, e.Name(), there))
		if err == nil && (!is || !now.Regular) {
			err = differs
		}
		return err
	})
}

func withInside(source, copied *held.Folder, name string, do func(source, copied *held.Folder) error) error {
	in, err := source.Inside(name)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := copied.Inside(name)
	if err != nil {
		return fmt.Errorf("%s: %w", source.At(name), errors.Join(job.ErrChanged, err))
	}
	defer out.Close()
	return do(in, out)
}

func sameLink(source, copied *held.Folder, name string) bool {
	a, errA := source.Root.Readlink(name)
	b, errB := copied.Root.Readlink(name)
	return errA == nil && errB == nil && a == b
}

// clearing is the removal of a folder whose copy is complete.
type clearing struct {
	p     *Placer
	r     *Request
	kept  int   // entries that are still there
	first error // why the first of them is
}

func (c *clearing) keep(path string, err error) {
	if c.kept++; c.first == nil {
		c.first = held.Cannot(strings.Replace(path, c.r.hiddenName(), c.r.Source, 1), "removed", err)
	}
}

// folder removes what the copy holds, too, and goes on after an error.
func (c *clearing) folder(source, copied *held.Folder) error {
	return source.Each(func(e fs.DirEntry) error {
		err := c.entry(source, copied, e)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			c.keep(source.At(e.Name()), err)
		}
		return nil
	})
}

func (c *clearing) entry(source, copied *held.Folder, e fs.DirEntry) error {
	switch {
	case e.IsDir():
		before := c.kept
		if err := withInside(source, copied, e.Name(), c.folder); err != nil || c.kept > before {
			return err // it is not empty
		}
	case e.Type()&fs.ModeSymlink != 0:
		if !sameLink(source, copied, e.Name()) {
			return job.ErrChanged
		}
	default:
		now, err := held.StatIn(source, e.Name())
		if err != nil {
			return err
		}
		there, err := held.StatIn(copied, e.Name())
		if err != nil {
			return err
		}
		if !now.Regular || !there.Regular || now.Size != there.Size {
			return job.ErrChanged
		}
		if now.Mod != there.Mod { // the file system of the copy may hold times less exactly, or not at all
			is, err := payloadIn(source, e.Name(), now).Same(payloadIn(copied, e.Name(), there))
			if err != nil {
				return err
			}
			if !is {
				return job.ErrChanged
			}
		}
	}
	return c.p.system().Remove(source, e.Name())
}

// removeCopied removes a source folder as far as its copy holds it. After an error nothing
// was removed, and the source has its name. What cannot be removed gets the name back.
func (p *Placer) removeCopied(r *Request, d *held.Folder, name string) (*job.Rest, error) {
	hidden, err := p.hide(r)
	if err != nil {
		return nil, held.Cannot(r.Source, "removed", err)
	}
	rest, err := p.clear(r, hidden, d, name)
	if err != nil {
		return nil, errors.Join(err, p.unhide(r, hidden))
	}
	if rest == nil {
		return nil, nil
	}
	if rest.Path, err = p.restore(r, hidden); err != nil {
		rest.Path = hidden
	}
	return rest, nil
}

// FinishRemoval removes what is left of a source folder whose complete copy is at a path,
// after a crash in the middle of that. ok is false if they are not that.
func (p *Placer) FinishRemoval(r Request, at string) (ok bool, rest *job.Rest, err error) {
	done, err := p.source(&r)
	if err != nil {
		return false, nil, err
	}
	defer done()
	d, doneTo, err := p.existing(plan.SpotOf(at))
	if err != nil {
		return false, nil, err
	}
	defer doneTo()
	now, err := p.look(r.base(), &r)
	if err != nil {
		return false, nil, err
	}
	if now.Dir && now.Ino == r.Expect.Ino && now.Dev == r.Expect.Dev {
		partly := !now.Same(r.Expect)
		if partly {
			r.Expect = file.Facts{Dir: true} // some of it has gone, and the rest could not be removed
		}
		rest, err := p.removeCopied(&r, d, filepath.Base(at))
		if err != nil && partly {
			rest, err = r.leftOver(d, filepath.Base(at), err)
		}
		return err == nil, rest, err
	}
	hidden, err := p.system().StatIn(r.from, r.part())
	if err != nil || hidden.Ino != r.Expect.Ino || hidden.Dev != r.Expect.Dev {
		return false, nil, err
	}
	r.Expect = file.Facts{Dir: true} // some of it has gone
	rest, err = p.clear(&r, r.hiddenName(), d, filepath.Base(at))
	if rest != nil {
		if rest.Path, err = p.restore(&r, r.hiddenName()); err != nil {
			rest.Path, err = r.hiddenName(), nil
		}
	}
	return err == nil, rest, err
}

// leftOver is what is still there of a source of which some has been removed, and cannot be removed now either. It is
// an error if the copy does not hold all of it: somebody has put something there.
func (r *Request) leftOver(d *held.Folder, name string, why error) (*job.Rest, error) {
	source, err := r.from.Inside(r.base())
	if err != nil {
		return nil, errors.Join(why, err)
	}
	defer source.Close()
	copied, err := d.Inside(name)
	if err != nil {
		return nil, errors.Join(why, err)
	}
	defer copied.Close()
	if err := sameTree(source, copied); err != nil {
		return nil, errors.Join(why, err)
	}
	n, err := source.Entries()
	return &job.Rest{Path: r.Source, Entries: n, Why: why}, err
}

// clear removes a folder that has its hidden name, if its copy holds all of it.
func (p *Placer) clear(r *Request, hidden string, d *held.Folder, name string) (*job.Rest, error) {
	source, err := r.from.Inside(filepath.Base(hidden))
	if err != nil {
		return nil, held.Cannot(r.Source, "removed", err)
	}
	defer source.Close()
	copied, err := d.Inside(name)
	if err != nil {
		return nil, held.Cannot(d.At(name), "compared with its source", err)
	}
	defer copied.Close()
	if err := p.quiet(r, hidden); err != nil {
		return nil, err
	}
	if err := sameTree(source, copied); err != nil {
		return nil, err
	}
	c := clearing{p: p, r: r}
	err = c.folder(source, copied)
	if err == nil && c.kept == 0 {
		err = p.system().Remove(r.from, filepath.Base(hidden))
	}
	if err != nil {
		c.keep(r.Source, err)
	}
	if c.kept > 0 {
		return &job.Rest{Entries: c.kept, Why: c.first}, nil
	}
	return nil, nil
}
