package flow

import (
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

func (f *Flow) Reload(set *plan.Set, now time.Time) {
	old := f.set
	f.set, f.asked = set, nil
	f.gone.anew()
	for name := range f.lacking { // the rule may name another program now
		f.accept(name)
	}
	f.ApplyRules()
	for _, r := range old.Rules() {
		if set.Rule(r.Name.S) == nil {
			f.dispatch.HoldRule(r.Name.S)
		}
	}
	for _, j := range f.open {
		if f.running[j.row.ID] != nil || j.row.State == job.Running {
			continue
		}
		f.test(j, now)
	}
}

// test asks again whether a job that has not begun fits its rule.
func (f *Flow) test(j *Job, now time.Time) {
	for _, c := range f.candidatesOf(j.row.File, j.row.Facts.Dir, now) {
		if c.Rule.Name.S == j.row.Rule && c.Unit == j.row.File {
			j.rule, j.captures, j.spot = c.Rule, c.Captures, plan.Spot{}
			return
		}
	}
	f.letGo(j.row.File)
	f.finish(j, job.Cancelled, "the rule changed and no longer takes it", j.row.File, now)
	f.store.Forget(j.row.Rule, j.row.File) // it is offered anew, to this rule, too
}
