package job

import "time"

// Filter chooses jobs. Zero values choose all.
type Filter struct {
	ID     int64
	Rule   string
	States []State
	File   string   // a whole path, or a part of one
	Paths  []string // whole paths: where a job's file was taken, or is now
	Since  time.Time
	After  int64 // only greater numbers
	Limit  int
	Oldest bool // oldest first; otherwise newest first
	// Shown has a queued job of a paused rule count, and come out, as held.
	Shown bool
	// Undismissed leaves out failures that somebody has dismissed since the job failed.
	Undismissed bool
}
