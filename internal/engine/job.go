package engine

import (
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/work"
)

// job is a job that is not over.
type openJob struct {
	row      job.Job
	recorded job.State
	rule     *rule.Rule
	captures map[string]string
	unless   string               // skip if the content has this hash
	again    map[string]bool      // files that changed while the job ran: offered when it ends
	spot     plan.Spot            // where its file goes after success, if nothing can change that any more
	end      wish                 // the name that it has reserved for its file
	wishes   []*wish              // those that it has reserved for what its steps place
	parked   map[string]bool      // taken, but no longer settled
	intended bool                 // its input went where its recorded intention said
	extras   bool                 // it had further files, so their rows are kept right
	stopOld  bool                 // its attempt is being stopped, because the file changed
	sent     bool                 // its file is on its way to its place, ahead of all that are sent later
	gone     bool                 // its file went by itself while it ran
	cancel   bool                 // its attempt is being stopped for good
	intents  []intent             // its placements
	now      map[string]work.Unit // by file as taken: where it is after the steps, if that differs
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
func (j *openJob) hold() *holdings {
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
func (j *openJob) setback() setback {
	if j.hindered == nil {
		return setback{}
	}
	return *j.hindered
}

// suffer returns what is remembered, to be changed.
func (j *openJob) suffer() *setback {
	if j.hindered == nil {
		j.hindered = &setback{}
	}
	return j.hindered
}

// leave notes what could not be undone after the last attempt.
func (j *openJob) leave(left []*job.Placement) {
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

// attempt is a job's steps to be run.
type attempt struct {
	job     *openJob
	number  int
	plan    plan.Job
	unless  string
	set     *plan.Set
	chain   []string         // rules that the input went through before
	more    []work.Unit      // the other files of a batch or group
	left    []*job.Placement // of earlier attempts: what could not be undone
	wishes  []*wish          // the names that are reserved for what its steps place
	unmakes bool             // its steps are not run: what they placed is taken back
	hash    bool             // the content's hash is wanted
	never   bool             // skip any content that the rule has handled
}

// attemptResult is how an attempt ended.
type attemptResult struct {
	id       int64
	stopped  bool // by the watcher's end: it does not count
	unmade   bool // nothing was run: what the job's steps had placed was taken back
	same     bool // the content was handled before; nothing was run
	ok       bool
	exit     *int
	reason   string
	hash     string
	ran      time.Duration
	cpu      time.Duration
	memory   int64
	output   string           // file below the state folder, "" if nothing was printed
	units    []work.Unit      // where the job's files are now; nil if where they were taken
	took     []string         // other files that its steps took away
	result   string           // what the steps have to say
	rests    []*place.Rest    // what could not be removed of folders that they moved
	left     []*job.Placement // what could not be undone after a failure
	astray   bool             // a file could not be put back after a failure
	missing  bool             // the rule's program is not there
	hopeless bool             // another attempt would fail for the same reason
	waits    bool             // it failed for want of room or of a disk, which is not the file's fault
}

// placing is a job's end: its input goes where it belongs, with all that
// goes along.
type placing struct {
	watch  string // the watched folder that its file was taken from
	landed string // where its file was placed before the program ended, "" if it was not
	id     int64
	leads  job.State
	moves  []move
	alone  bool          // the job has, and had, no further files: its end may be written late
	one    [1]move       // what moves is made of, for the many that have but one
	note   *plan.Failure // beside the input, for the failed folder
	unsure bool          // it goes to, or comes from, a file system that may not answer

	output string // what the last attempt printed, for the note: a file below the state folder
}

// move is one file of a placing. Its record is the ledger's as soon as that has
// it: who wants another takes a copy.
type move struct {
	record *job.Placement
	to     plan.Spot
	same   rule.SameName
	first  []place.Ahead // files that have the name before this one
	wish   *wish         // what its own file has reserved, if anything
	marker *rule.Rule    // it is a marker, and named after its file as this rule says
	of     string        // where its file was before it was moved
	only   bool          // nothing else was done with the file, and nobody looked inside
}

// placedEnd is how a placing ended. With an error nothing was moved.
type placedEnd struct {
	id    int64
	leads job.State
	moved []moved               // as the moves
	back  map[string]file.Facts // of files that were moved and are back, which another disk has given new numbers
	err   error
}

// moved is where a file of a placing is now.
type moved struct {
	source string
	target string
	rest   *place.Rest // what stays of a folder that went to another disk
	err    error       // ErrGone or ErrChanged: it was not moved
	// intended tells that it is where its recorded intention said.
	intended bool
}

// Outcome is a job whose state changed in a way that people want to see.
type Outcome struct {
	Job  *job.Job
	Next time.Time // when a retrying job is tried again
	Note string    // failure note, "" if there is none
	// Waits tells that the job waits for room or for a disk, which is not its file's fault.
	Waits bool
}
