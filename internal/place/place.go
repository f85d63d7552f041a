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
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/watchfs"
)

var (
	// ErrGone says that the source is no longer there.
	ErrGone = errors.New("the file is no longer there")
	// ErrChanged says that the source is not the file that was meant.
	ErrChanged = errors.New("the file has changed meanwhile")
	// ErrHeld says that what is to be replaced is a file that another job works on.
	ErrHeld = errors.New("another job is working on the file of that name")
	// ErrTaken says that the name is there with other content (same_name: fail).
	ErrTaken = errors.New("that name is there already with other content")
	// ErrSkipped says the same where that is no failure (same_name: skip).
	ErrSkipped = errors.New("that name is there already with other content, so it was left out")
	// ErrFar says that the target is on another file system.
	ErrFar = errors.New("it lies on another file system")
	// ErrInTheWay says that a part of the target's folder is there as a file.
	ErrInTheWay = errors.New("a file is there in its place")
	// ErrInside says that a folder was to be placed inside itself.
	ErrInside = errors.New("a folder cannot be placed inside itself")
	// ErrStopped says that work on content was ended before it was complete.
	ErrStopped = errors.New("it was stopped before it was complete")

	errNoExchange = errors.New("this file system cannot swap two names")
)

// Final reports whether trying again cannot help: what is wrong is the place itself.
func Final(err error) bool {
	if err == nil {
		return false
	}
	for _, one := range []error{ErrTaken, ErrInside, ErrInTheWay, errLink, syscall.ENAMETOOLONG} {
		if errors.Is(err, one) {
			return true
		}
	}
	var archive errUnfit
	return errors.As(err, &archive)
}

// Request is one placement.
type Request struct {
	Source string // the file that is moved or copied
	// the watched folder that Source lies in or below: the way from there may pass through no link; "" for its own
	// folder
	Root   string
	To     plan.Spot // the folder is made if needed
	Expect file.Facts
	Part   string // hidden name for a file on its way; the same after a crash, so that it can be found
	Ledger string // Part is PartName of these two when it is needed, if it is empty
	Job    int64
	Same   rule.SameName // what happens if the name is there with other content; "" for number
	Kept   string        // the path where content that is replaced is kept
	Near   bool          // a move that would have to copy to another file system fails with ErrFar
	// files that are to be placed here before this one: the names that they will have are left to them
	First []Ahead
	// Held reports whether a file at the target is another job's that still works on it: it
	// will go on from there, so it neither stands in for the source nor is replaced.
	Held  func(path string) bool
	Apart bool // equal content at the target is no reason to remove the source
	// Untouched says that nothing has looked at the file's content or worked on it, so
	// that no descriptor has to keep its inode number from another file with the same
	// size and times: what stat(2) tells before and after the move is enough.
	Untouched bool
	// Ours reports whether what has the name may be replaced in any case.
	Ours func(path string, f file.Facts) bool
	// Stage makes the intention durable: first before anything is made (with
	// no facts), then, with the facts by which the file will be known, before
	// it gets its name. Nil if the caller has done so.
	Stage func([]Staged) error
	// Amend is Stage for those who have told the intention before, and is called if it turns
	// out otherwise: the source goes because its content is at the target, or a folder is
	// copied and will be known by other facts.
	Amend func(Staged) error
	// Relied is that of a Record whose file is removed.
	Relied func() error
	// Looks, if set, has the mode and the time that a copy gets instead of its source's.
	Looks *file.Facts

	from *folder // that Source lies in
	made int     // folders that were made to open the target's
}

// Staged is a file that is about to get its name.
type Staged struct {
	Target    string
	Facts     file.Facts // what will be there; the zero value before anything is made
	Duplicate bool       // the same content is there already: only the source goes
	Replaced  bool       // what is there now is kept and replaced
	Kept      string     // where it is kept, if that is not what the request says
	Made      int        // folders that were made for it, from its own upwards
}

// Ahead is a file that is to be placed before another.
type Ahead struct {
	Path   string
	Before string       // where it is until it gets there
	Done   *atomic.Bool // set when it has been placed, or will not be
}

func (r *Request) held(path string) bool { return r.Held != nil && r.Held(path) }

func (r *Request) part() string {
	if r.Part == "" {
		r.Part = PartName(r.Ledger, r.Job)
	}
	return r.Part
}

func (r *Request) stage(s Staged) error {
	s.Made = r.made
	otherwise := s.Duplicate || s.Facts.Dir && s.Facts.Ino != r.Expect.Ino
	switch {
	case r.Stage != nil:
		return r.Stage([]Staged{s})
	case otherwise && r.Amend != nil:
		return r.Amend(s)
	}
	return nil
}

// Result is what a placement did.
type Result struct {
	Target string
	Facts  file.Facts // of the target afterwards
	Made   int        // folders that were made for it, from its own upwards
	Same   bool       // the same content was there already; a move removed its source, a copy did nothing
	Here   bool       // the target is the source itself, so nothing was done
	Lost   []string   // extended attributes, and "owner", that the target cannot hold
	Rest   *Rest      // what is still at the source of a folder whose copy is complete, nil if nothing
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
	Numbers *Numbers

	ops  ops
	open map[spot]*folder // kept open between the placements of a batch
}

// spot names an open folder.
type spot struct {
	root, rel string
	source    bool
}

// maxOpen bounds the folders that a batch keeps open.
const maxOpen = 64

// Batch returns a Placer for one goroutine that keeps folders open until End.
func (p *Placer) Batch() *Placer {
	q := *p
	q.ops = p.system()
	q.open = map[spot]*folder{}
	return &q
}

// End closes the folders of a batch.
func (p *Placer) End() {
	for key, d := range p.open {
		d.close()
		delete(p.open, key)
	}
}

// folder opens a destination folder; done is to be called afterwards.
func (p *Placer) folder(s plan.Spot) (d *folder, done func(), err error) {
	return p.opened(spot{s.Root, s.Rel, false}, p.system().Open)
}

// source opens the folder that the source lies in; done is to be called afterwards.
func (p *Placer) source(r *Request) (done func(), err error) {
	at := SpotWithin(r.Root, r.Source)
	r.from, done, err = p.opened(spot{at.Root, at.Rel, true}, p.system().OpenSource)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, ErrInTheWay) {
		err = ErrGone
	}
	if err != nil && !errors.Is(err, ErrGone) && !errors.Is(err, ErrSwapped) {
		err = cannot(r.Source, "reached", err)
	}
	return done, err
}

// base is the source's name in its folder.
func (r *Request) base() string { return filepath.Base(r.Source) }

func (p *Placer) opened(key spot, open func(root, rel string) (*folder, error)) (d *folder, done func(),
	err error) {
	if d = p.open[key]; d != nil {
		return d, func() {}, nil
	}
	if d, err = open(key.root, key.rel); err != nil {
		return nil, nil, err
	}
	if p.open == nil {
		return d, d.close, nil
	}
	if len(p.open) >= maxOpen {
		p.End()
	}
	p.open[key] = d
	return d, func() {}, nil
}

func (p *Placer) system() ops {
	if p.open != nil {
		return p.ops // a batch's, made once
	}
	inner := p.ops
	if inner == nil {
		inner = realOps{p.Stop, p.Cancel}
	}
	if p.Before != nil {
		return guarded{inner, p.Before}
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
	d, doneTo, err := p.opened(spot{filepath.Dir(to), "", true}, p.system().OpenSource)
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
		if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, ErrGone) || again || len(p.open) == 0 &&
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
			return res, ErrGone
		}
	}
	return res, err
}

// maxTries bounds how often a place is chosen anew because the file there
// changed or went in the same instant.
const maxTries = 100

func (p *Placer) moveTo(r *Request, src source) (res Result, err error) {
	d, done, err := p.folder(r.To)
	if err != nil {
		return Result{}, err
	}
	defer done()
	r.made = d.made
	defer func() { res.Made = d.made }()
	if r.Stage == nil && len(r.First) == 0 { // the wanted name is tried right away
		res, err := p.rename(r, src, d, r.To.Name)
		switch {
		case isCrossDevice(err) && r.Near:
			return res, ErrFar
		case !errors.Is(err, fs.ErrExist) && !isCrossDevice(err):
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
func (p *Placer) moveOnce(r *Request, src source, d *folder) (Result, error) {
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
	if err := r.stage(Staged{Target: d.at(c.name), Facts: r.Expect, Replaced: c.over}); err != nil {
		return Result{}, err
	}
	if c.over {
		return p.moveOver(r, src, d, c)
	}
	res, err := p.rename(r, src, d, c.name)
	if isCrossDevice(err) && !r.Near {
		res, err = p.across(r, d, c.name)
	}
	switch {
	case isCrossDevice(err):
		return res, ErrFar
	case errors.Is(err, fs.ErrExist):
		return res, errAgain
	}
	return res, err
}

// rename moves by a rename that never replaces.
func (p *Placer) rename(r *Request, src source, d *folder, name string) (Result, error) {
	err := p.system().Rename(r.from, r.base(), d, name)
	switch {
	case err == nil:
		return p.finished(src, r, d, name)
	case isCrossDevice(err), errors.Is(err, fs.ErrExist), errors.Is(err, fs.ErrNotExist):
		return Result{}, err
	}
	return Result{}, cannot(r.Source, "moved to "+d.path, err)
}

// look returns the facts that Expect is compared with, of a name in the source's folder:
// for a folder those of all that lies inside.
func (p *Placer) look(name string, r *Request) (file.Facts, error) { return p.lookIn(r.from, name, r) }

func (p *Placer) lookIn(d *folder, name string, r *Request) (file.Facts, error) {
	now, err := p.system().StatIn(d, name)
	if err != nil || !r.Expect.Dir || !now.Dir {
		return now, err
	}
	all, err := watchfs.LookTree(d.at(name))
	if err == nil && (all.Ino != now.Ino || all.Dev != now.Dev) {
		err = ErrChanged // the path leads elsewhere meanwhile
	}
	return all, err
}

// choice is the name under which a file is placed.
type choice struct {
	name string
	is   relation   // of what is there to the source
	same bool       // the same content is there
	over bool       // what is there is replaced
	old  file.Facts // what is there
}

// choose finds the name that a content gets, by what is there already.
func (p *Placer) choose(r *Request, d *folder, what *Payload) (choice, error) {
	left, err := p.leftTo(r, d)
	if err != nil {
		return choice{}, err
	}
	for n := range p.tries(r, d, what) {
		there, err := p.system().StatIn(d, Numbered(r.To.Name, n))
		if err != nil {
			return choice{}, cannot(d.at(Numbered(r.To.Name, n)), "looked at", err)
		}
		if c, found, err := p.consider(r, d, n, there, left, what); err != nil || found {
			return c, err
		}
		if there.Exists {
			p.Numbers.Note(d.at(r.To.Name), n, payloadIn(d, Numbered(r.To.Name, n), there), what)
		}
	}
	panic("no number is free for that name")
}

// tries returns the numbers to look at. What may be replaced, whatever its number, is
// looked for among all of them.
func (p *Placer) tries(r *Request, d *folder, what *Payload) iter.Seq[int] {
	known := p.Numbers
	if r.Ours != nil {
		known = nil
	}
	return known.Tries(d.at(r.To.Name), what, func(n int) bool {
		there, err := p.system().StatIn(d, Numbered(r.To.Name, n))
		return err == nil && there.Exists
	})
}

// consider decides on one number; found is false if the next is to be looked at.
func (p *Placer) consider(r *Request, d *folder, n int, there file.Facts, left map[string]*Payload,
	what *Payload) (c choice, found bool, err error) {
	name := Numbered(r.To.Name, n)
	if !there.Exists {
		is, err := mayTake(r, left[name], what)
		return choice{name: name}, is, err
	}
	kin, err := p.relate(r, d, name, there)
	if err != nil {
		return choice{}, false, err
	}
	if kin != apart {
		return choice{name: name, is: kin, old: there}, true, nil
	}
	is := false
	if !r.Apart {
		is, err = what.Same(payloadIn(d, name, there))
	}
	held := (is || r.Same == rule.SameReplace) && r.held(d.at(name))
	switch {
	case err != nil:
		return choice{}, false, err
	case is && !held:
		return choice{name: name, same: true, old: there}, true, nil
	case r.Same == rule.SameReplace && held:
		return choice{}, false, fmt.Errorf("%s: %w", d.at(name), ErrHeld)
	case there.Regular && (r.Same == rule.SameReplace || r.Ours != nil && r.Ours(d.at(name), there)):
		return choice{name: name, over: true, old: there}, true, nil
	case r.Same == rule.SameSkip:
		return choice{}, false, fmt.Errorf("%s: %w", d.at(name), ErrSkipped)
	case r.Same == rule.SameFail:
		return choice{}, false, fmt.Errorf("%s: %w", d.at(name), ErrTaken)
	case r.Same == rule.SameReplace:
		return choice{}, false, fmt.Errorf("%s is not a regular file, so it is not replaced: %w", d.at(name),
			ErrTaken)
	}
	return choice{}, false, nil
}

// leftTo returns the names that are left to the files that are placed here first, each
// with the file that will have it.
func (p *Placer) leftTo(r *Request, d *folder) (map[string]*Payload, error) {
	if r.Same == rule.SameReplace || len(r.First) == 0 {
		return nil, nil
	}
	left := map[string]*Payload{}
	for _, a := range r.First {
		if a.Done.Load() {
			continue
		}
		first := &Payload{Path: a.Path, Size: -1}               // on its way from step to step it is not seen
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
func (p *Placer) leave(r *Request, d *folder, first *Payload, left map[string]*Payload) error {
	for n := range p.tries(r, d, first) {
		name := Numbered(r.To.Name, n)
		there, err := p.system().StatIn(d, name)
		if err != nil {
			return cannot(d.at(name), "looked at", err)
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
			p.Numbers.Note(d.at(r.To.Name), n, other, first)
		}
	}
	return nil
}

// mayTake reports whether a free name may be taken: it is left to no other file, or to one
// with the same content.
func mayTake(r *Request, first, what *Payload) (bool, error) {
	if first == nil {
		return true, nil
	}
	if is, err := what.Same(first); err != nil || is {
		return is, err
	}
	switch r.Same {
	case rule.SameSkip:
		return false, fmt.Errorf("%s: %w", r.To.Path(), ErrSkipped)
	case rule.SameFail:
		return false, fmt.Errorf("%s: %w", r.To.Path(), ErrTaken)
	}
	return false, nil
}

// payloadOf returns the content of what is at a path.
func payloadOf(path string, f file.Facts) *Payload {
	if !f.Regular {
		return &Payload{Path: path, Size: -1}
	}
	return &Payload{Path: path, Size: f.Size}
}

// payloadIn returns the content of what is in an open folder.
func payloadIn(d *folder, name string, f file.Facts) *Payload {
	c := payloadOf(d.at(name), f)
	c.open, c.ended = func() (*os.File, error) { return d.read(name) }, d.ended
	return c
}

// payload returns the content of the source.
func (r *Request) payload() *Payload { return payloadIn(r.from, r.base(), r.Expect) }

// finished checks that the file at the target is the one that was meant.
func (p *Placer) finished(src source, r *Request, d *folder, name string) (Result, error) {
	sys := p.system()
	now, err := sys.StatIn(d, name)
	if err != nil {
		return Result{Target: d.at(name), Facts: r.Expect}, nil // moved; only the last look failed
	}
	if now.Exists && !src.is(now, r) {
		if err := sys.Rename(d, name, r.from, r.base()); err != nil {
			return Result{}, fmt.Errorf("%s was replaced during the move; what took its name lies in %s now: %w",
				r.Source, d.at(name), err)
		}
		return Result{}, ErrChanged
	}
	if r.Expect.Dir {
		now = r.Expect // its own times stay; what lies inside went along
	}
	return Result{Target: d.at(name), Facts: now}, nil
}

// across moves to another file system.
func (p *Placer) across(r *Request, d *folder, name string) (Result, error) {
	sys := p.system()
	lost, err := p.copyPart(r, d, true)
	if err != nil {
		return Result{}, err
	}
	now, err := p.partFacts(r, d, name)
	if err == nil {
		err = r.stage(Staged{Target: d.at(name), Facts: now})
	}
	if err == nil {
		err = p.install(r, d, choice{name: name})
	}
	if err != nil {
		return Result{}, errors.Join(err, sys.DiscardIn(d, r.part()))
	}
	var rest *Rest
	if r.Expect.Dir {
		rest, err = p.removeCopied(r, d, name)
	} else {
		err = p.removeSource(r)
	}
	if err != nil {
		return Result{}, errors.Join(err, p.withdraw(r, d, name))
	}
	return Result{Target: d.at(name), Facts: now, Lost: lost, Rest: rest}, nil
}

// withdraw removes a copy that is not to be, by way of its hidden name: where it cannot be
// removed now, the next try does, or the next start.
func (p *Placer) withdraw(r *Request, d *folder, name string) error {
	if err := p.system().Rename(d, name, d, r.part()); err == nil {
		name = r.part()
	}
	return p.system().DiscardIn(d, name)
}

// copyPart copies the source to the hidden name; whole says that the source is to go.
func (p *Placer) copyPart(r *Request, d *folder, whole bool) (lost []string, err error) {
	sys := p.system()
	if r.from.path != d.path || r.base() != r.part() {
		_ = sys.DiscardIn(d, r.part()) // of an earlier try that was ended by force
	}
	if lost, err = sys.Copy(r.from, r.base(), d, r.part(), whole); err != nil {
		if !errors.Is(err, ErrChanged) {
			err = cannot(r.Source, "copied to "+d.path, err)
		}
		return nil, errors.Join(err, sys.DiscardIn(d, r.part()))
	}
	if r.Looks != nil {
		if err := sys.Dress(d, r.part(), *r.Looks); err != nil {
			return nil, errors.Join(cannot(r.Source, "copied to "+d.path, err), sys.DiscardIn(d, r.part()))
		}
	}
	return lost, nil
}

// removeSource removes the source if it still is what was copied.
func (p *Placer) removeSource(r *Request) error {
	now, err := p.look(r.base(), r)
	if err == nil && !now.Same(r.Expect) {
		err = ErrChanged
	}
	if err == nil {
		err = p.removeExpected(r, p.quiet)
	}
	return err
}

// moveOver moves onto a name that is there; what was there is kept.
func (p *Placer) moveOver(r *Request, src source, d *folder, c choice) (Result, error) {
	sys := p.system()
	copied := false
	var lost []string
	err := sys.Rename(r.from, r.base(), d, r.part())
	if isCrossDevice(err) && r.Near {
		return Result{}, ErrFar
	}
	if isCrossDevice(err) {
		copied = true
		lost, err = p.copyPart(r, d, true)
	}
	if err != nil {
		return Result{}, cannot(r.Source, "moved to "+d.path, err)
	}
	back := func(err error) (Result, error) {
		if copied {
			return Result{}, errors.Join(err, sys.DiscardIn(d, r.part()))
		}
		return Result{}, errors.Join(err, sys.Rename(d, r.part(), r.from, r.base()))
	}
	now, err := p.partFacts(r, d, c.name)
	if err == nil && !copied && !src.is(now, r) {
		err = ErrChanged
	}
	if err == nil {
		err = p.swap(d, r.part(), c, r.Kept)
	}
	if err != nil {
		return back(err)
	}
	if copied {
		if err := p.removeSource(r); err != nil {
			return Result{}, err // both are whole, and the attempt that failed puts the old one back
		}
	}
	return Result{Target: d.at(c.name), Facts: now, Lost: lost}, nil
}

// swap puts a part in the place of what has its name, in one instant. What
// was there is kept first; if it is not what was meant, nothing changes.
func (p *Placer) swap(d *folder, part string, c choice, kept string) error {
	sys := p.system()
	if err := sys.Preserve(d.at(c.name), kept); err != nil {
		return errors.Join(cannot(d.at(c.name), "kept before it is replaced", err), sys.Discard(kept))
	}
	other := func() error { return errors.Join(fmt.Errorf("%s: %w", d.at(c.name), ErrChanged), sys.Discard(kept)) }
	if saved, err := sys.Stat(kept); err != nil || saved.Size != c.old.Size || saved.Mod != c.old.Mod {
		return errors.Join(err, other())
	}
	err := sys.Exchange(d, part, c.name)
	if errors.Is(err, errNoExchange) {
		return p.replaceBlindly(d, part, c, other)
	}
	if err != nil {
		return errors.Join(cannot(d.at(c.name), "replaced", err), sys.Discard(kept))
	}
	was, err := sys.StatIn(d, part)
	if err == nil && !was.Same(c.old) {
		err = fmt.Errorf("%s: %w", d.at(c.name), ErrChanged)
	}
	if err == nil {
		err = sys.Flush(d)
	}
	if err == nil {
		err = sys.DiscardIn(d, part)
	}
	if err != nil && !errors.Is(err, ErrChanged) {
		err = cannot(d.at(c.name), "replaced", err)
	}
	if err != nil {
		return errors.Join(err, sys.Exchange(d, part, c.name), sys.Discard(kept))
	}
	return nil
}

// replaceBlindly replaces where two names cannot be swapped: the last look is
// an instant before.
func (p *Placer) replaceBlindly(d *folder, part string, c choice, other func() error) error {
	if now, err := p.system().StatIn(d, c.name); err != nil || !now.Same(c.old) {
		return errors.Join(err, other())
	}
	if err := d.root.Rename(part, c.name); err != nil {
		return cannot(d.at(c.name), "replaced", err)
	}
	return p.system().Flush(d)
}

// removeExpected removes the source by way of a hidden name, so that
// another file that takes its name in the last moment is noticed and put back. last, if not
// nil, is asked when no path leads to it any more.
func (p *Placer) removeExpected(r *Request, last func(r *Request, hidden string) error) error {
	sys := p.system()
	hidden, err := p.hide(r)
	if err != nil {
		return err
	}
	now, err := p.look(filepath.Base(hidden), r)
	if err != nil {
		err = cannot(r.Source, "removed", err)
	} else if !now.Same(r.Expect) {
		err = ErrChanged
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
			err = cannot(r.Source, "removed", err)
		}
	}
	if err != nil {
		_, backErr := p.restore(r, hidden)
		return errors.Join(err, backErr)
	}
	return nil
}

// quiet checks that nobody writes to a source that has its hidden name: what is written
// after the copy was made would be lost with it.
func (p *Placer) quiet(r *Request, hidden string) error {
	look := func() (file.Facts, error) { return watchfs.LookIn(r.from.dir, filepath.Base(hidden)) }
	if r.Expect.Dir {
		look = func() (file.Facts, error) { return watchfs.LookTree(hidden) }
	}
	switch now, err := look(); {
	case err != nil:
		return cannot(r.Source, "looked at", err)
	case now.Writers == file.Some, r.Expect.Exists && !now.Same(r.Expect):
		return fmt.Errorf("%s: %w", r.Source, ErrChanged)
	}
	return nil
}

// restore gives a hidden file a name back: its own, or the next that is free.
func (p *Placer) restore(r *Request, hidden string) (path string, err error) {
	for n := 1; ; n++ {
		name := Numbered(r.base(), n)
		if err := p.system().Rename(r.from, filepath.Base(hidden), r.from, name); !errors.Is(err, fs.ErrExist) {
			return r.from.at(name), err
		}
	}
}

// SameContent reports whether b is a regular file with the content of a, which
// has the given size. It compares byte by byte.
func SameContent(a, b string, size int64) (bool, error) {
	there, err := watchfs.Stat(b)
	if err != nil || !there.Regular {
		return false, err
	}
	return (&Payload{Path: a, Size: size}).Same(payloadOf(b, there))
}

func sameBytes(a, b io.Reader, room int64, ended func() error) (bool, error) {
	bufA, bufB := make([]byte, room), make([]byte, room)
	for {
		if err := ended(); err != nil {
			return false, err
		}
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
