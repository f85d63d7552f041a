package underway

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
)

// Memory is what the flow records and asks of what was recorded. The ledger is one.
type Memory interface {
	NextID() int64
	NextPlacement() int64

	Record(j job.Job, was job.State)
	RecordTaken(j job.Job)
	RecordEnd(j *job.Job, was job.State)
	RecordMembers(j job.Job)
	RecordAttempt(a job.Attempt)
	RecordPause(name string, paused bool, until time.Time)

	Remember(k job.Known)
	Forget(rule, path string)
	Known(rule, path string) (job.Known, bool, error)
	KnownCount(rule string) int
	KnowsFiles() bool
	RememberContent(rule, hash string, job int64)

	OpenJob(path string) (job.Job, bool, error)
	PlacedBelow(folder string) (rules []string, ends bool, err error)
	Origin(path string, f file.Facts) (rule, chain string, ok bool, err error)
	FolderOrigin(path string) (rule, chain string, ok bool, err error)
}

// Eyes look at files for the flow.
type Eyes interface {
	// Look sees a file as it is. An error that is a plan.NoAnswer says that it was not waited for.
	Look(path string) (file.Facts, error)
	// LookAll looks at up to MaxLooks paths. What it gives is good until the next call.
	LookAll(paths []string) []turn.Look
	// Stat is Look without what takes long: whether somebody writes.
	Stat(path string) (file.Facts, error)
	// Complete finds out what a rule needs to know of a file beyond its facts.
	Complete(set *plan.Set, r *rule.Rule, path string, facts *file.Facts)
	// Unsure reports whether a path may not be answered, so that it is looked at beside the flow.
	Unsure(path string) bool
}

// Hands know where the steps of jobs under way have put their files.
type Hands interface {
	// Follow reports where a job's file is by now, and where it was before its last move.
	Follow(job int64, file string) (at, before string)
	// Leave forgets the files of a job that is over or has them back.
	Leave(job int64)
}

// Recoverer brings what a crash cut short to a clean point.
type Recoverer interface {
	// Unmake takes back what the steps of an attempt placed that was cut short. It returns
	// where the files are if something could not be undone.
	Unmake(row job.Job, placements []job.Placement) (units []job.Unit, left []*job.Placement, problems []string)
	// Facts are those of a placement's source as they are now, if it was taken back from
	// another disk, which has given it a new number.
	Facts(p job.Placement) file.Facts
	// Settle says where the file of a move is that was cut short, and whether it still waits.
	Settle(p job.Placement) (at string, still bool, rest *job.Rest)
	// Drop notes that a move which was cut short will not be made. It does not wait.
	Drop(p job.Placement)
}
