package flow

import (
	"errors"
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/core/underway"
)

// Reload goes on with other rules: jobs that have not begun are tested again.
func (f *Flow) Reload(set *plan.Set, now time.Time) {
	old := f.Set
	f.Set, f.asked = set, nil
	f.gone.anew()
	for name := range f.Lacking { // the rule may name another program now
		f.accept(name)
	}
	f.ApplyRules()
	for _, r := range old.Rules() {
		if set.Rule(r.Name.S) == nil {
			f.Dispatch.HoldRule(r.Name.S)
		}
	}
	for _, j := range f.ByID {
		if f.AtWork[j.Row.ID] != nil || j.Row.State == job.Running {
			continue
		}
		f.test(j, now)
	}
}

// isStillFor reports whether a file that has settled again is still for the job that waited for it. One that has
// changed may fit the job's rule no more, or be due to an earlier rule that shares it: then the job is over, and the
// file is decided on anew.
func (f *Flow) isStillFor(j *underway.Job, path string, candidates []plan.Candidate, under *rule.Rule,
	facts file.Facts, now time.Time) bool {
	if j.Rule == nil || path != j.Row.File || j.Rule.Gather != nil || facts.Same(j.Row.Facts) {
		return true
	}
	mine := slices.IndexFunc(candidates, func(c plan.Candidate) bool { return c.Rule == j.Rule && c.Unit == path })
	if mine < 0 && facts.Dir {
		return true // a folder that a rule has begun to fill is no unit any more, but was one
	}
	fits := false
	if mine >= 0 {
		fits, _ = candidates[mine].Fits(facts, j.Row.Event, now)
	}
	if !fits {
		f.Changed(j, now)
		return false
	}
	before := slices.DeleteFunc(slices.Clone(candidates[:mine]), func(c plan.Candidate) bool { return !c.Rule.Share })
	if len(before) == 0 {
		return true
	}
	v := take.Verdict{}
	f.offered = take.Offer{Facts: facts, Now: now}
	switch err := v.Decide(before, &f.offered, &f.sources); {
	case errors.Is(err, errClosed):
		f.openFor(f.closedTo, under, path, v.Facts, now)
	case err != nil:
		f.askAgain(path, err, now)
	case v.Taker != nil:
		f.Changed(j, now)
	default:
		return true
	}
	return false
}

// test asks again whether a job that is not under way fits its rule.
func (f *Flow) test(j *underway.Job, now time.Time) {
	if j.Rule = f.Set.Rule(j.Row.Rule); f.Fits(j.Row) {
		j.Spot, j.Captures = plan.Spot{}, take.Captures(f.Set, f.Store, j.Row)
		return
	}
	for _, path := range j.Row.Files() {
		f.LetGo(path)
	}
	f.NotTaken(j, j.Row.File, now)
}
