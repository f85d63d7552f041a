package byhand

import (
	"errors"
	"fmt"
	"os"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
)

// Open opens the ledger of a rules file for writing, with the rules' names and the folder of now;
// tell is as in ledger.Open.
func Open(f *rule.File, tell func(error)) (*ledger.Ledger, error) {
	l, err := ledger.Open(f.StateFolder(), tell)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(l.UseFolder(f.Base), l.UseNames(f.Renamed())); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// Begin opens the ledger of a rules file for a watcher or a sweep. An *OthersWait says that this would cancel jobs of
// another rules file: a state folder is that of one.
func Begin(f *rule.File, tell func(error)) (*ledger.Ledger, error) {
	l, err := Open(f, tell)
	if err != nil {
		return nil, err
	}
	others, err := Others(f, l)
	switch {
	case err == nil && others != nil:
		err = others
	case err == nil:
		err = l.UseRules(f.Path)
	}
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// OthersWait says that jobs of another rules file wait in the state folder, of rules that this one does not have.
type OthersWait struct {
	Rules string // the other rules file
	Jobs  int
}

// Error says it, without what to do.
func (o *OthersWait) Error() string {
	return fmt.Sprintf("%s of %s in this state folder", plan.Plural(o.Jobs, "job"), o.Rules)
}

// Others are the jobs of another rules file that a start by this one would cancel, nil if there are none.
func Others(f *rule.File, l *ledger.Ledger) (*OthersWait, error) {
	last, err := l.LastRules()
	if err != nil || last == "" || SameRules(last, f.Path) {
		return nil, err
	}
	if _, err := os.Stat(last); err != nil {
		return nil, nil // it was renamed, or the state folder came here without it
	}
	others := &OthersWait{Rules: last}
	tally, err := l.Tally()
	named := f.ByName()
	for name, states := range tally {
		if named[name] != nil {
			continue
		}
		for state, jobs := range states {
			if !state.Final() {
				others.Jobs += jobs
			}
		}
	}
	if others.Jobs == 0 {
		return nil, err
	}
	return others, err
}

// SameRules reports whether two paths lead to one rules file.
func SameRules(one, other string) bool {
	if one == other {
		return true
	}
	a, errA := os.Stat(one)
	b, errB := os.Stat(other)
	return errA == nil && errB == nil && os.SameFile(a, b)
}
