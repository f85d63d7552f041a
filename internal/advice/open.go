package advice

import (
	"slices"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
)

// openJob is the job of a file that is not over, nil if there is none. Its rule still takes the file: the job goes
// on, and no rule is asked before it is over. l may be nil.
func openJob(set *plan.Set, l *ledger.Ledger, path string) (*job.Job, error) {
	if l == nil {
		return nil, nil
	}
	j, is, err := l.OpenJob(path)
	if err != nil || !is || !slices.Contains(j.Files(), path) {
		return nil, err
	}
	if still, err := take.Still(set, l, j); err != nil || !still {
		return nil, err
	}
	return &j, nil
}

// candidatesOf are the rules that are asked about a file beside the job that it has: first that of the job, which goes
// on; then those before it that share their files, and all behind it if it shares them, too.
func candidatesOf(candidates []plan.Candidate, j *job.Job) []plan.Candidate {
	if j == nil {
		return candidates
	}
	at := slices.IndexFunc(candidates, func(c plan.Candidate) bool { return c.Rule.Name.S == j.Rule })
	var list []plan.Candidate
	for i, c := range candidates {
		if i == at {
			list = slices.Insert(list, 0, c)
		} else if c.Rule.Share && (at < 0 || i < at) || at >= 0 && i > at && candidates[at].Rule.Share {
			list = append(list, c)
		}
	}
	return list
}

// anew is a memory beside the job that a file has: what the job's own rule remembers of it does not count, since the
// job does it once more.
func anew(memory func(plan.Candidate) (take.Memory, bool, error),
	j *job.Job) func(plan.Candidate) (take.Memory, bool, error) {
	if j == nil || memory == nil {
		return memory
	}
	return func(c plan.Candidate) (take.Memory, bool, error) {
		if c.Rule.Name.S == j.Rule {
			return take.Memory{}, false, nil
		}
		return memory(c)
	}
}

// ofRule is the job if it is one of the rule.
func ofRule(j *job.Job, r *rule.Rule) *job.Job {
	if j == nil || j.Rule != r.Name.S {
		return nil
	}
	return j
}

// hasOpen reports whether any job is not over.
func hasOpen(l *ledger.Ledger) bool {
	if l == nil {
		return false
	}
	tally, err := l.Tally()
	for _, states := range tally {
		for state, n := range states {
			if n > 0 && !state.Final() {
				return true
			}
		}
	}
	return err != nil
}
