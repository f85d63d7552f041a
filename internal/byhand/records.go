package byhand

import (
	"context"

	"stilltide/internal/core/job"
)

// Records is what is asked of the ledger, and written to it, for a job that is changed by hand.
type Records interface {
	NextPlacement() int64
	Record(j job.Job, was job.State)
	RecordPlacement(p job.Placement)
	RecordDismissed(j job.Job)
	Sync(ctx context.Context) error
	Flush() error
	Remember(k job.Known)
	Known(rule, path string) (job.Known, bool, error)
	Forget(rule, path string)
	Jobs(q job.Filter) ([]job.Job, error)
	OpenJob(path string) (job.Job, bool, error)
	Placements(job int64) ([]job.Placement, error)
	PlacedBelow(folder string) (rules []string, ends bool, err error)
	PlacedAt(target string) ([]job.Placement, error)
	Reliers(target string, job int64) ([]job.Placement, error)
	TakenBack(path string) (bool, error)
	PuttingBack() ([]job.Placement, error)
	Reverting() ([]job.Placement, error)
	KnownFiles(rule, folder, after string) (files []string, next string, err error)
	Tally() (map[string]map[job.State]int, error)
	Folder() string
}
