package engine

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sort"
	"strings"
	"time"

	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/ledger"
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
	Hindered map[string]Hindrance  `json:"hindered,omitempty"`
	Paused   []string              `json:"paused,omitempty"`   // rules; "" for all
	Disabled []string              `json:"disabled,omitempty"` // rules that are off in the file
	Folders  map[string]LiveFolder `json:"folders"`
}

// Hindrance is what jobs wait for that is not their files' fault.
type Hindrance struct {
	Jobs int    `json:"jobs"`
	Why  string `json:"why"` // of one of them
}

// hindered reports which jobs wait for room or for a disk.
func (f *flow) hindered() map[string]Hindrance {
	all := map[string]Hindrance{}
	for _, j := range f.open {
		if s := j.setback(); s.why != "" && f.running[j.row.ID] == nil {
			all[j.row.Rule] = Hindrance{all[j.row.Rule].Jobs + 1, s.why}
		}
	}
	return all
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
	Since   time.Time `json:"since"` // when this attempt began
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
		maps.Copy(l.Troubles, e.flow.troubles)
		l.Hindered = e.flow.hindered()
		for _, r := range e.flow.set.Rules() {
			l.Names = append(l.Names, r.Name.S)
			if !r.Enabled {
				l.Disabled = append(l.Disabled, r.Name.S)
			}
		}
		for name := range e.flow.paused {
			l.Paused = append(l.Paused, name)
		}
		e.flow.gather.Each(func(path string, k gather.Key, since time.Time, missing []string) {
			why := "more files may come"
			if len(missing) > 0 {
				why = "nothing fits " + strings.Join(missing, ", ") + " yet"
			}
			l.Settling[k.Rule]++
			l.Files = append(l.Files, LiveFile{Rule: k.Rule, File: path, Since: since, Why: why})
		})
		for _, w := range e.flow.settle.All() {
			l.Settling[w.Rule]++
			l.Files = append(l.Files, LiveFile{Rule: w.Rule, File: w.Path, Since: w.Since, Why: w.Why})
		}
		for _, j := range e.flow.running {
			l.Running = append(l.Running, LiveJob{ID: j.row.ID, Rule: j.row.Rule, File: j.row.File,
				Attempt: j.row.Attempts, Since: j.row.Last.Started})
		}
		for path, f := range e.folders {
			l.Folders[path] = LiveFolder{Absent: f.absent, Polled: f.polled, Trouble: f.trouble}
		}
	})
	sort.Slice(l.Running, func(i, j int) bool { return l.Running[i].Since.Before(l.Running[j].Since) })
	sort.Slice(l.Files, func(i, j int) bool { return l.Files[i].Since.Before(l.Files[j].Since) })
	l.Files = l.Files[:min(len(l.Files), maxLiveFiles)]
	return l, err
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
	s := Start{Files: e.flow.settle.Len(), Jobs: e.before}
	for path := range e.flow.set.Folders() {
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
		p.ToDo = e.flow.settle.Len()
		_, held := e.queue.holdsUp(time.Now())
		p.More = held || len(e.events.Events()) == cap(e.events.Events())
		running := slices.SortedFunc(maps.Values(e.flow.running),
			func(a, b *openJob) int { return a.row.Last.Started.Compare(b.row.Last.Started) })
		for _, j := range running[:min(len(running), maxRunning)] {
			p.Running = append(p.Running, j.row.File)
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

// Sent says what became of retrying one job.
type Sent struct {
	ID     int64  `json:"id"`
	Done   bool   `json:"done"`
	Reason string `json:"reason"`
}

// Cancel takes a job out of the queue, or stops it.
func (e *Engine) Cancel(id int64) Sent {
	running := false
	var err error
	doErr := e.do(func() {
		running = e.flow.running[id] != nil
		if e.flow.open[id] == nil { // perhaps it waits in the ledger alone
			if row, findErr := jobByID(e.ledger, id); findErr == nil && !row.State.Final() {
				e.flow.window.find(e.flow, row.File)
			}
		}
		err = e.flow.cancelJob(id, time.Now())
	})
	switch err = errors.Join(err, doErr); {
	case err != nil:
		return Sent{ID: id, Reason: err.Error()}
	case running:
		return Sent{ID: id, Done: true, Reason: "it is being stopped"}
	}
	return Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"}
}

// CancelOffline takes a job out of the queue while no watcher runs.
func CancelOffline(l *ledger.Ledger, id int64) Sent {
	row, err := jobByID(l, id)
	if err == nil && row.State.Final() {
		err = fmt.Errorf("the job is over: it is %s", row.State)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	was := row.State
	row.Become(job.Cancelled)
	row.Reason, row.Ended, row.Due = "it was cancelled by hand", time.Now(), time.Time{}
	l.Record(row, was)
	l.Remember(job.Known{Rule: row.Rule, File: row.File, Facts: row.Facts, Job: id})
	return Sent{ID: id, Done: true, Reason: "cancelled; its input stays where it is"}
}

// Dismiss notes that somebody has seen that a job failed.
func (e *Engine) Dismiss(id int64) Sent { return dismiss(e.ledger, id) }

// DismissOffline does that while no watcher runs.
func DismissOffline(l *ledger.Ledger, id int64) Sent { return dismiss(l, id) }

func dismiss(l store, id int64) Sent {
	row, err := jobByID(l, id)
	if err == nil && row.State != job.Failed {
		err = fmt.Errorf("it is %s, not failed", row.State)
	}
	if err != nil {
		return Sent{ID: id, Reason: err.Error()}
	}
	l.RecordDismissed(row)
	return Sent{ID: id, Done: true, Reason: "dismissed; it stays in the list of jobs"}
}

// CatchUp brings the ledger's tables up to date for those who read them beside
// the watcher.
func (e *Engine) CatchUp() error { return e.ledger.Flush() }

// Pause pauses rules, or lets them go on; no names mean all.
func (e *Engine) Pause(names []string, paused bool) error {
	return e.do(func() {
		e.flow.setPaused(names, paused)
		if !paused {
			e.mounts.accept(e.ledger, e.flow.set, names)
			e.events.Sweep()
		}
	})
}

func jobByID(l store, id int64) (job.Job, error) {
	_ = l.Flush() // what cannot be written is asked for as it was
	rows, err := l.Jobs(ledger.Filter{ID: id})
	if err != nil {
		return job.Job{}, err
	}
	if len(rows) == 0 {
		return job.Job{}, fmt.Errorf("there is no job %d", id)
	}
	return rows[0], nil
}

// Left is what waits when Run has ended.
type Left struct {
	Unsettled int             // files that have not settled
	Retrying  int             // jobs that wait for another attempt
	Held      map[string]int  // jobs that are held, by rule
	Paused    map[string]bool // the paused rules; "" for all
	Blocked   map[string]bool // the blocked ones
}

// Left reports what waits when Run has ended.
func (e *Engine) Left() (Left, error) {
	l := Left{Unsettled: e.flow.settle.Len() + e.flow.gather.Len(), Held: map[string]int{}, Paused: e.flow.paused,
		Blocked: map[string]bool{}}
	for name := range e.flow.troubles {
		l.Blocked[name] = true
	}
	if err := e.ledger.Flush(); err != nil {
		return l, err
	}
	tally, err := e.ledger.Tally()
	for rule, counts := range tally {
		l.Retrying += counts[job.Retrying]
		if l.Held[rule] = counts[job.Held]; l.Paused[rule] || l.Paused[""] || l.Blocked[rule] {
			l.Held[rule] += counts[job.Queued]
		}
	}
	return l, err
}
