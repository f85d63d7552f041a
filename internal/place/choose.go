package place

import (
	"fmt"
	"iter"
	"os"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/naming"
)

// choice is the name under which a file is placed.
type choice struct {
	name string
	is   relation   // of what is there to the source
	same bool       // the same content is there
	over bool       // what is there is replaced
	old  file.Facts // what is there
}

// choose finds the name that a content gets, by what is there already.
func (p *Placer) choose(r *Request, d *held.Folder, what *naming.Payload) (choice, error) {
	left, err := p.leftTo(r, d)
	if err != nil {
		return choice{}, err
	}
	for n := range p.tries(r, d, what) {
		there, err := p.system().StatIn(d, naming.Numbered(r.To.Name, n))
		if err != nil {
			return choice{}, held.Cannot(d.At(naming.Numbered(r.To.Name, n)), "looked at", err)
		}
		if c, found, err := p.consider(r, d, n, there, left, what); err != nil || found {
			return c, err
		}
		if there.Exists {
			p.Numbers.Note(d.At(r.To.Name), n, payloadIn(d, naming.Numbered(r.To.Name, n), there), what)
		}
	}
	panic("no number is free for that name")
}

// tries returns the numbers to look at. What may be replaced, whatever its number, is
// looked for among all of them.
func (p *Placer) tries(r *Request, d *held.Folder, what *naming.Payload) iter.Seq[int] {
	known := p.Numbers
	if r.Ours != nil {
		known = nil
	}
	return known.Tries(d.At(r.To.Name), what, func(n int) bool {
		there, err := p.system().StatIn(d, naming.Numbered(r.To.Name, n))
		return err == nil && there.Exists
	})
}

// consider decides on one number; found is false if the next is to be looked at.
func (p *Placer) consider(r *Request, d *held.Folder, n int, there file.Facts, left map[string]*naming.Payload,
	what *naming.Payload) (c choice, found bool, err error) {
	name := naming.Numbered(r.To.Name, n)
	if !there.Exists {
		is, err := mayTake(r, left[name], what)
		return choice{name: name}, is, err
	}
	kin, err := p.relate(r, d, name, there)
	if err != nil {
		return choice{}, false, err
	}
	if kin == here || kin == alias && !r.held(d.At(name)) {
		return choice{name: name, is: kin, old: there}, true, nil
	}
	is := false
	if !r.Apart {
		is, err = what.Same(payloadIn(d, name, there))
	}
	held := (is || r.Same == rule.SameReplace) && r.held(d.At(name))
	switch {
	case err != nil:
		return choice{}, false, err
	case is && !held:
		return choice{name: name, same: true, old: there}, true, nil
	case r.Same == rule.SameReplace && held:
		return choice{}, false, fmt.Errorf("%s: %w", d.At(name), job.ErrHeld)
	case there.Regular && (r.Same == rule.SameReplace || r.Ours != nil && r.Ours(d.At(name), there)):
		return choice{name: name, over: true, old: there}, true, nil
	case r.Same == rule.SameSkip:
		return choice{}, false, fmt.Errorf("%s: %w", d.At(name), job.ErrSkipped)
	case r.Same == rule.SameFail:
		return choice{}, false, fmt.Errorf("%s: %w", d.At(name), job.ErrTaken)
	case r.Same == rule.SameReplace:
		return choice{}, false, fmt.Errorf("%s is not a regular file, so it is not replaced: %w", d.At(name),
			job.ErrTaken)
	}
	return choice{}, false, nil
}

// leftTo returns the names that are left to the files that are placed here first, each
// with the file that will have it.
func (p *Placer) leftTo(r *Request, d *held.Folder) (map[string]*naming.Payload, error) {
	if r.Same == rule.SameReplace || len(r.First) == 0 {
		return nil, nil
	}
	left := map[string]*naming.Payload{}
	for _, a := range r.First {
		if a.Done.Load() {
			continue
		}
		first := &naming.Payload{Path: a.Path, Size: -1}        // on its way from step to step it is not seen
		for _, at := range []string{a.Path, a.Before, a.Path} { // it may move while it is looked for
			if f, err := p.system().Stat(at); err == nil && f.Exists {
				first = payloadOf(at, f)
				break
			}
		}
		if first.Size < 0 && a.Done.Load() {
			continue
		}
		if err := p.leave(r, d, first, left); err != nil {
			return nil, err
		}
	}
	return left, nil
}

// leave finds the name of one file that is placed first.
func (p *Placer) leave(r *Request, d *held.Folder, first *naming.Payload, left map[string]*naming.Payload) error {
	for n := range p.tries(r, d, first) {
		name := naming.Numbered(r.To.Name, n)
		there, err := p.system().StatIn(d, name)
		if err != nil {
			return held.Cannot(d.At(name), "looked at", err)
		}
		other := left[name]
		if there.Exists {
			other = payloadIn(d, name, there)
		}
		if other == nil {
			left[name] = first
			return nil
		}
		if is, err := first.Same(other); err == nil && is {
			return nil
		}
		if there.Exists {
			p.Numbers.Note(d.At(r.To.Name), n, other, first)
		}
	}
	return nil
}

// mayTake reports whether a free name may be taken: it is left to no other file, or to one
// with the same content, as long as both are to stay there.
func mayTake(r *Request, first, what *naming.Payload) (bool, error) {
	if first == nil {
		return true, nil
	}
	if is, err := what.Same(first); err != nil || is && !r.Passing {
		return is, err
	}
	switch r.Same {
	case rule.SameSkip:
		return false, fmt.Errorf("%s: %w", r.To.Path(), job.ErrSkipped)
	case rule.SameFail:
		return false, fmt.Errorf("%s: %w", r.To.Path(), job.ErrTaken)
	}
	return false, nil
}

// payloadOf returns the content of what is at a path.
func payloadOf(path string, f file.Facts) *naming.Payload {
	if !f.Regular {
		return &naming.Payload{Path: path, Size: -1}
	}
	return &naming.Payload{Path: path, Size: f.Size}
}

// payloadIn returns the content of what is in an open folder.
func payloadIn(d *held.Folder, name string, f file.Facts) *naming.Payload {
	c := payloadOf(d.At(name), f)
	c.Open, c.Ended = func() (*os.File, error) { return d.Read(name) }, d.Ended
	return c
}

// payload returns the content of the source.
func (r *Request) payload() *naming.Payload { return payloadIn(r.from, r.base(), r.Expect) }
