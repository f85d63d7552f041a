package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/held"
	"stilltide/internal/naming"
	"stilltide/internal/watchfs"
)

// relation is what a name that is there is to the source.
type relation int

const (
	apart relation = iota // another file
	here                  // the source itself: the same name in the same folder
	alias                 // the source under another spelling of its name, or a second hard link beside it
)

// relate reports what a name in the target's folder is to the source. It decides by
// device and inode of the two folders, and leaves the source alone. Where these do
// not tell (overlays, two mounts of one share), a folder is found out by a probe;
// a file has the same content then, and removeTwin finds out before it removes any.
func (p *Placer) relate(r *Request, d *held.Folder, name string, there file.Facts) (relation, error) {
	if r.Source == "" {
		return apart, nil
	}
	same, sure := p.sameFolder(r, d)
	if !sure && there.Dir && r.Expect.Dir {
		var err error
		if same, err = p.probe(r, d); err != nil {
			return apart, err
		}
	}
	switch {
	case !same:
		return apart, nil
	case name == filepath.Base(r.Source):
		return here, nil
	case there.Ino == r.Expect.Ino && there.Dev == r.Expect.Dev:
		return alias, nil
	}
	return apart, nil
}

// sameFolder tells by device and inode whether the source lies in the target's
// folder. Two numbers on one device are two folders for sure; on two devices they may
// be one folder that is mounted twice.
func (p *Placer) sameFolder(r *Request, d *held.Folder) (same, sure bool) {
	own, err := r.from.Dir.Stat()
	if err != nil {
		return false, true // the move itself will say what is wrong
	}
	target, err := d.Dir.Stat()
	if err != nil {
		return false, true
	}
	same = os.SameFile(own, target)
	return same, same || watchfs.Facts(own).Dev == watchfs.Facts(target).Dev
}

// probe reports whether what is made in the target's folder appears beside the source.
func (p *Placer) probe(r *Request, d *held.Folder) (bool, error) {
	name := r.part() + "-p"
	if err := d.Root.Mkdir(name, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return false, held.Cannot(d.Path, "written to", err)
	}
	seen, err := p.system().StatIn(r.from, name)
	return seen.Exists, errors.Join(err, d.Root.Remove(name))
}

// outside checks that a folder is not placed inside itself.
func (r *Request) outside() error {
	if !r.Expect.Dir || r.Source == "" {
		return nil
	}
	source, err := os.Stat(r.Source)
	if err != nil {
		return nil // the placement itself will say what is wrong
	}
	at, err := filepath.EvalSymlinks(nearest(r.To.Folder()))
	if err != nil {
		return nil
	}
	for ; ; at = filepath.Dir(at) {
		if info, err := os.Stat(at); err == nil && os.SameFile(info, source) {
			return fmt.Errorf("%s: %w", r.Source, ErrInside)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// respell ends a move whose target is the source under another spelling of its
// name: the source gets its hidden name first. If the target is still there then,
// it is a second hard link, and only the source goes.
func (p *Placer) respell(r *Request, src source, d *held.Folder, c choice) (Result, error) {
	if err := r.stage(Staged{Target: d.At(c.name), Facts: r.Expect}); err != nil {
		return Result{}, err
	}
	hidden, err := p.hide(r)
	if err != nil {
		return Result{}, held.Cannot(r.Source, "renamed", err)
	}
	there, err := p.system().StatIn(d, c.name)
	switch {
	case err != nil:
	case there.Exists:
		if err = p.unhide(r, hidden); err == nil {
			return p.removeTwin(r, d, c)
		}
	default:
		if err = p.system().Rename(r.from, filepath.Base(hidden), d, c.name); err == nil {
			return p.finished(src, r, d, c.name)
		}
	}
	return Result{}, errors.Join(held.Cannot(r.Source, "renamed", err), p.unhide(r, hidden))
}

// hiddenName is the hidden name of the source, in its own folder.
func (r *Request) hiddenName() string { return filepath.Join(filepath.Dir(r.Source), r.part()) }

// hide gives the source its hidden name.
func (p *Placer) hide(r *Request) (hidden string, err error) {
	if hidden = r.hiddenName(); hidden == r.Source {
		return hidden, nil
	}
	return hidden, p.system().Rename(r.from, r.base(), r.from, r.part())
}

// unhide gives the source its name back. If another file has taken that name
// meanwhile, the source goes on under its hidden name.
func (p *Placer) unhide(r *Request, hidden string) error {
	if hidden == r.Source {
		return nil
	}
	err := p.system().Rename(r.from, filepath.Base(hidden), r.from, r.base())
	if errors.Is(err, fs.ErrExist) {
		r.Source, err = hidden, nil
	}
	return err
}

// errAgain says that the target of a removed duplicate is not what it was any
// more: the source is back, and its place is to be chosen anew.
var errAgain = errors.New("the file there has just changed")

// removeTwin ends a move whose content is at the target already. The source gets
// its hidden name first; only then is the target looked at, compared and looked at
// again. So of two moves that take each other's file for the one that stays, at
// least one finds nothing there and puts its own back.
func (p *Placer) removeTwin(r *Request, d *held.Folder, c choice) (Result, error) {
	if err := r.stage(Staged{Target: d.At(c.name), Facts: c.old, Duplicate: true}); err != nil {
		return Result{}, err
	}
	hidden, err := p.hide(r)
	if err != nil {
		return Result{}, held.Cannot(r.Source, "removed", err)
	}
	is, err := p.isDuplicate(r, d, c, hidden)
	if err == nil && is == apart {
		err = p.quiet(r, hidden)
	}
	if err == nil && is == apart {
		if err = p.system().Remove(r.from, filepath.Base(hidden)); err == nil {
			return Result{Target: d.At(c.name), Facts: c.old, Same: true}, nil
		}
		err = held.Cannot(r.Source, "removed", err)
	}
	if backErr := p.unhide(r, hidden); backErr != nil { // it is whole, and the next try finds it there
		return Result{}, held.Cannot(r.Source, "put back", backErr)
	}
	if err != nil {
		return Result{}, err
	}
	return Result{Target: r.Source, Facts: r.Expect, Here: true}, nil
}

// isDuplicate reports whether the target is another file with the content of the source,
// which has its hidden name: apart if so, here if it is the source's own place.
func (p *Placer) isDuplicate(r *Request, d *held.Folder, c choice, hidden string) (relation, error) {
	now, err := p.look(filepath.Base(hidden), r)
	if err == nil && !now.Same(r.Expect) {
		return apart, job.ErrChanged
	}
	if err == nil {
		var is relation
		if is, err = p.comparedTwin(r, d, c, hidden); err == nil || errors.Is(err, errAgain) {
			return is, err
		}
	}
	return apart, held.Cannot(r.Source, "compared with "+d.At(c.name), err)
}

func (p *Placer) comparedTwin(r *Request, d *held.Folder, c choice, hidden string) (relation, error) {
	sys := p.system()
	own, err := sys.StatIn(d, r.part())
	if err != nil {
		return apart, err
	}
	same, _ := p.sameFolder(r, d)
	if own.Exists && own.Size == r.Expect.Size && own.Mod == r.Expect.Mod && !same {
		return here, nil // the hidden name is there, too: it is one folder by two ways
	}
	before, err := sys.StatIn(d, c.name)
	if err != nil {
		return apart, err
	}
	if !before.Regular {
		return apart, errAgain
	}
	equal, err := payloadIn(r.from, filepath.Base(hidden), r.Expect).Same(payloadIn(d, c.name, before))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return apart, err
	}
	after, err := sys.StatIn(d, c.name)
	if err == nil && (!equal || !after.Same(before) || after.Change != before.Change) {
		err = errAgain
	}
	return apart, err
}

// RemoveDuplicate removes the source if its content is at another place; it is no
// error if it is not. After a crash that is how one of two copies goes.
func (p *Placer) RemoveDuplicate(r Request, at string) (removed bool, err error) {
	doneSource, err := p.source(&r)
	if err != nil {
		return false, err
	}
	defer doneSource()
	d, done, err := p.existing(plan.SpotOf(at))
	if err != nil {
		return false, err
	}
	defer done()
	c := choice{name: filepath.Base(at)}
	if c.old, err = p.system().StatIn(d, c.name); err != nil || !c.old.Exists {
		return false, err
	}
	if is, err := p.relate(&r, d, c.name, c.old); err != nil || is != apart {
		return false, err
	}
	res, err := p.removeTwin(&r, d, c)
	if errors.Is(err, errAgain) || errors.Is(err, job.ErrChanged) {
		return false, nil
	}
	return res.Same, err
}

// SameEntry reports whether two paths name one entry of one folder, by whatever
// ways they lead there.
func SameEntry(a, b string) bool {
	if a == b {
		return true
	}
	if filepath.Base(a) != filepath.Base(b) {
		return false
	}
	one, err := os.Stat(filepath.Dir(a))
	if err != nil {
		return false
	}
	other, err := os.Stat(filepath.Dir(b))
	return err == nil && os.SameFile(one, other)
}

// SameContent reports whether b is a regular file with the content of a, which
// has the given size. It compares byte by byte.
func SameContent(a, b string, size int64) (bool, error) {
	there, err := watchfs.Stat(b)
	if err != nil || !there.Regular {
		return false, err
	}
	return (&naming.Payload{Path: a, Size: size}).Same(payloadOf(b, there))
}
