package byhand

import (
	"errors"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/look"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// foreseen is how the disk will look when some placements are undone, each path by oneName.
type foreseen struct {
	over map[string]file.Facts // what will be at a path
	back map[string]string     // folders that will be back, and where they are now
	more map[string]int64      // by how much what lies at a path will be larger, in bytes
}

// look is watchfs.LookAny, then.
func (f *foreseen) look(path string) (file.Facts, error) {
	if facts, ok := f.over[oneName(path)]; ok {
		return facts, nil
	}
	now := path
	for at := filepath.Dir(path); at != filepath.Dir(at); at = filepath.Dir(at) {
		if to, ok := f.back[at]; ok {
			now = to + path[len(at):]
			break
		}
	}
	facts, err := watchfs.LookAny(now)
	if facts.Dir {
		for changed, more := range f.more {
			if _, below := plan.Below(changed, oneName(path)); below {
				facts.Size += more
			}
		}
	}
	return facts, err
}

// undone notes that a placement will be undone. own tells that it gave an input new content where that lay.
func (f *foreseen) undone(p *job.Placement, own bool) {
	target, source := oneName(p.Target), oneName(p.Source)
	switch p.Kind {
	case job.Duplicate: // undoing that leaves its target
	case job.Tagged:
		f.over[target] = p.Facts
		return
	default:
		f.over[target] = file.Facts{}
		f.more[target] -= p.After.Size
	}
	if !p.Kind.Adds() {
		f.over[source] = p.Facts
		f.more[source] += p.Facts.Size
	}
	kept, err := watchfs.Stat(p.Kept)
	if own {
		kept = p.Facts
	}
	if p.Replaced && err == nil {
		f.over[target] = kept
		f.more[target] += kept.Size
	}
	if p.Facts.Dir && p.Kind == job.Moved {
		f.back[p.Source] = p.Target
	}
}

// canUndoAll asks of each placement whether it can be undone, as if the ones
// after it had been, and lists the obstacles.
func canUndoAll(l Records, placer *place.Placer, row job.Job, list []job.Placement) error {
	then := foreseen{map[string]file.Facts{}, map[string]string{}, map[string]int64{}}
	var problems []string
	for i := range list {
		p := &list[i]
		own, err := work.IsOwn(l, p)
		if err != nil {
			return err
		}
		if p.State.GoingBack() || work.IsHalfBack(p) || work.IsHidden(p, partOf(l, p)) { // it goes on from there
			if !work.IsBack(p) {
				then.undone(p, own)
			}
			continue
		}
		if err := placer.CanUndo(work.RecordOf(p, row.Watch), then.look); err != nil {
			problems = append(problems, err.Error())
		}
		if later, err := takenLater(l, row, p); err != nil {
			return err
		} else if later != "" {
			problems = append(problems, later)
		}
		if err := work.Relied(l, p); err != nil {
			problems = append(problems, err.Error())
		}
		if err := work.LastOf(l, l.Folder(), p, nil, then.look); err != nil {
			problems = append(problems, err.Error())
		} else if row.FileNow == "" && row.Event != file.Removed && p.Kind == job.Put && !p.Replaced {
			problems = append(problems, work.NothingElse(p, row.File).Error())
		}
		then.undone(p, own)
	}
	if len(problems) > 0 {
		return errors.New(strings.Join(slices.Compact(problems), "; "))
	}
	return nil
}

// oneName spells a path that is reached in several ways through links always the same.
func oneName(path string) string {
	return filepath.Join(look.RealPath(filepath.Dir(path)), filepath.Base(path))
}
