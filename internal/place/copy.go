package place

import (
	"errors"
	"io/fs"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/held"
	"stilltide/internal/naming"
)

// fresh is what is put into a new file.
type fresh struct {
	put   func(d *held.Folder, part string) (lost []string, err error)
	is    *naming.Payload // as far as it is asked whether it is there already
	still func() error    // an error if the source is not what was read any more
}

// Copy makes a copy of the source. Content that is there already is not
// stored twice.
func (p *Placer) Copy(r Request) (Result, error) {
	if err := r.outside(); err != nil {
		return Result{}, err
	}
	done, err := p.source(&r)
	if err != nil {
		return Result{}, err
	}
	defer done()
	src, err := p.hold(&r)
	if err != nil {
		return Result{}, err
	}
	defer src.release()
	return p.put(r, fresh{
		put: func(d *held.Folder, _ string) ([]string, error) { return p.copyPart(&r, d, false) },
		is:  r.payload(),
		still: func() error {
			now, err := p.look(r.base(), &r)
			if err == nil && !now.Same(r.Expect) {
				err = job.ErrChanged
			}
			return err
		},
	})
}

// Write makes a new file with a text, whole or not at all.
func (p *Placer) Write(r Request, text []byte) (Result, error) {
	sys := p.system()
	return p.put(r, fresh{
		put: func(d *held.Folder, part string) ([]string, error) {
			if err := sys.Write(d, part, text); err != nil {
				return nil, errors.Join(held.Cannot(d.At(r.To.Name), "written", err), sys.DiscardIn(d, part))
			}
			return nil, nil
		},
		is:    &naming.Payload{Size: int64(len(text)), Text: text},
		still: func() error { return nil },
	})
}

// put makes a new file under a hidden name and gives it its own.
func (p *Placer) put(r Request, c fresh) (Result, error) {
	d, done, err := p.target(&r)
	if err != nil {
		return Result{}, err
	}
	defer done()
	r.made = d.Made
	sys := p.system()
	var res Result
	for made := false; ; {
		name, err := p.choose(&r, d, c.is)
		if err == nil && name.is != apart && !made {
			return Result{Target: d.At(name.name), Facts: name.old, Here: true}, nil
		}
		chosen := err == nil
		if err == nil && !name.same && !made {
			if err = r.stage(Staged{Target: d.At(name.name)}); err != nil {
				return Result{}, err
			}
			if res.Lost, err = c.put(d, r.part()); err != nil {
				return Result{}, err
			}
			made = true
			if err = c.still(); err == nil {
				res.Facts, err = p.partFacts(&r, d, name.name)
			}
		}
		if err == nil && !name.same {
			err = r.stage(Staged{Target: d.At(name.name), Facts: res.Facts, Replaced: name.over})
		}
		if err == nil && !name.same {
			err = p.install(&r, d, name)
		}
		switch {
		case chosen && made && errors.Is(err, fs.ErrExist) && !name.over:
			continue // taken in this instant
		case made && (err != nil || name.same):
			err = errors.Join(err, sys.DiscardIn(d, r.part()))
		}
		if err != nil {
			return Result{}, err
		}
		if name.same {
			res.Facts = name.old
		}
		res.Target, res.Same, res.Made = d.At(name.name), name.same, d.Made
		return res, nil
	}
}

// partFacts looks at the part: by these facts the placed file will be known.
func (p *Placer) partFacts(r *Request, d *held.Folder, name string) (f file.Facts, err error) {
	f, err = p.lookIn(d, r.part(), r)
	if err != nil {
		err = held.Cannot(d.At(name), "made", err)
	}
	return f, err
}

// install gives a part its name; fs.ErrExist says that it is taken.
func (p *Placer) install(r *Request, d *held.Folder, c choice) error {
	sys := p.system()
	if c.over {
		return p.swap(d, r.part(), c, r.Kept)
	}
	if err := sys.Rename(d, r.part(), d, c.name); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return err
		}
		return held.Cannot(d.At(c.name), "made", err)
	}
	if err := sys.Flush(d); err != nil {
		return errors.Join(held.Cannot(d.Path, "flushed", err), sys.DiscardIn(d, c.name))
	}
	return nil
}

// Replace puts the content of the source in place of the file at To, which
// must be what is expected, in one instant. Mode and attributes stay the
// file's own.
func (p *Placer) Replace(r Request) (Result, error) {
	doneSource, err := p.source(&r)
	if err != nil {
		return Result{}, err
	}
	defer doneSource()
	d, done, err := p.target(&r)
	if err != nil {
		return Result{}, err
	}
	defer done()
	sys := p.system()
	old, err := sys.StatIn(d, r.To.Name)
	switch {
	case err != nil:
		return Result{}, held.Cannot(d.At(r.To.Name), "looked at", err)
	case !old.Exists:
		return Result{}, job.ErrGone
	case !old.Same(r.Expect):
		return Result{}, job.ErrChanged
	}
	c := choice{name: r.To.Name, over: true, old: old}
	target := d.At(c.name)
	if err := r.stage(Staged{Target: target, Replaced: true}); err != nil {
		return Result{}, err
	}
	if _, err := p.copyPart(&r, d, false); err != nil {
		return Result{}, err
	}
	var now file.Facts
	if err = sys.Adopt(d, c.name, r.part()); err != nil {
		err = held.Cannot(target, "replaced", err)
	} else {
		now, err = p.partFacts(&r, d, c.name)
	}
	if err == nil {
		err = r.stage(Staged{Target: target, Facts: now, Replaced: true})
	}
	if err == nil {
		err = p.swap(d, r.part(), c, r.Kept)
	}
	if err != nil {
		return Result{}, errors.Join(err, sys.DiscardIn(d, r.part()))
	}
	return Result{Target: target, Facts: now}, nil
}

// Delete removes the source for good, if it is what is expected.
func (p *Placer) Delete(r Request) error {
	done, err := p.source(&r)
	if err != nil {
		return err
	}
	defer done()
	src, err := p.hold(&r)
	if err != nil {
		return err
	}
	defer src.release()
	if err := r.stage(Staged{Target: r.Source}); err != nil {
		return err
	}
	if err := p.removeExpected(&r, nil); err != nil {
		return held.Cannot(r.Source, "deleted", err)
	}
	return nil
}
