// Package place moves and copies files so that no byte is lost and nothing is
// overwritten by accident.
//
// A rename is always tried first; it is atomic and refuses to replace
// (renameat2(2), RENAME_NOREPLACE). Where source and target are on different
// file systems, the content is written under a hidden name in the target folder,
// flushed, given its final name, and the folder is flushed; only then is the
// source removed, after a second check that it is still what was copied. At
// every instant the whole content exists under one of the two names.
//
// The file that is moved must be the one that was meant: it is compared before
// and after, and held open by a descriptor meanwhile, unless the job only moves
// it. A different file that took its name in between is put back. The
// destination folder is always held open, and was reached without following a
// link in any part that came from a file's name.
//
// Replaced content is kept, and swapped with its replacement atomically
// (RENAME_EXCHANGE). So each placement can be undone as long as the file it
// placed is unchanged.
package place

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"syscall"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/naming"
	"stilltide/internal/watchfs"
)

var (
	// ErrFar says that the target is on another file system.
	ErrFar = errors.New("it lies on another file system")
	// ErrInside says that a folder was to be placed inside itself.
	ErrInside = errors.New("a folder cannot be placed inside itself")
)

// Final reports whether trying again cannot help: what is wrong is the place itself.
func Final(err error) bool {
	if err == nil {
		return false
	}
	for _, one := range []error{job.ErrTaken, ErrInside, held.ErrInTheWay, held.ErrLink, syscall.ENAMETOOLONG} {
		if errors.Is(err, one) {
			return true
		}
	}
	var archive errUnfit
	return errors.As(err, &archive)
}

// Placer moves and copies files. The zero value works on the real file system.
type Placer struct {
	// Before, if set, is called with the name of each operation on files and
	// their paths before it is done; an error makes it fail. Tests use it.
	Before func(operation string, paths ...string) error

	// Stop and Cancel, if set and closed, end copying, unpacking and comparing that is
	// under way with ErrStopped; nothing is left of it.
	Stop, Cancel <-chan struct{}

	// Numbers, if set, remembers which numbers of a name are taken.
	Numbers *naming.Numbers

	ops  held.Ops
	open map[spot]*held.Folder // kept open between the placements of a batch
}

// spot names an open folder.
type spot struct {
	root, rel string
	source    bool
}

// maxOpen bounds the folders that a batch keeps open from one placement to the next.
const maxOpen = 64

// Batch returns a Placer for one goroutine that keeps folders open until End.
func (p *Placer) Batch() *Placer {
	q := *p
	q.ops = p.system()
	q.open = map[spot]*held.Folder{}
	return &q
}

// End closes the folders of a batch.
func (p *Placer) End() {
	for key, d := range p.open {
		d.Close()
		delete(p.open, key)
	}
}

// folder opens a destination folder; done is to be called afterwards.
func (p *Placer) folder(s plan.Spot) (d *held.Folder, done func(), err error) {
	return p.opened(spot{s.Root, s.Rel, false}, p.system().Open)
}

// existing opens a folder in which something is to be there already, so none is made.
func (p *Placer) existing(s plan.Spot) (d *held.Folder, done func(), err error) {
	return p.opened(spot{s.Root, s.Rel, true}, p.system().OpenSource)
}

// target opens the folder that a placement goes to; done is to be called afterwards. The source's
// own folder is not opened again: another one may have its name by now, or none, which would be made.
func (p *Placer) target(r *Request) (d *held.Folder, done func(), err error) {
	if r.from != nil && r.To.Folder() == r.from.Path {
		return r.from, func() {}, nil
	}
	return p.folder(r.To)
}

// source opens the folder that the source lies in; done is to be called afterwards.
func (p *Placer) source(r *Request) (done func(), err error) {
	if len(p.open) >= maxOpen {
		p.End() // now, as nothing of this placement is open yet
	}
	at := plan.SpotWithin(r.Root, r.Source)
	r.from, done, err = p.opened(spot{at.Root, at.Rel, true}, p.system().OpenSource)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, held.ErrInTheWay) {
		err = job.ErrGone
	}
	if err != nil && !errors.Is(err, job.ErrGone) && !errors.Is(err, held.ErrSwapped) {
		err = held.Cannot(r.Source, "reached", err)
	}
	return done, err
}

func (p *Placer) opened(key spot, open func(root, rel string) (*held.Folder, error)) (d *held.Folder, done func(),
	err error) {
	if d = p.open[key]; d != nil {
		return d, func() {}, nil
	}
	if d, err = open(key.root, key.rel); err != nil {
		return nil, nil, err
	}
	if p.open == nil {
		return d, d.Close, nil
	}
	p.open[key] = d
	return d, func() {}, nil
}

func (p *Placer) system() held.Ops {
	if p.open != nil {
		return p.ops // a batch's, made once
	}
	inner := p.ops
	if inner == nil {
		inner = held.System{Stop: p.Stop, Cancel: p.Cancel}
	}
	if p.Before != nil {
		return held.Guarded{Ops: inner, Before: p.Before}
	}
	return inner
}

// Discard removes a part-file or the hidden rest of a move, if it is there.
func (p *Placer) Discard(path string) error { return p.system().Discard(path) }

// Rename gives a file another name and never replaces.
func (p *Placer) Rename(from, to string) error {
	r := Request{Source: from}
	done, err := p.source(&r)
	if err != nil {
		return err
	}
	defer done()
	d, doneTo, err := p.existing(plan.SpotOf(to))
	if err != nil {
		return err
	}
	defer doneTo()
	return p.system().Rename(r.from, r.base(), d, filepath.Base(to))
}

// Move does one move. Errors name the file and the reason; after any error
// the source is where it was, whole, and no part-file is left.
func (p *Placer) Move(r Request) (Result, error) {
	if err := r.outside(); err != nil {
		return Result{}, err
	}
	for again := false; ; again = true {
		res, err := p.moveHeld(r)
		if err == nil && !res.Here {
			p.Numbers.Free(r.Source)
		}
		if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, job.ErrGone) || again || len(p.open) == 0 &&
			!errors.Is(err, fs.ErrNotExist) {
			return res, err
		}
		p.End() // a folder was removed in this instant, or while it was kept open
	}
}

func (p *Placer) moveHeld(r Request) (Result, error) {
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
	res, err := p.moveTo(&r, src)
	if errors.Is(err, fs.ErrNotExist) {
		if now, lookErr := p.look(r.base(), &r); lookErr == nil && !now.Exists {
			return res, job.ErrGone
		}
	}
	return res, err
}

// maxTries bounds how often a place is chosen anew because the file there
// changed or went in the same instant.
const maxTries = 100

func (p *Placer) moveTo(r *Request, src source) (res Result, err error) {
	d, done, err := p.target(r)
	if err != nil {
		return Result{}, err
	}
	defer done()
	r.made = d.Made
	defer func() { res.Made = d.Made }()
	if r.Stage == nil && len(r.First) == 0 { // the wanted name is tried right away
		res, err := p.rename(r, src, d, r.To.Name)
		switch {
		case held.IsCrossDevice(err) && r.Near:
			return res, ErrFar
		case !errors.Is(err, fs.ErrExist) && !held.IsCrossDevice(err):
			return res, err
		}
	}
	for range maxTries {
		res, err := p.moveOnce(r, src, d)
		if !errors.Is(err, errAgain) {
			return res, err
		}
	}
	return Result{}, fmt.Errorf("%s: %w", r.To.Path(), errAgain)
}

// moveOnce chooses a name and moves; errAgain says that it is not the right one
// any more.
func (p *Placer) moveOnce(r *Request, src source, d *held.Folder) (Result, error) {
	c, err := p.choose(r, d, r.payload())
	if err != nil {
		return Result{}, err
	}
	switch {
	case c.is == here:
		return Result{Target: r.Source, Facts: r.Expect, Here: true}, nil
	case c.is == alias:
		return p.respell(r, src, d, c)
	case c.same:
		return p.removeTwin(r, d, c)
	}
	if err := r.stage(Staged{Target: d.At(c.name), Facts: r.Expect, Replaced: c.over}); err != nil {
		return Result{}, err
	}
	if c.over {
		return p.moveOver(r, src, d, c)
	}
	res, err := p.rename(r, src, d, c.name)
	if held.IsCrossDevice(err) && !r.Near {
		res, err = p.across(r, d, c.name)
	}
	switch {
	case held.IsCrossDevice(err):
		return res, ErrFar
	case errors.Is(err, fs.ErrExist):
		return res, errAgain
	}
	return res, err
}

// rename moves by a rename that never replaces.
func (p *Placer) rename(r *Request, src source, d *held.Folder, name string) (Result, error) {
	err := p.system().Rename(r.from, r.base(), d, name)
	switch {
	case err == nil:
		return p.finished(src, r, d, name)
	case held.IsCrossDevice(err), errors.Is(err, fs.ErrExist), errors.Is(err, fs.ErrNotExist):
		return Result{}, err
	}
	return Result{}, held.Cannot(r.Source, "moved to "+d.Path, err)
}

// look returns the facts that Expect is compared with, of a name in the source's folder:
// for a folder those of all that lies inside.
func (p *Placer) look(name string, r *Request) (file.Facts, error) { return p.lookIn(r.from, name, r) }

func (p *Placer) lookIn(d *held.Folder, name string, r *Request) (file.Facts, error) {
	now, err := p.system().StatIn(d, name)
	if err != nil || !r.Expect.Dir || !now.Dir {
		return now, err
	}
	all, err := watchfs.LookTree(d.At(name))
	if err == nil && (all.Ino != now.Ino || all.Dev != now.Dev) {
		err = job.ErrChanged // the path leads elsewhere meanwhile
	}
	return all, err
}

// finished checks that the file at the target is the one that was meant.
func (p *Placer) finished(src source, r *Request, d *held.Folder, name string) (Result, error) {
	sys := p.system()
	now, err := sys.StatIn(d, name)
	if err != nil {
		return Result{Target: d.At(name), Facts: r.Expect}, nil // moved; only the last look failed
	}
	if now.Exists && !src.is(now, r) {
		if err := sys.Rename(d, name, r.from, r.base()); err != nil {
			return Result{}, fmt.Errorf("%s was replaced during the move; what took its name lies in %s now: %w",
				r.Source, d.At(name), err)
		}
		return Result{}, job.ErrChanged
	}
	if r.Expect.Dir {
		now = r.Expect // its own times stay; what lies inside went along
	}
	return Result{Target: d.At(name), Facts: now}, nil
}

// across moves to another file system.
func (p *Placer) across(r *Request, d *held.Folder, name string) (Result, error) {
	sys := p.system()
	lost, err := p.copyPart(r, d, true)
	if err != nil {
		return Result{}, err
	}
	now, err := p.partFacts(r, d, name)
	if err == nil {
		err = r.stage(Staged{Target: d.At(name), Facts: now})
	}
	if err == nil {
		err = p.install(r, d, choice{name: name})
	}
	if err != nil {
		return Result{}, errors.Join(err, sys.DiscardIn(d, r.part()))
	}
	var rest *job.Rest
	if r.Expect.Dir {
		rest, err = p.removeCopied(r, d, name)
	} else {
		err = p.removeSource(r)
	}
	if err != nil {
		return Result{}, errors.Join(err, p.withdraw(r, d, name))
	}
	return Result{Target: d.At(name), Facts: now, Lost: lost, Rest: rest}, nil
}

// withdraw removes a copy that is not to be, by way of its hidden name: where it cannot be
// removed now, the next try does, or the next start.
func (p *Placer) withdraw(r *Request, d *held.Folder, name string) error {
	if err := p.system().Rename(d, name, d, r.part()); err == nil {
		name = r.part()
	}
	return p.system().DiscardIn(d, name)
}

// copyPart copies the source to the hidden name; whole says that the source is to go.
func (p *Placer) copyPart(r *Request, d *held.Folder, whole bool) (lost []string, err error) {
	sys := p.system()
	if r.from.Path != d.Path || r.base() != r.part() {
		_ = sys.DiscardIn(d, r.part()) // of an earlier try that was ended by force
	}
	if lost, err = sys.Copy(r.from, r.base(), d, r.part(), whole); err != nil {
		if !errors.Is(err, job.ErrChanged) {
			err = held.Cannot(r.Source, "copied to "+d.Path, err)
		}
		return nil, errors.Join(err, sys.DiscardIn(d, r.part()))
	}
	if r.Looks != nil {
		if err := sys.Dress(d, r.part(), *r.Looks); err != nil {
			return nil, errors.Join(held.Cannot(r.Source, "copied to "+d.Path, err), sys.DiscardIn(d, r.part()))
		}
	}
	return lost, nil
}
