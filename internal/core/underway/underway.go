// Package underway holds the jobs that are not over, and decides what becomes of each: it waits for
// a worker, its steps are run and tried again, its input is placed, and it is over. What may start
// at all, it keeps as well: rules that are paused or in trouble, folders that are not there.
//
// It knows of the files that are still on their way to a rule only what [Ways] say.
package underway

import (
	"time"

	"stilltide/internal/core/dispatch"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
)

// Jobs are those that are not over, and what of them may start. Use NewJobs.
type Jobs struct {
	Set    *plan.Set
	Store  Memory
	Eyes   Eyes
	hands  Hands
	chance func() float64 // from 0 to 1: how late a retry is
	ways   Ways

	underWay
	standing
	Out turn.Effects
}

// underWay are the jobs that are not over.
type underWay struct {
	Dispatch   *dispatch.Machine
	ByID       map[int64]*Job
	ByPath     map[string]*Job // the job that is not over for a path
	AtWork     map[int64]*Job  // jobs whose attempt is under way
	Claims     map[string]*Job // by path and by inode: what a job that is not over has placed, or taken away
	wanted     turn.Wishes     // the names that they have reserved
	Taken      []*Job          // in this round, and not recorded yet
	held       []*Job          // jobs whose watched folder is not there
	Late       late            // placements to be tried again
	Window     window
	Batches    batches
	Book       loop.Book
	Chained    bool // something was placed where a rule watches
	Unfinished bool // the last round ended before all had begun that could
}

// standing is what may start, and what may not.
type standing struct {
	InTrouble  map[string]string    // by rule: why it needs your attention
	Pauses     job.Pauses           // rules and folders
	Lacking    map[string]bool      // rules that are blocked because their program is not there
	NotThere   map[string]bool      // watched folders that are not there
	Looking    map[string]bool      // watched folders that are being looked through for the first time
	Timed      map[string]time.Time // by rule with held jobs: when its schedule is due next
	Chosen     turn.Chosen          // what is worked on
	AwaitsNext bool                 // that is to be the next file that arrives
	pools      map[string]turn.Pool // of other machines
	Once       bool
	Ending     bool
	Holding    bool // the ledger cannot be written: nothing starts
}

// NewJobs has no jobs. chance gives numbers from 0 to 1, which spread retries.
func NewJobs(set *plan.Set, m Memory, eyes Eyes, hands Hands, ways Ways, chance func() float64) Jobs {
	return Jobs{Set: set, Store: m, Eyes: eyes, hands: hands, ways: ways, chance: chance,
		underWay: underWay{Dispatch: dispatch.New(set.File.WorkerCount()), ByID: map[int64]*Job{},
			ByPath: map[string]*Job{}, AtWork: map[int64]*Job{}, Claims: map[string]*Job{},
			wanted: turn.Wishes{}, Window: window{count: map[string]int{}}},
		standing: standing{InTrouble: map[string]string{}, Pauses: job.Pauses{}, NotThere: map[string]bool{},
			Looking: map[string]bool{}}}
}
