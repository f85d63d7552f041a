package work

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// RecordOf returns what the place package must know of a placement of a job whose file was
// taken from a watched folder.
func RecordOf(p *job.Placement, watch string) place.Record {
	return place.Record{Root: watch, Kind: p.Kind, Source: p.Source, Target: p.Target, Before: p.Facts,
		After: p.After, Kept: p.Kept, Replaced: p.Replaced, Made: p.Made}
}

// Relied returns an error if another job relies on the content that a placement put at
// its target.
func Relied(l interface {
	Reliers(target string, job int64) ([]job.Placement, error)
}, p *job.Placement) error {
	if k := p.Kind; k != job.Moved && k != job.Put {
		return nil // undoing it takes nothing away from there
	}
	list, err := l.Reliers(p.Target, p.Job)
	if err != nil {
		return err
	}
	for _, other := range list {
		if other.After.Ino == p.After.Ino {
			return fmt.Errorf("%s stays: job %d removed %s because this has the same content", p.Target, other.Job,
				other.Source)
		}
	}
	return nil
}

// TakeBack undoes an attempt's placements, newest first, and says what could
// not be undone. A placement that was cut short is brought to a clean point
// first. That the rest is being undone is durable before the first of it is.
// After a crash any of it may have been undone already. What may be all that is left of the
// attempt's inputs stays.
func (h Hands) TakeBack(list []*job.Placement, inputs []job.Unit, crashed bool) (problems []string) {
	var open []*job.Placement
	now := Changes{}
	for i := len(list) - 1; i >= 0; i-- {
		p := list[i]
		switch p.State {
		case job.Dropped, job.Undone:
			continue
		case job.Intended:
			if !h.happened(p, h.part(p)) {
				now.back(p) // perhaps from another disk, while the ledger could not be written
				h.Drop(p)
				continue
			}
		}
		p.State = job.Undoing
		open = append(open, p)
	}
	if len(open) == 0 {
		return nil
	}
	input, gone := inputGone(list, inputs)
	_ = h.Book.Intend(open) // even if the ledger is in trouble: the files come first
	for _, p := range open {
		var err error
		if gone && p.Kind == job.Put && !p.Replaced {
			err = NothingElse(p, input)
		} else {
			err = now.Undo(h.Placer, p, h.Watch, h.part(p), crashed, Undoing{
				Stays: func() error { return h.Book.Stays(p, list) },
				Rest:  func(rest *job.Rest) { problems = append(problems, rest.String()) },
			})
		}
		if p.State = job.Undone; err != nil {
			p.State = job.Done
			problems = append(problems, err.Error())
		} else if before := now.Before(p, open); before != nil {
			h.Book.Did(before) // first: a reader that sees this one undone must know the file
		}
		h.Book.Did(p)
	}
	return problems
}

func (h Hands) part(p *job.Placement) string { return place.PartName(h.State, p.Job, p.Source) }

// NotUndone lists what is still done: the next attempt's end tries again.
func NotUndone(list []*job.Placement) []*job.Placement {
	return slices.DeleteFunc(slices.Clone(list), func(p *job.Placement) bool { return p.State != job.Done })
}

// Drop ends a placement that was not made.
func (h Hands) Drop(p *job.Placement) {
	if p.Replaced && p.Kept != "" {
		_ = h.Placer.Discard(p.Kept) // what it would have replaced is still in its place
	}
	p.State = job.Dropped
	h.Book.Did(p)
}

// Changes are how files look that were put back: from another disk a file
// comes back with another number.
type Changes map[string]file.Facts

// Before returns the placement that had put the file where an undone one has brought it back
// to, if it looks different now.
func (c Changes) Before(undone *job.Placement, list []*job.Placement) *job.Placement {
	now, ok := c[undone.Source]
	if !ok || now.Same(undone.Facts) {
		return nil
	}
	for _, p := range list {
		if p != undone && p.Target == undone.Source && p.State.GoingBack() {
			p.After = now
			return p
		}
	}
	return nil
}

// back notes how the file looks that is back where a placement took it from.
func (c Changes) back(p *job.Placement) {
	if now := LookAt(p.Source, p.Facts.Dir); now.Exists && now.Size == p.Facts.Size && now.Mod == p.Facts.Mod {
		c[p.Source] = now
	}
}

// BackAt tells the placement that had put a file where it is again how it looks now:
// one that came back from another disk, or as a copy, has another number.
func BackAt(l interface {
	PlacedAt(target string) ([]job.Placement, error)
	RecordPlacement(p job.Placement)
}, p *job.Placement, now file.Facts) error {
	if !now.Exists || now.Same(p.Facts) {
		return nil
	}
	before, err := l.PlacedAt(p.Source)
	for _, b := range slices.Backward(before) { // the newest: names of one file may have been there one after the other
		if b.ID < p.ID && b.Job != p.Job && b.After.Ino == p.Facts.Ino && b.After.Size == now.Size {
			b.After = now
			l.RecordPlacement(b)
			break
		}
	}
	return err
}

// Undoing is what is asked, and told, while a placement is undone.
type Undoing struct {
	Stays func() error    // an error if what it placed is to stay there
	Rest  func(*job.Rest) // what could not be removed of a folder that is back
}

// Undo undoes one placement, newest first. resumed says that it may have been
// undone before a crash. One that failed on its way and on the way back goes on, too.
func (c Changes) Undo(placer *place.Placer, p *job.Placement, watch, part string, resumed bool,
	u Undoing) error {
	if f, ok := c[p.Target]; ok {
		p.After = f
	}
	if resumed = resumed || IsHidden(p, part); resumed {
		cleanUndo(placer, p, part, u.Stays)
		finishBack(placer, p, part)
	}
	if resumed && IsBack(p) {
		c.back(p)
		return nil
	}
	record := RecordOf(p, watch)
	record.Relied, record.Rest = u.Stays, u.Rest
	if p.Kind.Adds() { // asked once more when it has its hidden name
		if err := u.Stays(); err != nil {
			return err
		}
	}
	var err error
	if IsHalfBack(p) {
		err = placer.BringBack(record, part)
	} else if err = placer.CanUndo(record, watchfs.LookAny); err == nil {
		err = placer.Undo(record, part)
	}
	if err != nil && u.Stays() == nil && p.Kind.Adds() && !p.Replaced {
		err = discardHidden(placer, p, part, err)
	}
	if err != nil {
		return err
	}
	switch p.Kind {
	case job.Moved, job.Duplicate, job.Trashed:
		c[p.Source] = LookAt(p.Source, p.Facts.Dir)
	}
	if p.Replaced {
		c[p.Target] = LookAt(p.Target, p.Facts.Dir)
	}
	return nil
}

// IsHidden reports whether a placement is on its way back: a file has its hidden name.
func IsHidden(p *job.Placement, part string) bool {
	is := func(beside string) bool {
		return beside != "" && LookAt(filepath.Join(filepath.Dir(beside), part), false).Exists
	}
	return is(p.Target) || !p.Kind.Adds() && is(p.Source)
}

// discardHidden ends a removal of ours that failed twice, on the way and on
// the way back, so that the file has its hidden name.
func discardHidden(placer *place.Placer, p *job.Placement, part string, err error) error {
	hidden := filepath.Join(filepath.Dir(p.Target), part)
	if there := LookAt(hidden, p.After.Dir); !there.Exists || !there.Same(p.After) {
		return err
	}
	return placer.Discard(hidden)
}

// cleanUndo removes what an undoing that a crash cut short left under its
// hidden name, or gives the file its name back.
func cleanUndo(placer *place.Placer, p *job.Placement, part string, stays func() error) {
	there := filepath.Join(filepath.Dir(p.Target), part)
	hidden, back := LookAt(there, p.After.Dir), LookAt(p.Source, p.Facts.Dir)
	switch {
	case !hidden.Exists:
	case p.Kind.Adds() && !p.Replaced && stays() != nil:
		_ = placer.Rename(there, p.Target)
	case p.Kind.Adds(), back.Exists && back.Size == hidden.Size && back.Mod == hidden.Mod:
		_ = placer.Discard(there) // a placed copy that was about to go
	case hidden.Same(p.After):
		_ = placer.Rename(there, p.Target)
	}
	if here := filepath.Join(filepath.Dir(p.Source), part); p.Source != "" && !p.Kind.Adds() && here != there {
		_ = placer.Discard(here) // a copy on its way back
	}
}

// finishBack ends a move back to another disk that was cut short between its two halves:
// the copy is where the file was taken from, and what it is a copy of goes.
func finishBack(placer *place.Placer, p *job.Placement, part string) {
	if p.Kind != job.Moved && p.Kind != job.Trashed {
		return
	}
	target, back := LookAt(p.Target, p.After.Dir), LookAt(p.Source, p.Facts.Dir)
	if !target.Exists && back.Exists && p.Facts.Dir { // it has its hidden name, and some of it has gone
		_, _, _ = placer.FinishRemoval(place.Request{Source: p.Target, Expect: p.After, Part: part}, p.Source)
		return
	}
	if !target.Exists || !back.Exists || target.Size != back.Size || target.Mod != back.Mod || !sameFile(target,
		p.After) {
		return
	}
	r := place.Request{Source: p.Target, Expect: target, Part: part}
	if target.Dir {
		_, _, _ = placer.FinishRemoval(r, p.Source)
		return
	}
	_, _ = placer.RemoveDuplicate(r, p.Source)
}

func sameFile(a, b file.Facts) bool { return a.Ino == b.Ino && a.Dev == b.Dev }

// IsBack reports whether what a placement placed is no longer there, and what
// it took, or replaced, is.
func IsBack(p *job.Placement) bool {
	target := LookAt(p.Target, p.After.Dir)
	if p.Kind.Adds() {
		return !target.Exists || target.Ino != p.After.Ino
	}
	switch {
	case !LookAt(p.Source, p.Facts.Dir).Exists:
		return false
	case p.Kind == job.Duplicate:
		return true
	case p.Replaced:
		return target.Exists && !sameFile(target, p.After)
	}
	return !target.Exists
}

// IsHalfBack reports whether a move that replaced something is back, and what it replaced
// is not.
func IsHalfBack(p *job.Placement) bool {
	if p.Kind != job.Moved || !p.Replaced {
		return false
	}
	back := LookAt(p.Source, false)
	return back.Exists && back.Size == p.Facts.Size && back.Mod == p.Facts.Mod && !LookAt(p.Target, false).Exists
}

// happened reports whether an intended placement was made, and removes what is
// left of one that was not.
func (h Hands) happened(p *job.Placement, part string) bool {
	target := LookAt(p.Target, p.Facts.Dir)
	made := p.After.Exists && target.Exists && target.Size == p.After.Size && target.Mod == p.After.Mod &&
		(target.Ino == p.After.Ino || !p.Kind.Adds())
	if made && h.finishRemoval(p, part) {
		p.After = target
		return true
	}
	h.cleanParts(p, part, made)
	switch p.Kind {
	case job.Put, job.Linked:
		return made
	case job.Tagged:
		return true
	case job.Deleted:
		return !LookAt(p.Source, p.Facts.Dir).Exists
	}
	source := LookAt(p.Source, p.Facts.Dir)
	if !source.Exists {
		if made {
			p.After = target // on another disk it has another number
		}
		return made
	}
	if made && p.Kind == job.Moved && p.Facts.Dir && target.Ino != source.Ino {
		// The same; the copy goes as far as the source has all of it.
		_, _, _ = h.Placer.FinishRemoval(place.Request{Source: p.Target, Expect: target, Part: part}, p.Source)
		return false
	}
	if made && p.Kind == job.Moved && target.Ino != source.Ino {
		// The copy was complete, and the source had not gone yet.
		_, _ = h.Placer.RemoveDuplicate(place.Request{Source: p.Target, Expect: target, Part: part}, p.Source)
	}
	return false
}

// finishRemoval goes on with the removal of a folder that had begun when its copy was
// complete.
func (h Hands) finishRemoval(p *job.Placement, part string) bool {
	if p.Kind != job.Moved || !p.Facts.Dir || LookAt(p.Source, false).Exists {
		return false
	}
	ok, _, err := h.Placer.FinishRemoval(place.Request{Source: p.Source, Root: h.Watch, Expect: p.Facts,
		Part: part}, p.Target)
	return ok && err == nil
}

// cleanParts removes what a placement that was cut short left under its
// hidden name; the source itself gets its name back.
func (h Hands) cleanParts(p *job.Placement, part string, made bool) {
	there := filepath.Join(filepath.Dir(p.Target), part)
	_ = h.Placer.Discard(there + "-u")
	if hidden := LookAt(there, p.Facts.Dir); hidden.Exists {
		if p.Kind == job.Moved && hidden.Ino == p.Facts.Ino && hidden.Dev == p.Facts.Dev {
			_ = h.Placer.Rename(there, p.Source)
		} else {
			_ = h.Placer.Discard(there)
		}
	}
	here := filepath.Join(filepath.Dir(p.Source), part)
	if here == there || p.Source == "" || p.Kind.Adds() {
		return
	}
	if hidden := LookAt(here, p.Facts.Dir); hidden.Exists && hidden.Same(p.Facts) {
		if made {
			_ = h.Placer.Discard(here)
		} else {
			_ = h.Placer.Rename(here, p.Source)
		}
	}
}

// LookAt returns the facts of a path; the zero value if it cannot be looked at.
func LookAt(path string, dir bool) file.Facts {
	if path == "" {
		return file.Facts{}
	}
	look := watchfs.Stat
	if dir {
		look = watchfs.LookTree
	}
	f, err := look(path)
	if err != nil {
		return file.Facts{}
	}
	return f
}

func isEmpty(folder string) bool {
	entries, err := os.ReadDir(folder)
	return err == nil && len(entries) == 0
}

// Stuck follows the files whose placements could not be undone.
func Stuck(units []job.Unit, list []*job.Placement) {
	for _, p := range list {
		for i := range units {
			if u := &units[i]; p.State == job.Done && p.Source == u.At &&
				(p.Kind == job.Moved || p.Kind == job.Duplicate ||
					p.Kind == job.Trashed) {
				u.At, u.Facts = p.Target, p.After
			} else if p.State == job.Done && p.Source == u.At && p.Kind == job.Deleted {
				u.At = ""
			}
		}
	}
}

// Restored notes how files look that were put back: one that came back from
// another disk has another number, and is still the same file.
func Restored(units []job.Unit) {
	for i := range units {
		u := &units[i]
		now := LookAt(u.At, u.Facts.Dir)
		switch {
		case u.At != u.Taken || !now.Exists || now.Size != u.Facts.Size:
		case now.Mod == u.Facts.Mod:
			u.Facts.Dev, u.Facts.Ino = now.Dev, now.Ino
		case now.Dir && sameFile(now, u.Facts) && isEmpty(u.At):
			u.Facts.Mod = now.Mod // an empty folder has its own time, which a part-file in it has changed
		}
	}
}
