package underway

import (
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
)

// Job is a job that is not over.
type Job struct {
	Row      job.Job
	recorded job.State
	Rule     *rule.Rule
	Captures map[string]string
	Unless   string              // skip if the content has this hash
	Again    map[string]bool     // files that changed while the job ran: offered when it ends
	Spot     plan.Spot           // where its file goes after success, if nothing can change that any more
	end      turn.Wish           // the name that it has reserved for its file
	wishes   []*turn.Wish        // those that it has reserved for what its steps place
	Parked   map[string]bool     // taken, but no longer settled
	intended bool                // its input went where its recorded intention said
	extras   bool                // it had further files, so their rows are kept right
	StopOld  bool                // its attempt is being stopped, because the file changed
	sent     bool                // its file is on its way to its place, ahead of all that are sent later
	gone     bool                // its file went by itself while it ran
	changed  bool                // its file's content was changed while it ran
	missed   bool                // it vanished, and another rule is to be told
	Renamed  bool                // its file has another name by now, and a job under that
	Forced   bool                // a person wants it, whatever is remembered
	Outdated bool                // its attempt began with settings (again_on) that have changed
	Others   bool                // rules may have come since it was taken: they are asked about what stays
	cancel   bool                // its attempt is being stopped for good
	intents  []intent            // its placements
	now      map[string]job.Unit // by file as taken: where it is after the steps, if that differs
	Checked  time.Time
	tries    []plan.Try
	Cause    string // why the last attempt failed
	hindered *setback
	held     *holdings // what it holds back from the rules, nil if nothing
}

// holdings are what a job holds back from the rules until it is over.
type holdings struct {
	claimed []string        // the keys under which it holds claims
	Offers  map[string]bool // what it has placed where rules watch: offered when it ends well
	took    []string        // other files that its steps took away
}

// Hold returns what the job holds back, to be changed.
func (j *Job) Hold() *holdings {
	if j.held == nil {
		j.held = &holdings{}
	}
	return j.held
}

// setback is what a job remembers of what went wrong with it. Most jobs have none,
// and there may be very many jobs.
type setback struct {
	left    []*job.Placement  // what could not be undone after failed attempts
	landed  map[string]string // by source: files of a placing that a crash cut short: where they are, "" if gone
	rests   []string          // what could not be removed of folders that went to another disk
	leads   job.State         // where a placement that is tried again leads
	RetryAt time.Time         // when that is
	wait    time.Duration     // the last wait before that
	why     string            // what it waits for: room, a disk
}

// Setback returns what is remembered, to be read.
func (j *Job) Setback() setback {
	if j.hindered == nil {
		return setback{}
	}
	return *j.hindered
}

// suffer returns what is remembered, to be changed.
func (j *Job) suffer() *setback {
	if j.hindered == nil {
		j.hindered = &setback{}
	}
	return j.hindered
}

// leave notes what could not be undone after the last attempt.
func (j *Job) leave(left []*job.Placement) {
	if len(left) > 0 || j.hindered != nil {
		j.suffer().left = left
	}
}

// intent is the number of a placement, by its file and where it leads.
type intent struct {
	path  string
	leads job.State
	id    int64
}
