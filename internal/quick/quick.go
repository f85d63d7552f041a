// Package quick runs a command when files change: a rule from the command line.
// It stores nothing: what it knows about the files is gone when it ends.
//
// It uses the parts of the watcher: the same events, the same waiting until a
// file is complete, the same way of ending a command and everything it started.
// Only the order of runs differs; core/rerun decides it.
package quick

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/rerun"
	"stilltide/internal/core/settle"
	"stilltide/internal/runner"
	"stilltide/internal/watchfs"
	"stilltide/internal/writers"
)

// Options say what is watched and what is run.
type Options struct {
	Targets   *Targets
	Command   *Command
	Folder    string // where the command runs, and where {rel} starts
	Each      bool   // a run for each file, not one for all
	AtStart   bool   // a run at the start
	StopOld   bool   // a change stops the run that is under way
	WhileOpen bool   // a file counts as changed while a program still has it open for writing
	Terminal  bool   // the command has the terminal: its input, and Ctrl-C
	Debounce  time.Duration

	Ready   func(files, folders int)                     // everything has been looked through
	Open    func(path string, writers []writers.Process) // a run waits until they close the file
	Begin   func(files []string)                         // before a run
	End     func(runner.Result)                          // after one
	Trouble func(text string)                            // something is wrong, in a sentence
}

// maxInARow is how often a run may be set off by nothing but the run before. From then
// on such runs are spaced out, further and further, up to longestPause. None is left out:
// a file that is saved while the command runs looks the same as one that it changes.
const (
	maxInARow    = 5
	longestPause = time.Minute
)

// session is a quick run under way. One goroutine owns it.
type session struct {
	o       Options
	machine rerun.Machine
	settle  settle.Machine
	known   map[string]file.Facts
	waiting map[string]bool // folders that were not looked through yet
	runner  *runner.Runner
	results chan runner.Result
	cancel  context.CancelFunc // of the run under way
	absent  map[string]bool
	told    map[string]bool // files of which was said that they are open

	inARow  int       // runs that nothing but the one before set off
	outside bool      // something changed while no run was under way
	began   time.Time // of the last run
	over    time.Time // its end; zero while it is under way
}

// Run watches until the context ends, and then ends the command, too.
func Run(ctx context.Context, o Options) error {
	w, err := watchfs.New(watchfs.Options{})
	if err != nil {
		return err
	}
	defer w.Close()
	s := &session{o: o, known: map[string]file.Facts{}, waiting: map[string]bool{}, absent: map[string]bool{},
		told:   map[string]bool{},
		runner: runner.New(), results: make(chan runner.Result, 1),
		machine: rerun.Machine{Quiet: o.Debounce, Each: o.Each, StopOld: o.StopOld}}
	folders := o.Targets.Folders()
	for folder := range folders {
		s.waiting[folder] = true
	}
	if o.WhileOpen {
		w.TellWriting(folders)
	}
	w.Want(folders)
	s.loop(ctx, w)
	return nil
}

func (s *session) loop(ctx context.Context, w *watchfs.Watcher) {
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		now := time.Now()
		s.look(now)
		s.act(ctx, now)
		wait := time.Duration(1<<63 - 1)
		for _, next := range []func() (time.Time, bool){s.settle.Next, s.machine.Wake} {
			if at, ok := next(); ok {
				wait = min(wait, max(time.Until(at), 0))
			}
		}
		timer.Reset(wait)
		select {
		case batch := <-w.Events():
			for _, e := range batch {
				s.event(e, time.Now())
			}
		case res := <-s.results:
			if s.ended(res); s.o.Terminal && res.Signal == interrupted {
				return // Ctrl-C went to the command, which has the terminal
			}
		case <-timer.C:
		case <-ctx.Done():
			if s.machine.Running() {
				s.ended(<-s.results)
			}
			return
		}
	}
}

// interrupted is the signal of Ctrl-C.
const interrupted = "SIGINT"

func (s *session) event(e watchfs.Event, now time.Time) {
	switch e.Kind {
	case watchfs.Swept:
		s.swept(e.Path)
	case watchfs.Absent:
		if !s.absent[e.Path] {
			s.absent[e.Path] = true
			s.o.Trouble("the folder " + e.Path + " is not there; waiting for it")
		}
	case watchfs.Present:
		delete(s.absent, e.Path)
	case watchfs.Trouble:
		s.o.Trouble(e.Path + " cannot be watched: " + e.Err.Error())
	case watchfs.Removed:
		s.removed(e.Path, e.Dir, now)
	case watchfs.Created, watchfs.Closed, watchfs.Moved, watchfs.Found, watchfs.Written:
		if e.Dir || !s.o.Targets.Fit(e.Path) {
			return
		}
		if e.Kind == watchfs.Found && len(s.waiting) > 0 {
			if f, err := watchfs.Stat(e.Path); err == nil && f.Exists {
				s.known[e.Path] = f // there before the start: no change
			}
			return
		}
		kind := map[watchfs.Kind]settle.Kind{watchfs.Created: settle.Created, watchfs.Closed: settle.Closed,
			watchfs.Moved: settle.Moved, watchfs.Found: settle.Found, watchfs.Written: settle.Written}[e.Kind]
		s.settle.Event(e.Path, kind, settle.Policy{Ignore: s.o.WhileOpen}, now)
	}
}

// swept notes that a folder was looked through; after the last of them the
// watching has begun.
func (s *session) swept(folder string) {
	if !s.waiting[folder] {
		return
	}
	if delete(s.waiting, folder); len(s.waiting) > 0 {
		return
	}
	files := s.files()
	s.o.Ready(len(files), len(s.o.Targets.Folders()))
	s.sayOpen(files)
	if s.o.AtStart {
		s.machine.Begin(files)
	}
}

// maxLooked bounds the files that are looked at for writers at the start.
const maxLooked = 1000

// sayOpen says of files that a program has open for writing that only their close counts.
func (s *session) sayOpen(files []string) {
	for _, path := range files[:min(len(files), maxLooked)] {
		if facts, err := watchfs.Look(path); err == nil && facts.Writers == file.Some {
			s.isOpen(path)
		}
	}
}

// isOpen says once of a file that a run waits until its writers close it.
func (s *session) isOpen(path string) {
	if s.o.WhileOpen || s.told[path] {
		return
	}
	s.told[path] = true
	s.o.Open(path, writers.Of(path))
}

// files lists the files that are there, in name order.
func (s *session) files() []string {
	list := make([]string, 0, len(s.known))
	for path := range s.known {
		list = append(list, path)
	}
	slices.Sort(list)
	return list
}

func (s *session) removed(path string, dir bool, now time.Time) {
	for known := range s.known {
		if known == path && !dir || dir && strings.HasPrefix(known, path+string(filepath.Separator)) {
			// an editor may only be replacing it
			s.settle.Event(known, settle.Nudged, settle.Policy{Debounce: s.o.Debounce, Ignore: s.o.WhileOpen}, now)
		}
	}
}

// look asks about the files that the settling machine wants to know of.
func (s *session) look(now time.Time) {
	for _, path := range s.settle.Asks(now) {
		facts, err := watchfs.Look(path)
		if err != nil {
			facts = file.Facts{Exists: true, Writers: file.None}
		}
		was, known := s.known[path]
		switch s.settle.Answer(path, facts, now).Verdict {
		case settle.Ready:
			if !known || !was.Same(facts) {
				s.known[path] = facts
				s.changed(path, facts.Change.Time(), now)
			}
		case settle.Gone:
			if delete(s.known, path); known {
				s.noteOutside(now)
				s.machine.Gone(path, now)
			}
		case settle.Wait:
			if facts.Writers == file.Some {
				s.isOpen(path)
			}
		}
	}
}

func (s *session) changed(path string, at, now time.Time) {
	s.noteOutside(at)
	s.machine.Changed(path, now.Add(s.pause()))
}

// pause is how long a run waits that only the run before has set off.
func (s *session) pause() time.Duration {
	if s.outside || s.inARow < maxInARow {
		return 0
	}
	return min(time.Second<<min(s.inARow-maxInARow, 10), longestPause)
}

// coarse is how much a file's time may be behind the clock.
const coarse = 20 * time.Millisecond

// noteOutside notes a change at a time when no run can have made it.
func (s *session) noteOutside(at time.Time) {
	during := !s.began.IsZero() && at.After(s.began.Add(-coarse)) &&
		(s.over.IsZero() || at.Before(s.over.Add(coarse)))
	s.outside = s.outside || !during
}

// act starts and stops the command as the machine says.
func (s *session) act(ctx context.Context, now time.Time) {
	start, files, stop := s.machine.Next(now, s.settle.Busy())
	if stop {
		s.cancel()
	}
	if !start {
		return
	}
	if s.outside {
		s.inARow = 0
	} else if s.inARow++; s.inARow == maxInARow {
		s.o.Trouble("files have changed during each of the last runs, perhaps by the command itself; the runs " +
			"are spaced out now, until nothing changes during one")
	}
	s.outside, s.began, s.over = false, now, time.Time{}
	if len(files) == 0 && !s.o.Each {
		files = s.files()
	}
	s.o.Begin(files)
	run, cancel := context.WithCancel(ctx)
	s.cancel = cancel
	spec := runner.Spec{Args: s.o.Command.Words(files, s.o.Folder), Dir: s.o.Folder, Direct: true,
		Terminal: s.o.Terminal,
		Env:      s.o.Command.Env(files)}
	go func() { s.results <- s.runner.Run(run, spec) }() // ended by cancel, and waited for in loop
}

func (s *session) ended(res runner.Result) {
	s.cancel()
	s.machine.Ended()
	s.over = time.Now()
	s.o.End(res)
}
