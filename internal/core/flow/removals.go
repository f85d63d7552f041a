package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/core/underway"
)

// maxRemoved bounds the removals that one round sorts, and those that it decides on: each takes a
// look or some reads.
const maxRemoved = 200

// gone are the known files that went, until that has been decided on.
type gone struct {
	files map[string]*went
	// by what a rename does not change: those that may be found again under another name
	inodes map[string][]*went
	fresh  []*went            // those of which is not known yet which rules know them
	more   bool               // the last round ended before all those were sorted
	rules  map[string][]*went // by the rule that a removal counts for, in the order in which they went
	count  map[string]int     // by rule: how many those are
	// by rule: how many may go, because they are few of those that it knows, or a person has said so
	allowed map[string]int
}

// went is a known file that went, and the rules that know it.
type went struct {
	path   string
	due    time.Time // when that counts
	inodes []string
	over   bool // it is decided on, or it does not count

	rule   string           // that it counts for, "" while that is not known
	told   []take.Reply     // those that react, up to the first that does not share
	forget []plan.Candidate // those that do not
}

// add notes that a file went.
func (g *gone) add(path string, due time.Time, inodes ...string) {
	if g.files == nil {
		*g = gone{files: map[string]*went{}, inodes: map[string][]*went{}, rules: map[string][]*went{},
			count: map[string]int{}, allowed: map[string]int{}}
	}
	if before := g.files[path]; before != nil {
		g.drop(before)
	}
	w := &went{path: path, due: due, inodes: inodes}
	g.files[path] = w
	g.fresh = append(g.fresh, w)
	for _, inode := range inodes {
		g.inodes[inode] = append(g.inodes[inode], w)
	}
}

// drop lets go of a file.
func (g *gone) drop(w *went) {
	w.over = true
	delete(g.files, w.path)
	for _, inode := range w.inodes {
		if g.inodes[inode] = slices.DeleteFunc(g.inodes[inode], isOver); len(g.inodes[inode]) == 0 {
			delete(g.inodes, inode)
		}
	}
	if w.rule != "" {
		g.count[w.rule]--
	}
}

func isOver(w *went) bool { return w.over }

// dropBelow lets go of the files in a folder.
func (g *gone) dropBelow(folder string) {
	for path, w := range g.files {
		if _, below := plan.Below(path, folder); below {
			g.drop(w)
		}
	}
}

// anew has all of it be sorted again, because the rules have changed.
func (g *gone) anew() {
	g.fresh = nil
	for _, w := range g.files {
		w.rule, w.told, w.forget = "", nil, nil
		g.fresh = append(g.fresh, w)
	}
	slices.SortFunc(g.fresh, func(a, b *went) int { return strings.Compare(a.path, b.path) })
	clear(g.rules)
	clear(g.count)
	clear(g.allowed)
}

// front is the first file of a rule that is not over, nil if there is none.
func (g *gone) front(rule string) *went {
	list := g.rules[rule]
	for len(list) > 0 && list[0].over {
		list = list[1:]
	}
	if len(list) == 0 {
		delete(g.rules, rule)
		delete(g.allowed, rule)
		return nil
	}
	g.rules[rule] = list
	return list[0]
}

// freshDue is when the first file is due that is not sorted yet.
func (g *gone) freshDue() (due time.Time, ok bool) {
	for _, w := range g.fresh {
		if !w.over && (!ok || w.due.Before(due)) {
			due, ok = w.due, true
		}
	}
	return due, ok
}

// Went notes that a path went, on which is decided at a time.
func (f *Flow) Went(path string, due time.Time) { f.gone.add(path, due) }

// Missing tells of files that a rule knows and that a sweep has not found. There may be very many, so
// the ledger is not asked here.
func (f *Flow) Missing(rule string, paths []string, now time.Time) {
	r := f.Set.Rule(rule)
	if r == nil {
		return
	}
	for _, path := range paths {
		switch {
		case f.gone.files[path] != nil || f.Claims[path] != nil || f.lent[path]: // it is known, or a job took it away
		case f.Set.TakesFolders():
			f.WentAway(path, false, now)
		default:
			f.settingChanged(path, now)
			f.letGoOf(path, now)
			f.gone.add(path, now.Add(r.Debounce.Duration))
		}
	}
}

// waitsForPerson reports whether a file that went is one of those that wait until a person has
// accepted it.
func (f *Flow) waitsForPerson(path string) bool {
	w := f.gone.files[path]
	return w != nil && w.rule != "" && f.InTrouble[w.rule] != ""
}

// letGoOf tells the machines by which a file may wait that it is no longer there.
func (f *Flow) letGoOf(path string, now time.Time) {
	f.settle.Nudge(path, now)
	if j := f.ByPath[path]; f.opening.leave(path) && j != nil && j.Parked[path] {
		f.Wait(path, j.Rule, settle.Nudged, now) // the next look tells its job
	}
	f.gather.Leave(path)
}

// removals decides on the known files that went and are still missing. Those of a rule that needs
// attention wait for that.
func (f *Flow) removals(now time.Time) {
	g := &f.gone
	if due, any := g.freshDue(); any && (g.more || !due.After(now)) {
		f.sortRemovals(now, maxRemoved)
	}
	if g.more {
		return // it is not known yet how many they are
	}
	left := maxRemoved
	for name := range g.rules {
		if f.InTrouble[name] != "" {
			continue
		}
		for w := g.front(name); w != nil && left > 0; w = g.front(name) {
			if w.due.After(now) || f.mayBeRenamed(w) || f.tooMany(name, w, now) {
				break
			}
			left--
			g.drop(w)
			g.allowed[name]--
			f.removed(w, now)
		}
	}
}

// mayBeRenamed reports whether a file that went may be one, under another name, that is not
// decided on yet: it is looked into, or looked at on a share.
func (f *Flow) mayBeRenamed(w *went) bool {
	return f.opening.any(w.due) || len(f.asking) > 0 && f.Eyes.Unsure(w.path)
}

// sortRemovals finds out which rules know the files that went, of so many at most. What is in an
// absent folder has not gone; what no rule knows is forgotten; what cannot be read is asked again.
func (f *Flow) sortRemovals(now time.Time, most int) {
	g := &f.gone
	g.fresh = slices.DeleteFunc(g.fresh, isOver)
	var unread []*went
	part := g.fresh[:min(most, len(g.fresh))]
	for _, w := range part {
		if f.ByPath[w.path] != nil || f.lent[w.path] || f.Window.Holds(&f.Jobs, w.path) {
			g.drop(w) // a job has it, perhaps that of this very removal
			continue
		}
		there := slices.DeleteFunc(slices.Clone(f.goneCandidates(w.path)), func(c plan.Candidate) bool {
			return f.IsAbsent(c.Watch)
		})
		var err error
		w.told, w.forget, err = take.Gone(there, f.sources)
		switch {
		case err != nil:
			w.due = now.Add(time.Second)
			unread = append(unread, w)
			continue
		case len(w.told) > 0:
			w.rule = w.told[0].Candidate.Rule.Name.S
		case len(w.forget) > 0:
			w.rule = w.forget[0].Rule.Name.S
		default:
			g.drop(w)
			continue
		}
		g.rules[w.rule] = append(g.rules[w.rule], w)
		g.count[w.rule]++
	}
	g.more = len(part) < len(g.fresh)
	g.fresh = append(unread, g.fresh[len(part):]...)
}

// tooMany stops a rule whose known files went in a mass: more likely
// something happened to the folder than to each of them.
func (f *Flow) tooMany(name string, first *went, now time.Time) bool {
	n := f.gone.count[name]
	if n <= take.Mass || len(first.told) == 0 || n <= f.gone.allowed[name] {
		return false
	}
	known := f.Store.KnownCount(name)
	if 2*n <= known || f.isAccepted(name, now) {
		f.gone.allowed[name] = n
		return false
	}
	f.Trouble(name, fmt.Sprintf("%s of its %s known files went at once, and nothing was done about it; stilltide "+
		"resume %s accepts that they are gone", plan.Number(n), plan.Number(known), fill.QuoteWord(name)))
	return true
}

// acceptRemovals has all files of a rule go that are missing now.
func (f *Flow) acceptRemovals(rule string) {
	f.sortRemovals(time.Time{}, len(f.gone.fresh))
	for _, w := range f.gone.rules[rule] {
		w.due = time.Time{}
	}
	if n := f.gone.count[rule]; n > 0 {
		f.gone.allowed[rule] = n
	}
}

// nextRemoval is when a file that went is to be decided on.
func (f *Flow) nextRemoval() (at time.Time, ok bool) {
	if at, ok = f.gone.freshDue(); f.gone.more {
		return time.Time{}, ok
	}
	for name := range f.gone.rules {
		if f.InTrouble[name] != "" {
			continue
		}
		if w := f.gone.front(name); w != nil && !f.mayBeRenamed(w) && (!ok || w.due.Before(at)) {
			at, ok = w.due, true
		}
	}
	return at, ok
}

// anyRemoval reports whether something is to be decided on that needs no person.
func (f *Flow) anyRemoval() bool {
	if _, any := f.gone.freshDue(); any {
		return true
	}
	for name := range f.gone.rules {
		if f.InTrouble[name] == "" && f.gone.front(name) != nil {
			return true
		}
	}
	return false
}

// removed takes a removal: the first rule that reacts has a job of it, and those
// after that, if it shares, when that is over.
func (f *Flow) removed(g *went, now time.Time) {
	facts, err := f.Eyes.Look(g.path)
	if underway.IsNoAnswer(err) {
		f.gone.add(g.path, now.Add(time.Second), g.inodes...)
	}
	if err != nil || facts.Exists || f.ByPath[g.path] != nil {
		return // it is back, or a job has it
	}
	for _, c := range g.forget {
		if !f.IsAbsent(c.Watch) {
			f.Store.Forget(c.Rule.Name.S, g.path)
		}
	}
	if len(g.told) == 0 || f.IsAbsent(g.told[0].Candidate.Watch) {
		return
	}
	c := g.told[0].Candidate
	known, ok, err := f.Store.Known(c.Rule.Name.S, g.path)
	if err != nil || !ok {
		return
	}
	j := f.newJob(c, g.path, known.Facts, file.Removed, now)
	j.Row.FileNow, j.Row.Hash = "", known.Hash
	f.Record(j)
	f.Enqueue(j)
}
