package turn

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Look is what a look at a path saw.
type Look struct {
	Facts file.Facts
	Err   error
}

// Read is something that the flow must know to go on and that takes the time of a disk: a page of
// the ledger, the content of a file. The flow does not wait for it: the engine carries it out
// beside the flow, and brings the answer as an input.
type Read struct {
	Path string // of the file that is looked at, "" if only the ledger is read
	// Do reads. It touches nothing of the flow.
	Do func(from Source) Answer
}

// Answer is what a Read has found, as an input to the flow.
type Answer func(now time.Time)

// Source is what a Read reads from.
type Source interface {
	Flush() error
	OpenJobs(rule string, states []job.State, after int64, limit int) ([]job.Job, error)
	Known(rule, path string) (job.Known, bool, error)
	KnownFiles(rule, folder, after string) (files []string, next string, err error)
	KnownCount(rule string) int
	Look(path string) (file.Facts, error)
	Complete(set *plan.Set, r *rule.Rule, path string, facts *file.Facts)
	Hash(path string, size int64) (string, error)
}
