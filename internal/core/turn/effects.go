// Package turn is what the flow and the engine say to one another, turn by turn: what was decided
// and is to be carried out, and how it ended. It holds values, and decides nothing.
package turn

import (
	"time"

	"stilltide/internal/core/job"
)

// Batch is what a rule has done since it was last idle.
type Batch struct {
	Rule     string
	Count    map[job.State]int
	Failed   []job.Job // the first of the failed ones
	Folder   string    // that all processed inputs are in now, or below; "" for none
	Began    time.Time
	Ended    time.Time
	Returned bool // its folder had come back before: a card, a disk
}

// Jobs is how many jobs ended.
func (b Batch) Jobs() int {
	n := 0
	for _, c := range b.Count {
		n += c
	}
	return n
}

// Effects are what the flow has decided in a round, for the engine to carry out.
type Effects struct {
	Looks     []string // paths to be looked at beside the flow; Answered brings what was seen
	Reads     []Read   // to be carried out beside the flow
	Starts    []*Attempt
	Stops     []int64 // jobs whose attempt is to be stopped
	Places    []*Placing
	Outcomes  []Outcome
	Overdue   []OverdueFile
	Notices   []Notice
	CaughtUp  []Batch
	Recovered []string  // rules that are out of trouble
	Unmatched []string  // files that no rule takes, and that were left alone
	Arrived   []Arrival // where the next file is waited for
	Said      []string  // sentences for people
}

// Arrival is a file that arrived.
type Arrival struct {
	File  string
	Taken bool // a rule may take it
}

// Notice is what a notify step says.
type Notice struct {
	Channel, Text string
	Rule          string
	Job           int64
	File          string
}

// OverdueFile is a file that did not become ready in time.
type OverdueFile struct {
	Rule, File, Why string
}

// Join puts two sentences together, of which each may be empty.
func Join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
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
func (o Outcome) Text() string { return Join(o.Job.Reason, o.Job.Result) }
