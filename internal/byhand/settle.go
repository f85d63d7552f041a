package byhand

import (
	"path/filepath"
	"slices"

	"stilltide/internal/core/job"
	"stilltide/internal/naming"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// SettleMove says where the file of a move is that was cut short, and whether it still waits
// to be moved.
func SettleMove(l Records, placer *place.Placer, state string, p job.Placement) (at string, still bool,
	rest *job.Rest) {
	part := place.PartName(state, p.Job, p.Source)
	half := filepath.Join(filepath.Dir(p.Target), part)
	if there, err := watchfs.Stat(half); err == nil && there.Exists && there.Ino == p.Facts.Ino &&
		there.Dev == p.Facts.Dev {
		_ = placer.Rename(half, p.Source) // on its way to replace something, or hidden where it is
	} else {
		_ = placer.Discard(half) // a copy that was not complete, or what was replaced and is kept
	}
	copied := p.Facts.Dir && p.After.Exists && work.LookAt(p.Target, false).Ino == p.After.Ino
	if copied {
		if ok, rest, _ := placer.FinishRemoval(place.Request{Source: p.Source, Expect: p.Facts, Part: part},
			p.Target); ok {
			p.State = job.Done
			l.RecordPlacement(p)
			return p.Target, false, rest
		}
	}
	source := p.Source
	if hidden := filepath.Join(filepath.Dir(p.Source), part); work.LookAt(hidden, p.Facts.Dir).Same(p.Facts) {
		if source = hidden; placer.Rename(hidden, p.Source) == nil {
			source = p.Source
		}
	}
	landed := landedAt(p, source)
	facts := work.LookAt(source, p.Facts.Dir)
	there := facts.Exists && (facts.Same(p.Facts) || facts.Dir && p.Facts.Ino == facts.Ino &&
		p.Facts.Dev == facts.Dev)
	if landed == "" && !there && copied {
		landed = p.Target // and nothing is left of its source
	}
	if landed != "" && there {
		// Both names, one content: the move was between its two halves.
		removed, err := placer.RemoveDuplicate(place.Request{Source: source, Expect: facts, Part: part}, landed)
		there = err != nil || !removed
	}
	switch {
	case there:
		return p.Source, true, nil // the placing, which is tried again, finds it under its hidden name, too
	case landed != "":
		p.State, p.Target = job.Done, landed
		if now := work.LookAt(landed, p.Facts.Dir); now.Exists {
			p.After = now
		}
	default:
		p.State = job.Dropped
	}
	l.RecordPlacement(p)
	return landed, false, nil
}

// settlePutBack brings the moves that put a job's files back to a clean point, where they were cut
// short. begun tells that a file is back.
func settlePutBack(l Records, placer *place.Placer, row *job.Job, moves []job.Placement) (begun bool, _ error) {
	for _, p := range moves {
		if err := place.CanComeBack(row.Watch); err != nil {
			return begun, err
		}
		at, still, _ := SettleMove(l, placer, l.Folder(), p)
		if still {
			p.State = job.Dropped
			l.RecordPlacement(p)
			continue
		}
		if !row.State.Final() {
			continue // all but the record of this move was done
		}
		begun = true
		if err := removeTraces(placer, row.ID, row.State, p.Source, at); err != nil {
			return begun, err
		}
		nowAt(row, p.Source, at)
		l.Record(*row, row.State)
	}
	return begun, nil
}

// settleEarlier does that for what an earlier command could not finish.
func settleEarlier(l Records, placer *place.Placer, row *job.Job) (begun bool, _ error) {
	all, err := l.Placements(row.ID)
	if err != nil {
		return false, err
	}
	return settlePutBack(l, placer, row, slices.DeleteFunc(all, func(p job.Placement) bool {
		return p.State != job.Intended || p.FinalState != job.Queued
	}))
}

// nowAt notes that a job's file that was in one place is in another.
func nowAt(row *job.Job, was, now string) {
	if row.FileNow == was {
		row.FileNow = now
	}
	for i := range row.Extra {
		if row.Extra[i].FileNow == was {
			row.Extra[i].FileNow = now
		}
	}
}

// landedAt returns the target where the file of a placement is now, "" if at none.
// source is where it would be otherwise.
func landedAt(p job.Placement, source string) string {
	folder, name := filepath.Split(p.Target)
	for n := 1; n < 10000; n++ {
		path := filepath.Join(folder, naming.Numbered(name, n))
		facts, err := watchfs.Stat(path)
		if err != nil || !facts.Exists {
			return ""
		}
		if place.SameEntry(path, source) {
			continue
		}
		sameFile := facts.Dev == p.Facts.Dev && facts.Ino == p.Facts.Ino
		// Not by device: a bind mount is another file system with the same number.
		copied := !sameFile && facts.Size == p.Facts.Size && facts.Mod == p.Facts.Mod
		if copied {
			// A complete copy has the source's content, if that is still there to compare.
			if work.LookAt(source, false).Exists {
				copied, err = place.SameContent(source, path, p.Facts.Size)
				copied = copied && err == nil
			}
		}
		if sameFile || copied {
			return path
		}
	}
	return ""
}
