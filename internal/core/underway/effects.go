package underway

import (
	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
)

// Effects are those of the rounds since they were taken last. They are the caller's until
// Took.
func (js *Jobs) Effects() *turn.Effects { return &js.Out }

// Took ends that: the effects are carried out, or on their way.
func (js *Jobs) Took() {
	outcomes := js.Out.Outcomes
	if clear(outcomes); cap(outcomes) > MaxBegun {
		outcomes = nil
	}
	js.Out = turn.Effects{Outcomes: outcomes[:0]}
}

// Say has something be told that the flow has not decided itself.
func (js *Jobs) Say(o turn.Outcome) { js.Out.Outcomes = append(js.Out.Outcomes, o) }

// Notify tells what a notify step says.
func (js *Jobs) Notify(n turn.Notice) { js.Out.Notices = append(js.Out.Notices, n) }

// Blame is Say for a job's rule that needs attention, for a reason.
func (js *Jobs) Blame(rule, why string) { js.Say(turn.Outcome{Job: &job.Job{Rule: rule, Reason: why}}) }

// Read has something be read beside the flow.
func (js *Jobs) Read(path string, do func(from turn.Source) turn.Answer) {
	js.Out.Reads = append(js.Out.Reads, turn.Read{Path: path, Do: do})
}
