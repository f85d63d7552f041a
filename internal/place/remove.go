package place

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/held"
	"stilltide/internal/naming"
	"stilltide/internal/watchfs"
)

// removeSource removes the source if it still is what was copied.
func (p *Placer) removeSource(r *Request) error {
	now, err := p.look(r.base(), r)
	if err == nil && !now.Same(r.Expect) {
		err = job.ErrChanged
	}
	if err == nil {
		err = p.removeExpected(r, p.quiet)
	}
	return err
}

// removeExpected removes the source by way of a hidden name, so that
// another file that takes its name in the last moment is noticed and put back. last, if not
// nil, is asked when no path leads to it any more.
func (p *Placer) removeExpected(r *Request, last func(r *Request, hidden string) error) error {
	sys := p.system()
	hidden, err := p.hide(r)
	if err != nil {
		return held.Cannot(r.Source, "removed", err)
	}
	now, err := p.look(filepath.Base(hidden), r)
	if err != nil {
		err = held.Cannot(r.Source, "removed", err)
	} else if !now.Same(r.Expect) {
		err = job.ErrChanged
	}
	if err == nil && r.Relied != nil {
		err = r.Relied()
	}
	if err == nil && last != nil {
		err = last(r, hidden)
	}
	if err == nil {
		remove := sys.Remove
		if r.Expect.Dir {
			remove = sys.RemoveAll
		}
		if err = remove(r.from, filepath.Base(hidden)); err != nil {
			err = held.Cannot(r.Source, "removed", err)
		}
	}
	if err != nil {
		_, backErr := p.restore(r, hidden)
		return errors.Join(err, backErr)
	}
	return nil
}

// pauses are those between looks at a file that somebody seems to write to, in milliseconds: a process that is being
// started holds what was open in this one when that began, until it has become its program (fork(2), execve(2)).
var pauses = []int{1, 4, 20, 75, 150}

// quiet checks that nobody writes to a source that has its hidden name: what is written
// after the copy was made would be lost with it.
func (p *Placer) quiet(r *Request, hidden string) error {
	look := func() (file.Facts, error) { return watchfs.LookIn(r.from.Dir, filepath.Base(hidden)) }
	if r.Expect.Dir {
		look = func() (file.Facts, error) { return watchfs.LookTree(hidden) }
	}
	for n := 0; ; n++ {
		switch now, err := look(); {
		case err != nil:
			return held.Cannot(r.Source, "looked at", err)
		case r.Expect.Exists && !now.Same(r.Expect), now.Writers == file.Some && n == len(pauses):
			return fmt.Errorf("%s: %w", r.Source, job.ErrChanged)
		case now.Writers != file.Some:
			return nil
		}
		time.Sleep(time.Duration(pauses[n]) * time.Millisecond)
	}
}

// restore gives a hidden file a name back: its own, or the next that is free.
func (p *Placer) restore(r *Request, hidden string) (path string, err error) {
	for n := 1; ; n++ {
		name := naming.Numbered(r.base(), n)
		if err := p.system().Rename(r.from, filepath.Base(hidden), r.from, name); !errors.Is(err, fs.ErrExist) {
			return r.from.At(name), err
		}
	}
}
