package flow

import "stilltide/internal/core/job"

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

// Effects are those of the rounds since they were taken last. They are the caller's until
// Took.
func (f *Flow) Effects() *Effects { return &f.out }

// Took ends that: the effects are carried out, or on their way.
func (f *Flow) Took() {
	outcomes := f.out.Outcomes
	if clear(outcomes); cap(outcomes) > maxBegun {
		outcomes = nil
	}
	f.out = Effects{Outcomes: outcomes[:0]}
}

// Say has something be told that the flow has not decided itself.
func (f *Flow) Say(o Outcome) { f.out.Outcomes = append(f.out.Outcomes, o) }

// Notify tells what a notify step says.
func (f *Flow) Notify(n Notice) { f.out.Notices = append(f.out.Notices, n) }

// Blame is Say for a job's rule that needs attention, for a reason.
func (f *Flow) Blame(rule, why string) { f.Say(Outcome{Job: &job.Job{Rule: rule, Reason: why}}) }
