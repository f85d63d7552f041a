package turn

import (
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Placing is a job's end: its input goes where it belongs, with all that
// goes along.
type Placing struct {
	Watch  string // the watched folder that its file was taken from
	Landed string // where its file was placed before the program ended, "" if it was not
	ID     int64
	Leads  job.State
	Moves  []Move
	Alone  bool          // the job has, and had, no further files: its end may be written late
	One    [1]Move       // what moves is made of, for the many that have but one
	Note   *plan.Failure // beside the input, for the failed folder

	Output string // what the last attempt printed, for the note: a file below the state folder
}

// Move is one file of a placing. Its record is the ledger's as soon as that has
// it: who wants another takes a copy.
type Move struct {
	Record *job.Placement
	To     plan.Spot
	Same   rule.SameName
	First  []job.Ahead // files that have the name before this one
	Wish   *Wish       // what its own file has reserved, if anything
	Marker *rule.Rule  // it is a marker, and named after its file as this rule says
	Of     string      // where its file was before it was moved
	Only   bool        // nothing else was done with the file, and nobody looked inside
}

// PlacingEnd is how a placing ended. With an error nothing was moved.
type PlacingEnd struct {
	ID    int64
	Leads job.State
	Moved []Moved               // as the moves
	Now   map[string]file.Facts // by source: how files look that another disk has given new numbers, or that are back
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

// Placed notes that the file has its name.
func (m *Move) Placed() {
	if m.Wish != nil {
		m.Wish.Done.Store(true)
	}
}
