package job

// Transition is a way from one state of a job to another.
type Transition struct {
	From State // "" for a job that begins
	To   State
	When string // what leads there
}

// Transitions are all ways that a job can go. docs/states.md is held against them, and
// the simulation allows no other.
var Transitions = []Transition{
	{"", Queued, "a rule takes the file"},
	{"", Running, "a rule takes the file, and a worker is free"},
	{"", Held, "a rule takes the file while it is paused, its folder is absent or its schedule is not due"},
	{Held, Queued, "the rule goes on, the folder is back, or the schedule is due"},
	{Held, Running, "the same, and a worker is free"},
	{Queued, Running, "a worker is free"},
	{Queued, Held, "the rule is paused, or its folder goes away"},
	{Queued, Settling, "the file changes before the job runs"},
	{Queued, Failed, "the file or its group is overdue (overdue: fail), or a crash cut the job short too often"},
	{Settling, Queued, "the file has settled again"},
	{Settling, Running, "the same, and a worker is free"},
	{Settling, Held, "its folder went away"},
	{Running, Processed, "all steps succeeded, and the input is in its place"},
	{Running, Failed, "the last attempt failed"},
	{Running, Skipped, "the same content was handled before"},
	{Running, Retrying, "an attempt failed, and another follows; or a disk is full or away"},
	{Running, Queued, "the watcher ended, or a change stopped the old run (while_running: stop_old)"},
	{Running, Settling, "the file changed, and has to settle before the next run"},
	{Running, Held, "its folder went away"},
	{Retrying, Running, "its next attempt is due"},
	{Retrying, Queued, "the watcher ended, or the job was retried by hand"},
	{Retrying, Held, "the rule is paused, or its folder goes away"},
	{Retrying, Settling, "the file changes in the meantime"},
	{Retrying, Failed, "nothing can follow any more"},
	{Queued, Vanished, "the input is gone before its job could run"},
	{Held, Vanished, "the input is gone before its job could run"},
	{Settling, Vanished, "the input is gone before its job could run"},
	{Running, Vanished, "the input was gone when the attempt failed"},
	{Retrying, Vanished, "the input is gone in the meantime"},
	{Queued, Cancelled, "by hand, or its rule is no longer in the rules file"},
	{Held, Cancelled, "by hand, or its rule is no longer in the rules file"},
	{Settling, Cancelled, "by hand, or its rule is no longer in the rules file"},
	{Running, Cancelled, "by hand"},
	{Retrying, Cancelled, "by hand, or its rule is no longer in the rules file"},
	{Processed, Reverted, "undo"},
	{Failed, Reverted, "undo"},
	{Skipped, Reverted, "undo"},
	{Cancelled, Reverted, "undo"},
	{Processed, Queued, "retry"},
	{Failed, Queued, "retry"},
	{Skipped, Queued, "retry"},
	{Vanished, Queued, "retry, when the input is there again"},
	{Cancelled, Queued, "retry"},
	{Reverted, Queued, "retry"},
}

// Allowed reports whether a job may go from one state to another. One that stays in its
// state is written again, which is always allowed.
func Allowed(from, to State) bool {
	if from == to {
		return true
	}
	for _, t := range Transitions {
		if t.From == from && t.To == to {
			return true
		}
	}
	return false
}

// Become puts a job into a state: the one place where that changes. Who calls it follows a
// row of the table; the simulation sees to that.
func (j *Job) Become(to State) { j.State = to }

// Meanings say what each state is.
var Meanings = map[State]string{
	Held:      "it waits because its rule is paused, its folder is absent, or its schedule is not due",
	Settling:  "its file changed before it ran, and has to settle again",
	Queued:    "it waits for a worker",
	Running:   "its steps are under way, or its input is on its way to its place",
	Retrying:  "it waits for its next attempt",
	Processed: "its steps succeeded, and the input is in its place",
	Failed:    "its last attempt failed; the input is in the failed folder, with a note",
	Skipped:   "the same content was handled before, so nothing was done",
	Vanished:  "the input was gone first",
	Cancelled: "it was taken out of the queue, or stopped, by hand",
	Reverted:  "what it placed was taken back by hand (undo)",
}
