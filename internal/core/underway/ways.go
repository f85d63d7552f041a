package underway

import (
	"errors"
	"time"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
)

// Ways are the files on their way to a rule, as far as jobs have to do with them.
type Ways interface {
	// Offer begins to wait for a file that a job lets go of, if a rule could take it.
	Offer(path string, dir bool, kind settle.Kind, now time.Time)
	// Wait has a file settle again under a rule's policy before its job goes on.
	Wait(unit string, r *rule.Rule, kind settle.Kind, now time.Time)
	// LetGo drops a file that waits to be decided on.
	LetGo(path string)
	// WentAway notes that a name is no longer there.
	WentAway(path string, dir bool, now time.Time)
	// Went notes that a path went, on which is decided at a time.
	Went(path string, due time.Time)
	// Candidates lists the rules that could take a file.
	Candidates(path string) []plan.Candidate
	// CandidatesOf lists those that could take a file or folder, or the folder it lies in.
	CandidatesOf(path string, dir bool, now time.Time) []plan.Candidate
	// IsBusy reports whether files wait to settle for a rule, or are looked into.
	IsBusy(rule string) bool
}

// IsNoAnswer reports whether a look was not waited for: it says nothing about the file.
func IsNoAnswer(err error) bool { return errors.As(err, new(plan.NoAnswer)) }
