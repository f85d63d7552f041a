package take

import (
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// NoRule and RuleChanged say why a job ends that its rule does not take any more.
const (
	NoRule      = "its rule is no longer in the rules file"
	RuleChanged = "the rule changed and no longer takes it"
)

// Still reports whether the rule of a job, as it is now, would have taken the job's files. What is inside a file is not
// asked again, nor are the conditions on files that were gathered: each was taken at a time of its own. A rule that
// gathers no more takes none of several files: its commands name one.
func Still(set *plan.Set, l placedBelow, row job.Job) (bool, error) {
	r, files, gone := set.Rule(row.Rule), row.Files(), row.Event == file.Removed
	if r == nil || !r.Reacts(row.Event) || r.Gather == nil && len(files) > 1 || !gone && r.Folded() != row.Facts.Dir {
		return false, nil
	}
	for _, path := range files {
		c, ok, err := place(set, l, r, path)
		facts, _, _ := row.Took(path)
		if ok && !gone && r.Gather == nil && !facts.Says().Lacks(set.Needs(r)) {
			ok, _ = c.Fits(facts, row.Event, row.Taken)
		}
		if !ok || err != nil {
			return false, err
		}
	}
	return true, nil
}

// Captures is what the pattern of a job's rule, as it is now, captures of the job's first file.
func Captures(set *plan.Set, l placedBelow, row job.Job) map[string]string {
	r := set.Rule(row.Rule)
	if r == nil {
		return nil
	}
	c, _, _ := place(set, l, r, row.File)
	return c.Captures
}

// place is where a rule takes a file or folder by its name alone. A folder that a rule has begun to fill since it was
// taken is no unit any more, but was one.
func place(set *plan.Set, l placedBelow, r *rule.Rule, path string) (c plan.Candidate, ok bool, err error) {
	candidates := set.Units(path, true)
	if !r.Folded() {
		made := func(unit string) (bool, error) { return MadeByRules(set, l, unit) }
		candidates, err = Candidates(set, path, false, made)
	}
	for _, c := range candidates {
		if c.Rule == r && c.Unit == path {
			return c, true, nil
		}
	}
	return c, false, err
}

// Unless is the content with which a job is skipped that was taken before, and has waited in the ledger: what its rule
// has handled under that name. One that begins anew, since a person wants that, is not skipped for what it has done.
func Unless(r *rule.Rule, l rememberer, row job.Job) (hash string, err error) {
	if r == nil || r.Again == rule.AgainAlways || row.Earlier > 0 {
		return "", nil
	}
	known, _, err := l.Known(row.Rule, row.File)
	if known.Job == row.ID {
		return "", err
	}
	return known.Hash, err
}
