// Package watcher is what a running watcher says of itself to others: values without any doing,
// which travel over its socket and are shown by status, the live view and the report.
package watcher

import (
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
)

// Live is what only a running watcher knows; the ledger holds the rest.
type Live struct {
	PID      int               `json:"pid"`
	Version  string            `json:"version"`
	Started  time.Time         `json:"started"`
	Rules    string            `json:"rules"` // the rules file it reads
	Trouble  string            `json:"blocked,omitempty"`
	Rejected string            `json:"rejected,omitempty"`      // why changed rules are not in use
	Names    []string          `json:"names"`                   // the rules, in their order
	Settling map[string]int    `json:"settling"`                // files that are not settled, by rule
	Files    []File            `json:"files"`                   // the longest waiting of them
	Running  []Job             `json:"running,omitempty"`       // the longest running first
	Troubles map[string]string `json:"blocked_rules,omitempty"` // by rule: why it needs your attention
	// by rule: jobs that wait for room or for a disk
	Hindered map[string]turn.Hindrance `json:"hindered,omitempty"`
	Pauses   job.Pauses                `json:"pauses,omitempty"`
	Disabled []string                  `json:"disabled,omitempty"` // rules that are off in the file
	Folders  map[string]Folder         `json:"folders"`
	Pools    []Pool                    `json:"pools,omitempty"` // of other machines
}

// Pool is a pool of other machines.
type Pool struct {
	Name    string `json:"name"`
	Helpers int    `json:"helpers"`
	Workers int    `json:"workers"`
	Busy    int    `json:"busy"`
	Away    string `json:"away,omitempty"` // why nothing can be handed over
}

// File is a file that is not settled yet.
type File struct {
	Rule  string    `json:"rule"`
	File  string    `json:"file"`
	Since time.Time `json:"since"`
	Why   string    `json:"why"`
}

// Job is a job whose attempt runs.
type Job struct {
	ID      int64     `json:"id"`
	Rule    string    `json:"rule"`
	File    string    `json:"file"`
	Attempt int       `json:"attempt"`
	Since   time.Time `json:"since"`             // when this attempt began
	On      string    `json:"on,omitempty"`      // the machine that runs its command
	Pool    string    `json:"pool,omitempty"`    // the pool that it is offered to, or runs in
	Fetched bool      `json:"fetched,omitempty"` // its result is there, and is being taken
}

// Folder is the state of a watched folder.
type Folder struct {
	Absent  bool   `json:"absent,omitempty"`
	Polled  string `json:"polled,omitempty"` // why it is polled
	Trouble string `json:"blocked,omitempty"`
}

// Start is what the first look through the folders found.
type Start struct {
	Folders int // watched folders that are there
	Polled  int // those of them that are only looked at now and then
	Absent  int // those that are not there
	Files   int // files to look at
	Jobs    int // jobs from before
}

// Progress is how far the work is.
type Progress struct {
	ToDo    int      // files that have not settled, and jobs that are not over
	More    bool     // there are more in their folders, of which nothing was taken in yet
	Running []string // what runs, the longest running first
}

// Left is what waits when Run has ended.
type Left struct {
	Unsettled int            // files that have not settled
	Begun     int            // jobs that wait for another attempt, or for their place
	Held      map[string]int // jobs that are held, by rule
	Paused    job.Pauses
	Blocked   map[string]bool // the blocked ones
	// Away says, by rule, why no other machine runs its commands.
	Away map[string]string
}
