package sift

import (
	"os"
	"path/filepath"
	"slices"
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
	Jobs(job.Filter) ([]job.Job, error)
}

// Lost lists the files whose result is not as it was made, and counts all results. A job may be at work on one
// meanwhile: which one was the last is read between two looks. What another rule has taken away is not lost.
func Lost(l results, set *plan.Set, r *rule.Rule, folder string, mounted func(string) error) (lost []turn.Lost,
	all int) {
	made, _ := differing(l, set, r, folder, mounted)
	if len(made) == 0 {
		return nil, 0
	}
	last := map[string]int64{}
	for _, one := range made {
		known, _, _ := l.Known(r.Name.S, one.Input)
		if !isTaken(l, one.Target, known.Job) {
			last[one.Input] = known.Job
		}
	}
	made, all = differing(l, set, r, folder, mounted)
	for _, one := range made {
		if id, is := last[one.Input]; is {
			lost = append(lost, turn.Lost{Input: one.Input, Job: id})
		}
	}
	return lost, all
}

// isTaken reports whether a job after the one that made a result has taken that away.
func isTaken(l results, target string, id int64) bool {
	jobs, err := l.Jobs(job.Filter{File: target, After: id})
	return err == nil && slices.ContainsFunc(jobs, func(j job.Job) bool {
		_, now, ok := j.Took(target)
		return ok && now != target
	})
}

// differing lists the results of files that are still there which differ from what was made. If the folder that
// holds them is not there, none does.
func differing(l results, set *plan.Set, r *rule.Rule, folder string,
	mounted func(string) error) (differ []ledger.Result, all int) {
	root := r.Spelled(plan.FixedDestination(r.Repairs()))
	if _, err := os.Stat(root); err != nil || mounted(root) != nil {
		return nil, 0
	}
	made, err := l.Results(r.Name.S, folder)
	if err != nil {
		return nil, 0 // the next sweep tries again
	}
	for _, one := range made {
		if _, below := plan.Below(one.Target, root); !below || one.Over {
			continue // another step's, or not what was made last
		}
		there, err := watchfs.Stat(one.Input)
		if err != nil || !there.Exists {
			continue
		}
		all++
		if Differs(one.Target, one.After) && isKept(set, r, one, there) {
			differ = append(differ, one)
		}
	}
	return differ, all
}

// Differs reports whether what was made at a path is gone, or is not as it was made.
func Differs(path string, made file.Facts) bool {
	now, err := watchfs.Stat(path)
	return err == nil && (!now.Exists || now.Size != made.Size || now.Mod != made.Mod)
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
