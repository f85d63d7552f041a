package engine

import (
	"context"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
)

// store is what the engine needs of the ledger: few calls, named by what they
// mean, so that another store can stand in its place.
type store interface {
	NextID() int64
	NextPlacement() int64

	Record(j job.Job, was job.State)
	RecordTaken(j job.Job)
	RecordEnd(j *job.Job, was job.State)
	RecordPlaced(p *job.Placement, after file.Facts)
	RecordMembers(j job.Job)
	RecordAttempt(a job.Attempt)
	RecordPlacement(p job.Placement)
	RecordIntention(p *job.Placement)
	RecordPause(name string, paused bool, until time.Time)
	RecordDismissed(j job.Job)
	Sync(ctx context.Context) error // until all that was recorded is durable
	Flush() error
	Behind() int // how many rows are not durable yet

	Remember(k job.Known)
	Forget(rule, path string)
	Known(rule, path string) (job.Known, bool, error)
	KnownCount(rule string) int
	KnowsFiles() bool
	KnownFiles(rule, folder, after string) (files []string, next string, err error)
	RememberContent(rule, hash string, job int64)
	KnowsContent(rule, hash string, job int64) (bool, error)
	RememberMount(folder, point string)
	Mounts() (map[string]string, error)
	RecordBoot(id string)
	Boot() (string, error)
	RecordWatched(rule, folder string)
	Watched() (map[[2]string]bool, error)

	Jobs(q job.Filter) ([]job.Job, error)
	OpenJobs(rule string, states []job.State, after int64, limit int) ([]job.Job, error)
	OpenJob(path string) (job.Job, bool, error)
	Attempts(job int64) ([]job.Attempt, error)
	Placements(job int64) ([]job.Placement, error)
	PlacedBy(rule, target string) (job.Placement, bool, error)
	Results(rule, folder string) ([]ledger.Result, error)
	PlacedAt(target string) ([]job.Placement, error)
	Reliers(target string, job int64) ([]job.Placement, error)
	TakenBack(path string) (bool, error)
	PlacedBelow(folder string) (rules []string, ends bool, err error)
	Reverting() ([]job.Placement, error)
	PuttingBack() ([]job.Placement, error)
	Origin(path string, f file.Facts) (rule, chain string, ok bool, err error)
	FolderOrigin(path string) (rule, chain string, ok bool, err error)
	Tally() (map[string]map[job.State]int, error)
	Paused() (job.Pauses, error)
	Accepted() (job.Pauses, error)

	Identity() (string, error)
	RecordTicket(t job.Ticket)
	CloseTicket(name string)
	Tickets() ([]job.Ticket, error)

	Folder() string
	Prune(before time.Time, most int) (removed int, err error)
	Close() error
}
