package engine

import (
	"maps"
	"os"
	"sort"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/placing"
	"stilltide/internal/watcher"
)

// maxLiveFiles bounds the list of files in Live.
const maxLiveFiles = 200

// Live asks the running engine.
func (e *Engine) Live() (watcher.Live, error) {
	l := watcher.Live{PID: os.Getpid(), Version: e.o.Version, Started: e.started, Settling: map[string]int{},
		Troubles: map[string]string{}, Folders: map[string]watcher.Folder{}}
	if err := e.troubled(); err != nil {
		l.Trouble = err.Error()
	}
	err := e.do(func() {
		l.Rules, l.Rejected = e.o.Rules.Path, e.tell.Why()
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
			l.Files = append(l.Files, watcher.File{Rule: rule, File: path, Since: since, Why: why})
		})
		for _, row := range e.flow.Running() {
			l.Running = append(l.Running, e.livingElsewhere(watcher.Job{ID: row.ID, Rule: row.Rule, File: row.File,
				Attempt: row.Attempts, Since: row.Last.Started}))
		}
		l.Pools = e.livePools()
		for path, f := range e.folders {
			l.Folders[path] = watcher.Folder{Absent: f.absent, Polled: f.polled, Trouble: f.trouble}
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

func (e *Engine) begun() watcher.Start {
	s := watcher.Start{Files: e.flow.Unsettled(), Jobs: e.before}
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

// maxRunning bounds the list in Progress.
const maxRunning = 8

// Progress asks the running engine.
func (e *Engine) Progress() (watcher.Progress, error) {
	var p watcher.Progress
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

// Left reports what waits when Run has ended.
func (e *Engine) Left() (watcher.Left, error) {
	l := watcher.Left{Unsettled: e.flow.Unsettled() + e.flow.Gathering(), Held: map[string]int{},
		Paused:  e.flow.Paused(),
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
		l.Begun += counts[job.Retrying] + counts[job.Running] + counts[job.Settling]
		l.Held[rule] = counts[job.Held]
		if _, paused := l.Paused.Rule(rule); paused || l.Blocked[rule] || l.Away[rule] != "" {
			l.Held[rule] += counts[job.Queued]
		}
	}
	return l, err
}
