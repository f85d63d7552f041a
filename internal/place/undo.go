package place

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/watchfs"
)

// Record is what must be known of a placement to undo it.
type Record struct {
	Kind     job.Kind
	Source   string
	Root     string // the watched folder that Source lies in or below; the way from there may pass through no link
	Target   string
	Before   file.Facts // of the source, before
	After    file.Facts // of the target, afterwards
	Kept     string     // where the content that was replaced is kept
	Replaced bool       // content was replaced
	// folders that were made for the target, from its own upwards: those that are empty then go, too
	Made int
	// Relied, if set, gives an error if another job has removed a file because its
	// content is at Target: that content stays. It is asked when nobody can begin to
	// rely on it any more.
	Relied func() error
	// Rest, if set, is told what could not be removed of a folder whose copy is back.
	Rest func(*job.Rest)
}

func (r Record) relied() error {
	if r.Relied == nil {
		return nil
	}
	return r.Relied()
}

// CanUndo says in a sentence why a placement cannot be undone, nil if it can.
// look is the real one, or one that knows what later undoing will have done.
func (p *Placer) CanUndo(r Record, look func(path string) (file.Facts, error)) error {
	if r.Kind == job.Deleted {
		return fmt.Errorf("%s was deleted for good", r.Source)
	}
	now, err := look(r.Target)
	switch {
	case err != nil:
		return err
	case !now.Exists:
		return fmt.Errorf("%s is no longer there", r.Target)
	case r.Kind == job.Tagged:
		return nil
	case !sameUnit(now, r.After):
		return fmt.Errorf("%s has changed since it was placed", r.Target)
	}
	if r.Replaced {
		if kept, err := watchfs.Stat(r.Kept); err != nil || !kept.Exists {
			return fmt.Errorf("what %s replaced is no longer kept", r.Target)
		}
	}
	if !r.Kind.Adds() {
		if err := CanComeBack(r.Root); err != nil {
			return err
		}
		if there, err := look(r.Source); err != nil || there.Exists && !(there.Dir && isEmpty(r.Source)) {
			return errors.Join(err, fmt.Errorf("cannot restore %s: another file is there", r.Source))
		}
	}
	return nil
}

// CanComeBack says why files cannot come back to where they were taken: the watched folder, root, is
// not there. It is not made, since it may be on a disk that is not mounted now; "" is always there.
func CanComeBack(root string) error {
	if root == "" {
		return nil
	}
	_, err := os.Stat(root)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("the folder %s is not there; mount its disk, or make it, and try again", root)
	}
	return err
}

// isEmpty reports whether a folder is empty. One that another placement made where a
// file had been is, once that is undone; it does not keep the file from coming back.
func isEmpty(folder string) bool {
	entries, err := os.ReadDir(folder)
	return err == nil && len(entries) == 0
}

// lookAs looks at a path, as a whole folder if it was one.
func lookAs(path string, was file.Facts) (file.Facts, error) {
	if was.Dir {
		return watchfs.LookTree(path)
	}
	return watchfs.Stat(path)
}

// sameUnit is Same; of a folder that went along with its own times only the
// content of its size is compared.
func sameUnit(now, was file.Facts) bool {
	if was.Dir { // what goes along keeps its times, but not every ledger knows them
		return now.Dir && now.Ino == was.Ino && now.Size == was.Size
	}
	return now.Same(was)
}

// Undo takes a placement back. It may be called again after a crash in its
// middle. part is the hidden name for files on their way.
func (p *Placer) Undo(r Record, part string) error {
	err := p.undo(r, part)
	if err == nil && r.Made > 0 {
		p.End()
		held.RemoveMade(filepath.Dir(r.Target), r.Made)
	}
	return err
}

func (p *Placer) undo(r Record, part string) error {
	if !r.Kind.Adds() {
		if err := CanComeBack(r.Root); err != nil {
			return fmt.Errorf("cannot restore %s: %w", r.Source, err)
		}
	}
	if r.Kind == job.Moved || r.Kind == job.Trashed || r.Kind == job.Duplicate {
		p.removeEmpty(r)
	}
	switch r.Kind {
	case job.Moved, job.Trashed:
		if err := p.moveBack(r, part); err != nil {
			return err
		}
		if r.Kind == job.Trashed {
			return p.Discard(InfoOf(r.Target))
		}
		if r.Replaced {
			return p.BringBack(r, part)
		}
		return nil
	case job.Duplicate:
		return p.copyBack(r, part)
	case job.Put, job.Linked:
		if r.Replaced {
			return p.swapBack(r, part)
		}
		return p.removePut(Request{Source: r.Target, Root: r.targetRoot(), Expect: r.After, Part: part,
			Relied: r.Relied})
	case job.Tagged:
		return r.tagBack()
	}
	return p.CanUndo(r, watchfs.LookAny)
}

// removePut removes what a job has made.
func (p *Placer) removePut(r Request) error {
	done, err := p.source(&r)
	if err != nil {
		return err
	}
	defer done()
	if r.Expect.Dir { // what others put into it and took out again has changed its times
		now, err := p.look(r.base(), &r)
		if err != nil {
			return held.Cannot(r.Source, "looked at", err)
		}
		if sameUnit(now, r.Expect) {
			r.Expect = now
		}
	}
	return p.removeExpected(&r, nil)
}

// tagBack gives a file the tags back that it had.
func (r Record) tagBack() error {
	now, err := watchfs.Stat(r.Target)
	if err != nil {
		return err
	}
	f, err := watchfs.OpenKnown(r.Root, r.Target, now)
	if err != nil {
		return err
	}
	defer f.Close()
	return content.WriteTags(f, r.Kept)
}

// targetRoot is the folder from which the way to the target may pass through no link: where it lies
// beside its source (rename, replace_with) the watched one, "" for none.
func (r Record) targetRoot() string {
	if filepath.Dir(r.Target) != filepath.Dir(r.Source) {
		return ""
	}
	return r.Root
}

// back is the place that the source comes back to.
func (r Record) back() plan.Spot { return plan.SpotWithin(r.Root, r.Source) }

// removeEmpty removes an empty folder that another placement made where a file had been.
func (p *Placer) removeEmpty(r Record) {
	req := Request{Source: r.Source, Root: r.Root}
	done, err := p.source(&req)
	if err != nil {
		return // undoing itself says what is wrong
	}
	defer done()
	if there, err := p.system().StatIn(req.from, req.base()); err == nil && there.Dir {
		_ = p.system().Remove(req.from, req.base()) // only an empty one goes by that
	}
}

// copyBack makes a file anew that went because its content was at the target, with
// the mode and the time that it had.
func (p *Placer) copyBack(r Record, part string) error {
	now, err := watchfs.Stat(r.Target)
	if err != nil {
		return err
	}
	_, err = p.Copy(Request{Source: r.Target, To: r.back(), Expect: now, Part: part, Same: rule.SameFail,
		Looks: r.looks()})
	return err
}

// looks are the mode and the time that a file comes back with, where it is copied: its place may have held
// them less exactly, or not at all. A folder's are its own.
func (r Record) looks() *file.Facts {
	if !r.Before.Exists || r.Before.Dir {
		return nil
	}
	return &r.Before
}

// moveBack moves a file back; it leaves a copy if another job relies on its content.
func (p *Placer) moveBack(r Record, part string) error {
	if r.Kind == job.Moved && !r.After.Dir && r.relied() != nil {
		return p.copyBack(r, part)
	}
	now, err := lookAs(r.Target, r.After)
	if err != nil {
		return err
	}
	res, err := p.Move(Request{Source: r.Target, Root: r.targetRoot(), To: r.back(), Expect: now, Part: part,
		Same: rule.SameFail, Looks: r.looks()})
	if res.Rest != nil && r.Rest != nil {
		r.Rest(res.Rest)
	}
	return err
}

// BringBack puts what was replaced back where nothing is now: the second half of undoing a
// move that replaced something, for one that was ended between the two.
func (p *Placer) BringBack(r Record, part string) error {
	kept, err := watchfs.Stat(r.Kept)
	if err != nil {
		return err
	}
	_, err = p.Move(Request{Source: r.Kept, To: plan.SpotWithin(r.targetRoot(), r.Target), Expect: kept, Part: part,
		Same: rule.SameFail})
	return err
}

// swapBack puts what was replaced back in one instant.
func (p *Placer) swapBack(r Record, part string) error {
	sys := p.system()
	spot := plan.SpotWithin(r.targetRoot(), r.Target)
	d, done, err := p.existing(spot)
	if err != nil {
		return err
	}
	defer done()
	if err := errors.Join(sys.DiscardIn(d, part), sys.Preserve(r.Kept, d.At(part))); err != nil {
		return errors.Join(held.Cannot(r.Target, "put back", err), sys.DiscardIn(d, part))
	}
	err = sys.Exchange(d, part, spot.Name)
	if errors.Is(err, held.ErrNoExchange) {
		if err = r.relied(); err == nil {
			err = d.Root.Rename(part, spot.Name)
		}
	} else if err == nil {
		stays := r.relied()
		if was, statErr := sys.StatIn(d, part); stays == nil && (statErr != nil || !was.Same(r.After)) {
			stays = job.ErrChanged
		}
		if stays != nil {
			return errors.Join(stays, sys.Exchange(d, part, spot.Name), sys.DiscardIn(d, part))
		}
		err = sys.DiscardIn(d, part)
	}
	if err != nil {
		return errors.Join(held.Cannot(r.Target, "put back", err), sys.DiscardIn(d, part))
	}
	return errors.Join(sys.Flush(d), sys.Discard(r.Kept))
}
