package engine

import (
	"context"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/ledger"
)

// store is what the engine needs of the ledger: few calls, named by what they
// mean, so that another store can stand in its place.
type store interface {
	NextID() int64
	NextPlacement() int64

	Record(j ledger.Job, was ledger.State)
	RecordTaken(j ledger.Job)
	RecordEnd(j *ledger.Job, was ledger.State)
	RecordPlaced(p *ledger.Placement, after file.Facts)
	RecordMembers(j ledger.Job)
	RecordAttempt(a ledger.Attempt)
	RecordPlacement(p ledger.Placement)
	RecordIntention(p *ledger.Placement)
	RecordPause(rule string, paused bool)
	RecordDismissed(j ledger.Job)
	Sync(ctx context.Context) error // until all that was recorded is durable
	Flush() error

	Remember(k ledger.Known)
	Forget(rule, path string)
	Known(rule, path string) (ledger.Known, bool, error)
	KnownCount(rule string) int
	KnowsFiles() bool
	KnownFiles(rule, folder string) ([]string, error)
	RememberContent(rule, hash string, job int64)
	KnowsContent(rule, hash string, job int64) (bool, error)
	RememberMount(folder, point string)
	Mounts() (map[string]string, error)
	RecordBoot(id string)
	Boot() (string, error)
	RecordWatched(rule, folder string)
	Watched() (map[[2]string]bool, error)
	Rename(was, rule string) error

	Jobs(q ledger.Filter) ([]ledger.Job, error)
	OpenJobs(rule string, states []ledger.State, after int64, limit int) ([]ledger.Job, error)
	OpenJob(path string) (ledger.Job, bool, error)
	Attempts(job int64) ([]ledger.Attempt, error)
	Placements(job int64) ([]ledger.Placement, error)
	PlacedBy(rule, target string) (ledger.Placement, bool, error)
	PlacedAt(target string) ([]ledger.Placement, error)
	Reliers(target string, job int64) ([]ledger.Placement, error)
	TakenBack(path string) (bool, error)
	PlacedBelow(folder string) (rules []string, err error)
	Undoing() ([]ledger.Placement, error)
	PuttingBack() ([]ledger.Placement, error)
	Origin(path string, f file.Facts) (rule, chain string, ok bool, err error)
	FolderOrigin(path string) (rule, chain string, ok bool, err error)
	Tally() (map[string]map[ledger.State]int, error)
	Paused() (map[string]time.Time, error)

	Folder() string
	Prune(before time.Time) (removed int, err error)
	Close() error
}
