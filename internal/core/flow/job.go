package flow

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Job is a job that is not over.
type Job struct {
	row      job.Job
	recorded job.State
	rule     *rule.Rule
	captures map[string]string
	unless   string              // skip if the content has this hash
	again    map[string]bool     // files that changed while the job ran: offered when it ends
	spot     plan.Spot           // where its file goes after success, if nothing can change that any more
	end      wish                // the name that it has reserved for its file
	wishes   []*wish             // those that it has reserved for what its steps place
	parked   map[string]bool     // taken, but no longer settled
	intended bool                // its input went where its recorded intention said
	extras   bool                // it had further files, so their rows are kept right
	stopOld  bool                // its attempt is being stopped, because the file changed
	sent     bool                // its file is on its way to its place, ahead of all that are sent later
	gone     bool                // its file went by itself while it ran
	forced   bool                // a person wants it, whatever is remembered
	cancel   bool                // its attempt is being stopped for good
	intents  []intent            // its placements
	now      map[string]job.Unit // by file as taken: where it is after the steps, if that differs
	checked  time.Time
	tries    []plan.Try
	cause    string // why the last attempt failed
	hindered *setback
	held     *holdings // what it holds back from the rules, nil if nothing
}

// holdings are what a job holds back from the rules until it is over.
type holdings struct {
	claimed []string        // the keys under which it holds claims
	offers  map[string]bool // what it has placed where rules watch: offered when it ends well
	took    []string        // other files that its steps took away
}

// hold returns what the job holds back, to be changed.
func (j *Job) hold() *holdings {
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
	retryAt time.Time         // when that is
	wait    time.Duration     // the last wait before that
	why     string            // what it waits for: room, a disk
}

// setback returns what is remembered, to be read.
func (j *Job) setback() setback {
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

// Attempt is a job's steps to be run.
type Attempt struct {
	job     *Job
	Number  int
	Plan    plan.Job
	Unless  string
	Set     *plan.Set
	Chain   []string         // rules that the input went through before
	more    []job.Unit       // the other files of a batch or group
	Left    []*job.Placement // of earlier attempts: what could not be undone
	wishes  []*wish          // the names that are reserved for what its steps place
	Unmakes bool             // its steps are not run: what they placed is taken back
	Hash    bool             // the content's hash is wanted
	Never   bool             // skip any content that the rule has handled
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
	Hash     string
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

// Placing is a job's end: its input goes where it belongs, with all that
// goes along.
type Placing struct {
	Watch  string // the watched folder that its file was taken from
	Landed string // where its file was placed before the program ended, "" if it was not
	ID     int64
	Leads  job.State
	Moves  []Move
	Alone  bool          // the job has, and had, no further files: its end may be written late
	one    [1]Move       // what moves is made of, for the many that have but one
	Note   *plan.Failure // beside the input, for the failed folder
	Unsure bool          // it goes to, or comes from, a file system that may not answer

	Output string // what the last attempt printed, for the note: a file below the state folder
}

// Move is one file of a placing. Its record is the ledger's as soon as that has
// it: who wants another takes a copy.
type Move struct {
	Record *job.Placement
	To     plan.Spot
	Same   rule.SameName
	First  []job.Ahead // files that have the name before this one
	wish   *wish       // what its own file has reserved, if anything
	Marker *rule.Rule  // it is a marker, and named after its file as this rule says
	Of     string      // where its file was before it was moved
	Only   bool        // nothing else was done with the file, and nobody looked inside
}

// PlacingEnd is how a placing ended. With an error nothing was moved.
type PlacingEnd struct {
	ID    int64
	Leads job.State
	Moved []Moved               // as the moves
	Back  map[string]file.Facts // of files that were moved and are back, which another disk has given new numbers
	Err   error
	Final bool // trying again cannot help
}

// Moved is where a file of a placing is now.
type Moved struct {
	Source string
	Target string
	Rest   *job.Rest // what stays of a folder that went to another disk
	Err    error     // ErrGone or ErrChanged: it was not moved
	// intended tells that it is where its recorded intention said.
	Intended bool
}

// Outcome is a job whose state changed in a way that people want to see.
type Outcome struct {
	Job  *job.Job
	Next time.Time // when a retrying job is tried again
	Note string    // failure note, "" if there is none
	// Waits tells that the job waits for room or for a disk, which is not its file's fault.
	Waits bool
}

// Text is what is to be said of the job.
func (o Outcome) Text() string { return join(o.Job.Reason, o.Job.Result) }

// Units are the job's files where they were taken.
func (a *Attempt) Units() []job.Unit {
	list := []job.Unit{{Taken: a.Plan.File, At: a.Plan.File, Facts: a.Plan.Facts, Captures: a.Plan.Captures}}
	if a.Plan.Event == file.Removed {
		list[0].At = ""
	}
	return append(list, a.more...)
}

// TakenBack notes that what the steps placed is taken back: the names are free again.
func (a *Attempt) TakenBack() {
	for _, one := range a.wishes {
		one.done.Store(false)
	}
}

// Placed notes that the file has its name.
func (m *Move) Placed() {
	if m.wish != nil {
		m.wish.done.Store(true)
	}
}
