package look

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// ReachPatience is how long somebody waits for a file system who can wait.
const ReachPatience = 2 * time.Second

// Reach returns an error if the file system that a path lies on does not answer in time.
func (a *Answers) Reach(path string, wait time.Duration) error {
	return a.Ask(path, wait, func() { _, _ = os.Lstat(path) })
}

// NotReached says that it cannot be seen what a job did.
type NotReached struct {
	Path string // on a file system that does not answer, or that of the watched folder that is not there
}

func (NotReached) Error() string { return "its folder is not there, or does not answer" }

// ReachJob returns a NotReached if it cannot be seen what a job of an earlier run did: its watched folder is not there,
// as that of a disk that is not mounted, or a file system does not answer that it may have done something on.
func (a *Answers) ReachJob(set *plan.Set, row job.Job, placements []job.Placement) error {
	paths := []string{row.File}
	for _, p := range placements {
		paths = append(paths, p.Source, p.Target)
	}
	for _, path := range paths {
		if path != "" && a.Reach(filepath.Dir(path), ReachPatience) != nil {
			return NotReached{path}
		}
	}
	_, err := os.Stat(row.Watch)
	if _, watched := set.Folders()[row.Watch]; watched && errors.Is(err, os.ErrNotExist) {
		return NotReached{row.Watch}
	}
	return nil
}
