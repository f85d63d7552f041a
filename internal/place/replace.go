package place

import (
	"errors"
	"fmt"

	"stilltide/internal/core/job"
	"stilltide/internal/held"
)

// moveOver moves onto a name that is there; what was there is kept.
func (p *Placer) moveOver(r *Request, src source, d *held.Folder, c choice) (Result, error) {
	sys := p.system()
	copied := false
	var lost []string
	err := sys.Rename(r.from, r.base(), d, r.part())
	if held.IsCrossDevice(err) && r.Near {
		return Result{}, ErrFar
	}
	if held.IsCrossDevice(err) {
		copied = true
		if lost, err = p.copyPart(r, d, true); err != nil {
			return Result{}, err
		}
	}
	if err != nil {
		return Result{}, held.Cannot(r.Source, "moved to "+d.Path, err)
	}
	back := func(err error) (Result, error) {
		if copied {
			return Result{}, errors.Join(err, sys.DiscardIn(d, r.part()))
		}
		return Result{}, errors.Join(err, sys.Rename(d, r.part(), r.from, r.base()))
	}
	now, err := p.partFacts(r, d, c.name)
	if err == nil && !copied && !src.is(now, r) {
		err = job.ErrChanged
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
	return Result{Target: d.At(c.name), Facts: now, Lost: lost}, nil
}

// swap puts a part in the place of what has its name, in one instant. What
// was there is kept first; if it is not what was meant, nothing changes.
func (p *Placer) swap(d *held.Folder, part string, c choice, kept string) error {
	sys := p.system()
	if err := sys.Preserve(d.At(c.name), kept); err != nil {
		return errors.Join(held.Cannot(d.At(c.name), "kept before it is replaced", err), sys.Discard(kept))
	}
	other := func() error {
		return errors.Join(fmt.Errorf("%s: %w", d.At(c.name), job.ErrChanged), sys.Discard(kept))
	}
	if saved, err := sys.Stat(kept); err != nil || saved.Size != c.old.Size || saved.Mod != c.old.Mod {
		return errors.Join(err, other())
	}
	err := sys.Exchange(d, part, c.name)
	if errors.Is(err, held.ErrNoExchange) {
		return p.replaceBlindly(d, part, c, other)
	}
	if err != nil {
		return errors.Join(held.Cannot(d.At(c.name), "replaced", err), sys.Discard(kept))
	}
	was, err := sys.StatIn(d, part)
	if err == nil && !was.Same(c.old) {
		err = fmt.Errorf("%s: %w", d.At(c.name), job.ErrChanged)
	}
	if err == nil {
		err = sys.Flush(d)
	}
	if err == nil {
		err = sys.DiscardIn(d, part)
	}
	if err != nil && !errors.Is(err, job.ErrChanged) {
		err = held.Cannot(d.At(c.name), "replaced", err)
	}
	if err != nil {
		return errors.Join(err, sys.Exchange(d, part, c.name), sys.Discard(kept))
	}
	return nil
}

// replaceBlindly replaces where two names cannot be swapped: the last look is
// an instant before.
func (p *Placer) replaceBlindly(d *held.Folder, part string, c choice, other func() error) error {
	if now, err := p.system().StatIn(d, c.name); err != nil || !now.Same(c.old) {
		return errors.Join(err, other())
	}
	if err := d.Root.Rename(part, c.name); err != nil {
		return held.Cannot(d.At(c.name), "replaced", err)
	}
	return p.system().Flush(d)
}
