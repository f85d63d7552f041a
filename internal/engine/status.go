package engine

import (
	"maps"
	"os"
	"sort"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
	"stilltide/internal/placing"
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
	Files    []LiveFile        `json:"files"`                   // the longest waiting of them
	Running  []LiveJob         `json:"running,omitempty"`       // the longest running first
	Troubles map[string]string `json:"blocked_rules,omitempty"` // by rule: why it needs your attention
	// by rule: jobs that wait for room or for a disk
	Hindered map[string]turn.Hindrance `json:"hindered,omitempty"`
	Pauses   job.Pauses                `json:"pauses,omitempty"`
	Disabled []string                  `json:"disabled,omitempty"` // rules that are off in the file
	Folders  map[string]LiveFolder     `json:"folders"`
	Pools    []LivePool                `json:"pools,omitempty"` // of other machines
}

// LivePool is a pool of other machines.
type LivePool struct {
	Name    string `json:"name"`
	Helpers int    `json:"helpers"`
	Workers int    `json:"workers"`
	Busy    int    `json:"busy"`
	Away    string `json:"away,omitempty"` // why nothing can be handed over
}

// LiveFile is a file that is not settled yet.
type LiveFile struct {
	Rule  string    `json:"rule"`
	File  string    `json:"file"`
	Since time.Time `json:"since"`
	Why   string    `json:"why"`
}

// LiveJob is a job whose attempt runs.
type LiveJob struct {
	ID      int64     `json:"id"`
	Rule    string    `json:"rule"`
	File    string    `json:"file"`
	Attempt int       `json:"attempt"`
	Since   time.Time `json:"since"`             // when this attempt began
	On      string    `json:"on,omitempty"`      // the machine that runs its command
	Pool    string    `json:"pool,omitempty"`    // the pool that it is offered to, or runs in
	Fetched bool      `json:"fetched,omitempty"` // its result is there, and is being taken
}

// LiveFolder is the state of a watched folder.
type LiveFolder struct {
	Absent  bool   `json:"absent,omitempty"`
	Polled  string `json:"polled,omitempty"` // why it is polled
	Trouble string `json:"blocked,omitempty"`
}

// maxLiveFiles bounds the list of files in Live.
const maxLiveFiles = 200

// Live asks the running engine.
func (e *Engine) Live() (Live, error) {
	l := Live{PID: os.Getpid(), Version: e.o.Version, Started: e.started, Settling: map[string]int{},
		Troubles: map[string]string{}, Folders: map[string]LiveFolder{}}
	if err := e.troubled(); err != nil {
		l.Trouble = err.Error()
	}
	err := e.do(func() {
		l.Rules, l.Rejected = e.o.Rules.Path, e.tell.rejected
		maps.Copy(l.Troubles, e.flow.Troubles())
		l.Hindered = e.flow.Hindered()
		for _, r := range e.flow.Rules().Rules() {
			l.Names = append(l.Names, r.Name.S)
			if !r.Enabled {
				l.Disabled = append(l.Disabled, r.Name.S)
			}
		}
		l.Pauses = maps.Clone(e.flow.Paused())
		e.flow.EachUnsettled(func(rule, path string, since time.Time, why string) {
			l.Settling[rule]++
			l.Files = append(l.Files, LiveFile{Rule: rule, File: path, Since: since, Why: why})
		})
		for _, row := range e.flow.Running() {
			l.Running = append(l.Running, e.livingElsewhere(LiveJob{ID: row.ID, Rule: row.Rule, File: row.File,
				Attempt: row.Attempts, Since: row.Last.Started}))
		}
		l.Pools = e.livePools()
		for path, f := range e.folders {
			l.Folders[path] = LiveFolder{Absent: f.absent, Polled: f.polled, Trouble: f.trouble}
		}
	})
	sort.Slice(l.Files, func(i, j int) bool { return l.Files[i].Since.Before(l.Files[j].Since) })
	l.Files = l.Files[:min(len(l.Files), maxLiveFiles)]
	return l, err
}

// Quiet reports whether nothing waits to settle, and no job is open.
func (e *Engine) Quiet() bool {
	quiet := false
	err := e.do(func() { quiet = e.flow.Unsettled()+e.flow.Gathering()+e.flow.Open() == 0 })
	return err == nil && quiet
}

// Tally counts the running engine's jobs by rule and state.
func (e *Engine) Tally() (map[string]map[job.State]int, error) { return e.ledger.Tally() }

// Start is what the first look through the folders found.
type Start struct {
	Folders int // watched folders that are there
	Polled  int // those of them that are only looked at now and then
	Absent  int // those that are not there
	Files   int // files to look at
	Jobs    int // jobs from before
}

func (e *Engine) begun() Start {
	s := Start{Files: e.flow.Unsettled(), Jobs: e.before}
	for path := range e.flow.Rules().Folders() {
		f := e.folders[path]
		if f.absent {
			s.Absent++
			continue
		}
		s.Folders++
		if f.polled != "" {
			s.Polled++
		}
	}
	return s
}

// Progress is how far the work is.
type Progress struct {
	ToDo    int      // files that have not settled, and jobs that are not over
	More    bool     // there are more in their folders, of which nothing was taken in yet
	Running []string // what runs, the longest running first
}

// maxRunning bounds the list in Progress.
const maxRunning = 8

// Progress asks the running engine.
func (e *Engine) Progress() (Progress, error) {
	var p Progress
	err := e.do(func() {
		p.ToDo = e.flow.Unsettled()
		_, held := e.desk.HoldsUp(placing.MaxFound, time.Now())
		p.More = held || e.events.Full()
		running := e.flow.Running()
		for _, row := range running[:min(len(running), maxRunning)] {
			p.Running = append(p.Running, row.File)
		}
	})
	if err != nil {
		return p, err
	}
	tally, err := e.ledger.Tally()
	for _, counts := range tally {
		p.ToDo += counts[job.Queued] + counts[job.Running]
	}
	return p, err
}

// CatchUp brings the ledger's tables up to date for those who read them beside
// the watcher.
func (e *Engine) CatchUp() error { return e.ledger.Flush() }

// Left is what waits when Run has ended.
type Left struct {
	Unsettled int            // files that have not settled
	Retrying  int            // jobs that wait for another attempt
	Held      map[string]int // jobs that are held, by rule
	Paused    job.Pauses
	Blocked   map[string]bool // the blocked ones
	// Away says, by rule, why no other machine runs its commands.
	Away map[string]string
}

// Left reports what waits when Run has ended.
func (e *Engine) Left() (Left, error) {
	l := Left{Unsettled: e.flow.Unsettled() + e.flow.Gathering(), Held: map[string]int{}, Paused: e.flow.Paused(),
		Blocked: map[string]bool{}}
	for name := range e.flow.Troubles() {
		l.Blocked[name] = true
	}
	l.Away = e.flow.Away()
	if err := e.ledger.Flush(); err != nil {
		return l, err
	}
	tally, err := e.ledger.Tally()
	for rule, counts := range tally {
		l.Retrying += counts[job.Retrying]
		l.Held[rule] = counts[job.Held]
		if _, paused := l.Paused.Rule(rule); paused || l.Blocked[rule] || l.Away[rule] != "" {
			l.Held[rule] += counts[job.Queued]
		}
	}
	return l, err
}
