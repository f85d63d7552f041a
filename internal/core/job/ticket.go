package job

import "time"

// Ticket is a step's command on its way through other machines: its intention is in the ledger
// before any of them can know of it. It is open until the attempt that it belongs to has
// ended, and one result is taken for it.
type Ticket struct {
	Name    string // job-attempt-step-nonce
	Job     int64
	Attempt int
	Step    int    // its number in the rule, from 0
	Pool    string // of the machines it was offered to
	Content string // SHA-256 of what was handed over: an attempt that hands over the same takes it up
	Handed  time.Time
}
