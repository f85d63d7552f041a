package place

import (
	"errors"
	"io/fs"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/held"
)

// source is the source of a move. Its inode number is no other file's as long as
// it is held.
type source struct {
	held held.File // nil if it is not
	ino  uint64
}

// is reports whether what was moved is the source. Without a descriptor another
// file can have its inode number, but hardly its size and times, too.
func (s source) is(now file.Facts, r *Request) bool {
	return now.Ino == s.ino && (s.held != nil || now.Same(r.Expect))
}

func (s source) release() {
	if s.held != nil {
		s.held.Close()
	}
}

// hold opens the source, if that is needed, and checks that it is the file that
// was meant. One that an earlier try left under its hidden name is found there.
func (p *Placer) hold(r *Request) (source, error) {
	src, err := p.holdNamed(r)
	if !errors.Is(err, job.ErrGone) && !errors.Is(err, job.ErrChanged) || r.part() == "" {
		return src, err
	}
	hidden := r.hiddenName()
	now, lookErr := p.look(r.part(), r)
	if lookErr != nil {
		return source{}, lookErr
	}
	if !now.Exists || !now.Same(r.Expect) {
		return source{}, err
	}
	if errors.Is(err, job.ErrGone) {
		if err := p.unhide(r, hidden); err != nil {
			return source{}, err
		}
	} else {
		r.Source = hidden // another file has its name meanwhile
	}
	return p.holdNamed(r)
}

func (p *Placer) holdNamed(r *Request) (source, error) {
	src, now, err := p.take(r)
	if err != nil {
		return source{}, err
	}
	if r.Expect.Dir {
		now, err = p.look(r.base(), r)
	}
	if err == nil && !now.Same(r.Expect) {
		err = job.ErrChanged
	}
	if err != nil {
		src.release()
		return source{}, err
	}
	return src, nil
}

// take returns the source and its facts.
func (p *Placer) take(r *Request) (src source, now file.Facts, err error) {
	if r.Untouched && !r.Expect.Dir {
		if now, err = p.system().StatIn(r.from, r.base()); err == nil && !now.Exists {
			err = job.ErrGone
		}
		return source{ino: now.Ino}, now, err
	}
	held, err := p.system().Hold(r.from, r.base())
	if errors.Is(err, fs.ErrNotExist) {
		return source{}, file.Facts{}, job.ErrGone
	}
	if err != nil {
		return source{}, file.Facts{}, err
	}
	if now, err = held.Facts(); err != nil {
		held.Close()
		return source{}, file.Facts{}, err
	}
	return source{held, now.Ino}, now, nil
}
