package rule

import (
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/schedule"
)

// Queues are the named queues.
type Queues map[string]Queue

// Queue is a named queue's own bounds.
type Queue struct {
	Workers  int  `key:"workers" doc:"how many of its jobs run at once; no bound but the common one if left out"`
	Rate     Rate `key:"rate" doc:"how many may start in a time, such as 30 in 1m"`
	Priority int  `key:"priority" doc:"higher goes first; 0 if left out"`
}

// Bounds is what the dispatching machine must know.
func (q Queue) Bounds() dispatch.Queue {
	return dispatch.Queue{Workers: q.Workers, Count: q.Rate.Count, Per: q.Rate.Per, Priority: q.Priority}
}

// Rate is a number of starts in a time: `30 in 1m`.
type Rate struct {
	Count int
	Per   time.Duration
}

// Again says whether a file that stays is handled again.
type Again Choice

const (
	AgainChanged Again = "changed" // when its content differs
	AgainNever   Again = "never"   // never the same content twice, under whatever name
	AgainAlways  Again = "always"  // at each change
)

// Loops says whether a rule takes what it placed itself.
type Loops Choice

const (
	LoopsStop  Loops = "stop"
	LoopsAllow Loops = "allow"
)

// Schedule is when a rule's jobs may start: `0 20 * * fri`.
type Schedule struct {
	Text
	Line *schedule.Line
}

// Order is the order in which a rule's jobs start.
type Order dispatch.Order
