package flow

import (
	"errors"
	"maps"
	"slices"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
)

// What a file's content and tags say takes the time of a disk. A decision that needs it ends
// there, the file is looked into beside the flow, and then it is decided on again, as it was
// when it settled. What happens to the file meanwhile makes the answer void.

// errClosed ends a decision that needs to know what is inside.
var errClosed = errors.New("the file was not looked into yet")

// opening are settled files that are looked into.
type opening struct {
	files map[string]*opened
	came  due.Queue[string]    // their paths, by when they came
	lanes map[string][]*opened // those that wait, by what they lie in
	busy  map[string]bool      // lanes of which some are being read
	// by folder that was looked through for the first time: when all was found that was there
	folders map[string]time.Time
}

// opened is one of them.
type opened struct {
	path  string
	rule  string // that asked
	under string // the rule for which it has settled
	facts file.Facts
	seen  time.Time // when the first event came for it
	at    time.Time // when it had settled
}

// maxOpened bounds the files of a folder that are looked into together.
const maxOpened = 128

// openFor has a settled file be looked into for a rule.
func (f *Flow) openFor(r, under *rule.Rule, path string, facts file.Facts, now time.Time) {
	o := &opened{path: path, rule: r.Name.S, facts: facts, seen: f.seen, at: now}
	if under != nil {
		o.under = under.Name.S
	}
	lane := f.Set.Root(path)
	if f.Eyes.Unsure(path) {
		lane = path // its file system has a lane of its own
	}
	f.opening.add(lane, o)
}

// add has a file wait.
func (o *opening) add(lane string, one *opened) {
	if o.files == nil {
		o.files, o.lanes, o.busy = map[string]*opened{}, map[string][]*opened{}, map[string]bool{}
	}
	o.files[one.path] = one
	o.came.Set(one.path, one.seen)
	o.lanes[lane] = append(o.lanes[lane], one)
}

// next takes some files of a lane; the others stay until these have been read.
func (o *opening) next(lane string) (some []*opened) {
	list := o.lanes[lane]
	for len(list) > 0 && len(some) < maxOpened {
		if o.files[list[0].path] == list[0] { // it has neither changed, nor gone
			some = append(some, list[0])
		}
		list = list[1:]
	}
	if o.lanes[lane] = list; len(list) == 0 {
		delete(o.lanes, lane)
	}
	return some
}

// lookInside asks for what is inside the files that wait: those of a watched folder one after the
// other, so that they are decided on in the order in which they came.
func (f *Flow) lookInside() {
	if len(f.opening.lanes) == 0 {
		return
	}
	for _, lane := range slices.Sorted(maps.Keys(f.opening.lanes)) {
		if f.opening.busy[lane] {
			continue
		}
		if some := f.opening.next(lane); len(some) > 0 {
			f.opening.busy[lane] = true
			f.lookInto(lane, some)
		}
	}
}

// lookInto has files be looked into.
func (f *Flow) lookInto(lane string, files []*opened) {
	set := f.Set
	f.Read(files[0].path, func(from turn.Source) turn.Answer {
		found := make([]file.Facts, len(files))
		for i, o := range files {
			found[i] = o.facts
			from.Complete(set, set.Rule(o.rule), o.path, &found[i])
		}
		return func(time.Time) {
			delete(f.opening.busy, lane)
			for i, o := range files {
				f.insideSeen(o, found[i])
			}
		}
	})
}

// insideSeen decides on a file that was looked into.
func (f *Flow) insideSeen(o *opened, facts file.Facts) {
	if f.opening.files[o.path] != o {
		return
	}
	f.opening.leave(o.path)
	if f.settle.Has(o.path) {
		return // it changed, and settles again
	}
	f.seen = o.seen
	defer func() { f.seen = time.Time{} }()
	f.settled(o.path, f.CandidatesOf(o.path, facts.Dir, o.at), f.Set.Rule(o.under), facts, o.at)
}

// Asking counts the files that are looked into beside the flow, and those that are looked at on
// shares.
func (f *Flow) Asking() (into, at int) { return len(f.opening.files), len(f.asking) }

// through notes that all files of a folder were found that were there.
func (o *opening) through(folder string) {
	if o.folders == nil {
		o.folders = map[string]time.Time{}
	}
	o.folders[folder] = time.Time{}
}

// known returns the folders of which all files were looked into that were there.
func (o *opening) known(now time.Time) (folders []string) {
	for folder, at := range o.folders {
		if at.IsZero() {
			o.folders[folder], at = now, now
		}
		if !o.anyIn(folder, at) {
			delete(o.folders, folder)
			folders = append(folders, folder)
		}
	}
	return folders
}

// gatherNext is when the next batch or group ends; ok is false while a file is looked into that came
// before that, and may belong to it.
func (f *Flow) gatherNext() (at time.Time, ok bool) {
	at, ok = f.gather.Next()
	return at, ok && !f.opening.any(at)
}

// any reports whether a file is looked into that had come by a time.
func (o *opening) any(by time.Time) bool {
	first, some := o.came.Next()
	return some && !first.After(by)
}

// anyIn reports whether a file of a folder that settled by a time is looked into.
func (o *opening) anyIn(folder string, by time.Time) bool {
	for path, one := range o.files {
		if _, below := plan.Below(path, folder); below && !one.at.After(by) {
			return true
		}
	}
	return false
}

// leave lets go of a file; false if it was not looked into.
func (o *opening) leave(path string) bool {
	_, was := o.files[path]
	delete(o.files, path)
	o.came.Remove(path)
	return was
}

// LetGo drops a file that waits to be decided on.
func (f *Flow) LetGo(path string) {
	f.settle.Forget(path)
	f.opening.leave(path)
}

// drop lets go of the files in a folder.
func (o *opening) drop(folder string) {
	for path := range o.files {
		if _, below := plan.Below(path, folder); below {
			o.leave(path)
		}
	}
}
