package flow

import (
	"fmt"
	"sort"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/take"
)

// massRemoval is the number of removals at once from which on more than half
// of a rule's known files must not go without a person's word.
const massRemoval = 20

// removal is a known file that went, and the rules that know it.
type removal struct {
	path   string
	due    time.Time
	told   []take.Reply     // those that react, up to the first that does not share
	forget []plan.Candidate // those that do not
}

// rule names the rule that the removal counts for.
func (g removal) rule() string {
	if len(g.told) > 0 {
		return g.told[0].Candidate.Rule.Name.S
	}
	return g.forget[0].Rule.Name.S
}

// removals decides on the known files that went and are still missing.
func (f *Flow) removals(now time.Time) {
	if !f.anyRemovalDue(now) {
		return
	}
	for name, list := range f.removalsByRule() {
		if f.tooMany(name, list) {
			continue
		}
		for _, g := range list {
			if !g.due.After(now) && !f.mayBeRenamed(g.path, g.due) {
				delete(f.removing, g.path)
				f.removed(g, now)
			}
		}
	}
}

// mayBeRenamed reports whether a file that went may be one, under another name, that is not
// decided on yet: it is looked into, or looked at on a share.
func (f *Flow) mayBeRenamed(path string, due time.Time) bool {
	return f.opening.any(due) || len(f.asking) > 0 && f.eyes.Unsure(path)
}

func (f *Flow) anyRemovalDue(now time.Time) bool {
	for path, due := range f.removing {
		if !due.After(now) && !f.mayBeRenamed(path, due) {
			return true
		}
	}
	return false
}

// removalsByRule sorts out whose known files went. What is in an absent
// folder has not gone; what no rule knows is forgotten.
func (f *Flow) removalsByRule() map[string][]removal {
	byRule := map[string][]removal{}
	for path, due := range f.removing {
		var there []plan.Candidate
		for _, c := range f.goneCandidates(path) {
			if !f.isAbsent(c.Watch) {
				there = append(there, c)
			}
		}
		told, forget, err := take.Gone(there, f.sources)
		if err != nil {
			continue // it is asked again
		}
		if g := (removal{path, due, told, forget}); len(told)+len(forget) > 0 {
			byRule[g.rule()] = append(byRule[g.rule()], g)
		} else {
			delete(f.removing, path)
		}
	}
	for _, list := range byRule {
		sort.Slice(list, func(i, k int) bool { return list[i].path < list[k].path })
	}
	return byRule
}

// tooMany stops a rule whose known files went in a mass: more likely
// something happened to the folder than to each of them.
func (f *Flow) tooMany(name string, list []removal) bool {
	if f.troubles[name] != "" {
		return true
	}
	if len(list) <= massRemoval || len(list[0].told) == 0 {
		return false
	}
	known := f.store.KnownCount(name)
	if 2*len(list) <= known {
		return false
	}
	f.trouble(name, fmt.Sprintf("%d of its %d known files went at once, and nothing was done about it; stilltide "+
		"resume %s accepts that they are gone", len(list), known, fill.QuoteWord(name)))
	return true
}

// removed takes a removal: the first rule that reacts has a job of it, and those
// after that, if it shares, when that is over.
func (f *Flow) removed(g removal, now time.Time) {
	facts, err := f.eyes.Look(g.path)
	if isNoAnswer(err) {
		f.removing[g.path] = now.Add(time.Second)
	}
	if err != nil || facts.Exists || f.byPath[g.path] != nil {
		return // it is back, or a job has it
	}
	for _, c := range g.forget {
		f.store.Forget(c.Rule.Name.S, g.path)
	}
	if len(g.told) == 0 {
		return
	}
	c := g.told[0].Candidate
	known, ok, err := f.store.Known(c.Rule.Name.S, g.path)
	if err != nil || !ok {
		return
	}
	j := f.newJob(c, g.path, known.Facts, file.Removed, now)
	j.row.FileNow, j.row.Hash = "", known.Hash
	f.record(j)
	f.enqueue(j)
}
