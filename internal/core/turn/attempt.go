package turn

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// Attempt is a job's steps to be run.
type Attempt struct {
	Number  int
	Plan    plan.Job
	Content Content
	Set     *plan.Set
	Chain   []string         // rules that the input went through before
	More    []job.Unit       // the other files of a batch or group
	Left    []*job.Placement // of earlier attempts: what could not be undone
	Wishes  []*Wish          // the names that are reserved for what its steps place
	Unmakes bool             // its steps are not run: what they placed is taken back
	Away    bool             // its commands run on other machines
}

// AttemptEnd is how an attempt ended.
type AttemptEnd struct {
	ID       int64
	Stopped  bool // by the watcher's end: it does not count
	Unmade   bool // nothing was run: what the job's steps had placed was taken back
	Same     bool // the content was handled before; nothing was run
	OK       bool
	Exit     *int
	Reason   string
	Hash     string // of the content where the file is now
	Handled  string // of the content that was taken; "" if it was not asked for
	Ran      time.Duration
	CPU      time.Duration
	Memory   int64
	Output   string           // file below the state folder, "" if nothing was printed
	Units    []job.Unit       // where the job's files are now; nil if where they were taken
	Took     []string         // other files that its steps took away
	Result   string           // what the steps have to say
	Rests    []*job.Rest      // what could not be removed of folders that they moved
	Left     []*job.Placement // what could not be undone after a failure
	Astray   bool             // a file could not be put back after a failure
	Missing  bool             // the rule's program is not there
	Hopeless bool             // another attempt would fail for the same reason
	Waits    bool             // it failed for want of room or of a disk, which is not the file's fault
}

// Units are the job's files where they were taken.
func (a *Attempt) Units() []job.Unit {
	list := []job.Unit{{Taken: a.Plan.File, At: a.Plan.File, Facts: a.Plan.Facts, Captures: a.Plan.Captures}}
	if a.Plan.Event == file.Removed {
		list[0].At = ""
	}
	return append(list, a.More...)
}

// TakenBack notes that what the steps placed is taken back: the names are free again.
func (a *Attempt) TakenBack() {
	for _, one := range a.Wishes {
		one.Done.Store(false)
	}
}

// Fulfil notes that a step has placed what a name was reserved for.
func (a *Attempt) Fulfil(path string) {
	for _, one := range a.Wishes {
		if one.Path == path {
			one.Done.Store(true)
		}
	}
}
