package place

import (
	"os"
	"path/filepath"

	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/naming"
)

// Symlink makes a symbolic link that leads to the source. One that does so already is not
// made twice.
func (p *Placer) Symlink(r Request) (Result, error) {
	at := filepath.Join(r.To.Folder(), r.To.Name)
	if to, err := os.Readlink(at); err == nil && to == r.Source {
		f, err := p.system().Stat(at)
		return Result{Target: at, Facts: f, Same: true}, err
	}
	return p.link(r, &naming.Payload{Size: -1},
		func(r *Request, d *held.Folder, part string) error { return p.system().Symlink(r.Source, d, part) })
}

// Link makes a second name of the source, on the same file system. Content that is there
// already is not stored under another number.
func (p *Placer) Link(r Request) (Result, error) {
	return p.link(r, nil, func(r *Request, d *held.Folder, part string) error {
		return p.system().Link(r.from, r.base(),
			d, part)
	})
}

// link puts what to makes in its place; is is what may be there already, nil for the source's
// content.
func (p *Placer) link(r Request, is *naming.Payload, to func(r *Request, d *held.Folder, part string) error) (Result,
	error) {
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
	if is == nil {
		is = r.payload()
	}
	return p.put(r, fresh{is: is, still: func() error { return nil }, put: func(d *held.Folder, part string) ([]string,
		error) {
		_ = p.system().DiscardIn(d, part) // of an earlier try that was ended by force
		err := to(&r, d, part)
		if held.IsCrossDevice(err) {
			return nil, plan.NoSecondName{File: r.Source, Folder: d.Path}
		}
		if err != nil {
			return nil, held.Cannot(r.Source, "linked from "+d.Path, err)
		}
		return nil, nil
	}})
}
