package flow

import (
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
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

// test asks again whether a job that has not begun fits its rule.
func (f *Flow) test(j *underway.Job, now time.Time) {
	for _, c := range f.CandidatesOf(j.Row.File, j.Row.Facts.Dir, now) {
		if c.Rule.Name.S == j.Row.Rule && c.Unit == j.Row.File {
			j.Rule, j.Captures, j.Spot = c.Rule, c.Captures, plan.Spot{}
			return
		}
	}
	f.LetGo(j.Row.File)
	f.Finish(j, job.Cancelled, "the rule changed and no longer takes it", j.Row.File, now)
	f.Store.Forget(j.Row.Rule, j.Row.File) // it is offered anew, to this rule, too
}
