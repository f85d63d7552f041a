package sift

import (
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/naming"
	"stilltide/internal/watchfs"
)

// results are what rules have made. The ledger has them.
type results interface {
	Known(rule, path string) (job.Known, bool, error)
	Results(rule, folder string) ([]ledger.Result, error)
}

// Lost lists the files whose result is not as it was made, and counts all results. A job may be at work on one
// meanwhile: which one was the last is read between two looks.
func Lost(l results, set *plan.Set, r *rule.Rule, folder string, mounted func(string) error) (lost []turn.Lost,
	all int) {
	inputs, _ := differing(l, set, r, folder, mounted)
	if len(inputs) == 0 {
		return nil, 0
	}
	last := map[string]int64{}
	for _, path := range inputs {
		known, _, _ := l.Known(r.Name.S, path)
		last[path] = known.Job
	}
	inputs, all = differing(l, set, r, folder, mounted)
	for _, path := range inputs {
		if id, is := last[path]; is {
			lost = append(lost, turn.Lost{Input: path, Job: id})
		}
	}
	return lost, all
}

// differing lists the files that are still there and whose result differs from what was made. If the folder that
// holds them is not there, none does.
func differing(l results, set *plan.Set, r *rule.Rule, folder string, mounted func(string) error) (inputs []string,
	all int) {
	root := r.Spelled(plan.FixedDestination(r.Repairs()))
	if _, err := os.Stat(root); err != nil || mounted(root) != nil {
		return nil, 0
	}
	made, err := l.Results(r.Name.S, folder)
	if err != nil {
		return nil, 0 // the next sweep tries again
	}
	for _, one := range made {
		if _, below := plan.Below(one.Target, root); !below || one.Undone {
			continue // another step's, or not what was made last
		}
		there, err := watchfs.Stat(one.Input)
		if err != nil || !there.Exists {
			continue
		}
		all++
		now, err := watchfs.Stat(one.Target)
		if err == nil && (!now.Exists || now.Size != one.After.Size || now.Mod != one.After.Mod) &&
			isKept(set, r, one, there) {
			inputs = append(inputs, one.Input)
		}
	}
	return inputs, all
}

// isKept reports whether a result stands where the rule keeps that of its input. What another step has put somewhere is
// its business no more. A place that a command names is known to the run alone, and counts.
func isKept(set *plan.Set, r *rule.Rule, one ledger.Result, input file.Facts) bool {
	if len(r.Saved) > 0 {
		return true
	}
	look.Complete(set, r, one.Input, &input)
	for _, c := range set.Candidates(one.Input) {
		if c.Rule != r || c.Unit != one.Input {
			continue
		}
		j := c.Begin(input, file.Added, time.Now(), set.File.StateFolder())
		to, err := j.Spot(r.Repairs(), j.File)
		return err == nil && to.Folder() == filepath.Dir(one.Target) &&
			naming.IsNumbered(filepath.Base(one.Target), to.Name)
	}
	return false
}
