package underway

import (
	"fmt"
	"path/filepath"
	"slices"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
)

// Hindered reports which jobs wait for room or for a disk.
func (js *Jobs) Hindered() map[string]turn.Hindrance {
	all := map[string]turn.Hindrance{}
	for _, j := range js.ByID {
		if s := j.Setback(); s.why != "" && js.AtWork[j.Row.ID] == nil {
			all[j.Row.Rule] = turn.Hindrance{Jobs: all[j.Row.Rule].Jobs + 1, Why: s.why}
		}
	}
	return all
}

// SetPools tells how the pools stand now.
func (js *Jobs) SetPools(pools map[string]turn.Pool) {
	js.pools = pools
	for name, p := range pools {
		js.Dispatch.SetPool(name, p.Places)
	}
	js.ApplyRules()
}

// poolOf names the pool whose machines run a rule's commands now, "" if this one does.
func (js *Jobs) poolOf(r *rule.Rule) string {
	if !r.Travels() || r.WhileAway == rule.AwayRunHere && js.pools[r.Pool.S].Away != "" {
		return ""
	}
	return r.Pool.S
}

// isAway reports whether a rule's jobs are held because no other machine can run them.
func (js *Jobs) isAway(name string) bool {
	r := js.Set.Rule(name)
	return r != nil && r.Travels() && r.WhileAway == rule.AwayHold && js.pools[r.Pool.S].Away != ""
}

// Away says, by rule, why jobs are held that no other machine can run.
func (js *Jobs) Away() map[string]string {
	away := map[string]string{}
	for _, r := range js.Set.Rules() {
		if js.isAway(r.Name.S) {
			away[r.Name.S] = js.pools[r.Pool.S].Away
		}
	}
	return away
}

// Stopping reports whether nothing starts any more.
func (js *Jobs) Stopping() bool { return js.Ending }

// ApplyRules tells the dispatching machine how the rules stand now.
func (js *Jobs) ApplyRules() {
	js.Dispatch.SetWorkers(js.Set.File.WorkerCount())
	for name, q := range js.Set.File.Queues {
		js.Dispatch.SetQueue(name, q.Bounds())
	}
	for _, r := range js.Set.Rules() {
		js.Dispatch.SetRule(dispatch.Rule{Name: r.Name.S, Queue: r.Queue.S, Order: dispatch.Order(r.Order),
			Light: len(r.Steps) == 0, Held: js.IsHeld(r.Name.S) || js.isIncomplete(r), Pool: js.poolOf(r)})
	}
}

// isIncomplete reports whether a rule's order cannot be kept yet, since its folders have not been looked through.
func (js *Jobs) isIncomplete(r *rule.Rule) bool {
	return Ordered(r) && slices.ContainsFunc(r.Folders, func(folder string) bool { return js.Looking[folder] })
}

// Ordered reports whether a rule's jobs start in another order than they come in.
func Ordered(r *rule.Rule) bool { return dispatch.Order(r.Order) != dispatch.ByArrival }

// IsHeld reports whether nothing of a rule may start.
func (js *Jobs) IsHeld(rule string) bool {
	_, paused := js.Pauses.Rule(rule)
	return paused || js.InTrouble[rule] != "" || !js.Chosen.HasRule(rule) || js.isAway(rule)
}

// Trouble stops a rule until a person says resume.
func (js *Jobs) Trouble(rule, why string) {
	js.InTrouble[rule] = why
	js.ApplyRules()
	js.Out.Outcomes = append(js.Out.Outcomes, turn.Outcome{Job: &job.Job{Rule: rule, Reason: why}})
}

// rests reports whether what lies at a path cannot be worked on now: its watched folder is not
// there, it is paused, or it is not chosen.
func (js *Jobs) rests(j *Job) bool {
	_, paused := js.Pauses.Folder(j.Row.File)
	return paused || js.IsAbsent(j.Row.Watch) || !js.Chosen.HasPath(j.Row.File)
}

// Mark notes a name in a set that is made when it is needed.
func Mark(m *map[string]bool, path string) {
	if *m == nil {
		*m = map[string]bool{}
	}
	(*m)[path] = true
}

// IsAbsent reports whether a watched folder, or the one a glob of folders begins at, is not there.
func (js *Jobs) IsAbsent(watch string) bool {
	for len(js.NotThere) > 0 {
		if js.NotThere[watch] {
			return true
		}
		up := filepath.Dir(watch)
		if up == watch {
			return false
		}
		watch = up
	}
	return false
}

// MaxBegun bounds the jobs that begin in one round: many may end at once, because their files are gone.
const MaxBegun = 4000

// outOfSight returns an error if a job's file lies in a watched folder that is not there: then the
// file is not gone, but nothing can be done with it until the folder is back. look is for what may
// have happened so lately that it is not known yet.
func (js *Jobs) outOfSight(j *Job, look bool) error {
	at, watch := j.where(j.Row.File, j.Row.Facts).At, j.Row.Watch
	if _, below := plan.Below(at, watch); !below {
		return nil
	}
	if !js.IsAbsent(watch) {
		if !look {
			return nil
		}
		if facts, err := js.Eyes.Stat(watch); err != nil || facts.Exists {
			return nil
		}
	}
	return fmt.Errorf("the folder %s is not there", plan.Display(watch))
}
