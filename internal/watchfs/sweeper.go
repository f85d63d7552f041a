package watchfs

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"
)

// sweeper is one pass over a folder and what lies below it.
type sweeper struct {
	w       *Watcher
	sieve   Sieve      // nil for none
	sifting []*sifting // what is on its way through it, in order
	batch   []Event
	stopped bool
	trouble error // why a folder could not be read, the first if there are several
	// when the system was asked what it has not answered yet, in Unix nanoseconds; 0 if nothing
	asked atomic.Int64
}

// ask does something that the file system may not answer.
func (s *sweeper) ask(do func()) {
	s.answered()
	do()
	s.asked.Store(0)
}

// answered notes that it has answered something of what it was asked, and is asked for the rest.
func (s *sweeper) answered() { s.asked.Store(time.Now().UnixNano()) }

func (s *sweeper) tell(e Event) {
	s.batch = append(s.batch, e)
	if len(s.batch) >= batchSize {
		s.flush()
	}
}

func (s *sweeper) flush() {
	if !s.stopped && !s.w.sendFound(s.batch) {
		s.stopped = true
	}
	s.batch = nil
}

// root sweeps a wanted folder, or begins to wait for it.
func (s *sweeper) root(path string) {
	var info fs.FileInfo
	var err error
	s.ask(func() { info, err = os.Stat(path) })
	if err != nil || !info.IsDir() {
		s.absent(path, err)
		return
	}
	if s.w.o.Missing != nil {
		var why error
		s.ask(func() { why = s.w.o.Missing(path) })
		if why != nil {
			s.unmounted(path, why)
			return
		}
	}
	facts := Facts(info)
	s.w.mu.Lock()
	r := s.w.roots[path]
	if r == nil { // no longer wanted
		s.w.mu.Unlock()
		return
	}
	if r.present && (r.facts.Dev != facts.Dev || r.facts.Ino != facts.Ino) && s.w.src != nil {
		s.w.src.dropBelow(path) // another folder stands at this path now
	}
	was := r.present
	r.present, r.told, r.facts = true, true, facts
	s.w.unwait(path)
	s.w.mu.Unlock()
	if !was {
		s.tell(Event{Kind: Present, Path: path, Dir: true})
	}
	if s.w.o.Sift != nil {
		s.sieve = s.w.o.Sift(path)
	}
	s.folder(path)
	s.tellSifted(0)
	if s.stopped {
		return
	}
	if s.ask(func() { _, err = os.Stat(path) }); err != nil {
		s.absent(path, err)
		return
	}
	s.guard(path)
	s.tell(Event{Kind: Swept, Path: path, Dir: true, Err: s.trouble})
}

// unmounted tells that a wanted folder's disk is not there. When it is
// mounted the mount table changes, and everything is swept again.
func (s *sweeper) unmounted(path string, why error) {
	w := s.w
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.roots[path]
	if r == nil {
		return
	}
	if !r.told || r.present {
		r.told, r.present = true, false
		s.batch = append(s.batch, Event{Kind: Absent, Path: path, Dir: true, Err: why})
	}
	s.batch = append(s.batch, Event{Kind: Swept, Path: path, Dir: true})
	if w.src != nil {
		w.src.dropBelow(path)
	}
}

// remote is Remote. Like all that a file system may not answer it is asked while nothing is locked.
func (s *sweeper) remote(path string) (is bool) {
	s.ask(func() { is = Remote(path) })
	return is
}

// absent tells that a wanted folder is missing and watches its nearest
// parent for it.
func (s *sweeper) absent(path string, err error) {
	if s.tellAbsent(path, err) && s.w.src != nil {
		for !s.awaits(path) {
		}
	}
}

// tellAbsent is false for a folder that is not wanted any more.
func (s *sweeper) tellAbsent(path string, err error) bool {
	w := s.w
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.roots[path]
	if r == nil {
		return false
	}
	if !r.told || r.present {
		r.told, r.present = true, false
		if err != nil && !gone(err) {
			s.batch = append(s.batch, Event{Kind: Trouble, Path: path, Dir: true, Err: err})
		}
		s.batch = append(s.batch, Event{Kind: Absent, Path: path, Dir: true})
	}
	s.batch = append(s.batch, Event{Kind: Swept, Path: path, Dir: true})
	if w.src != nil {
		w.src.dropBelow(path)
	}
	return true
}

// awaits has the system tell of a missing folder, or has it looked at now and then. It is false if that must be done
// again, since what is above the folder has changed meanwhile.
func (s *sweeper) awaits(path string) bool {
	w, parent := s.w, s.nearestParent(path)
	far := s.remote(parent)
	w.mu.Lock()
	w.unwait(path)
	w.waits[parent] = append(w.waits[parent], path)
	if far || w.src.wait(parent) != nil {
		w.poll(path)
		far = true
	}
	w.mu.Unlock()
	if far {
		return true
	}
	if s.nearestParent(path) != parent {
		return false
	}
	var info fs.FileInfo
	var err error
	if s.ask(func() { info, err = os.Stat(path) }); err == nil && info.IsDir() { // made between the look and the watch
		w.mu.Lock()
		w.push(walk{path: path, root: path})
		w.mu.Unlock()
	}
	return true
}

func (s *sweeper) nearestParent(path string) (parent string) {
	s.ask(func() { parent = nearestParent(path) })
	return parent
}

// unwait ends the waiting for a root. The lock is held.
func (w *Watcher) unwait(path string) {
	for parent, waiting := range w.waits {
		rest := slices.DeleteFunc(waiting, func(p string) bool { return p == path })
		w.waits[parent] = rest
		if len(rest) == 0 {
			delete(w.waits, parent)
			if w.src != nil && !w.wanted(parent) && !w.guards[parent] {
				w.src.drop(parent)
			}
		}
	}
}

// folder watches one folder, tells what is in it, and goes on below.
func (s *sweeper) folder(path string) {
	if s.stopped {
		return
	}
	remote := s.remote(path)
	polled := remote && s.w.src != nil
	if polled {
		s.attachFar(path)
	} else {
		polled = s.w.attach(s, path)
	}
	// Not before it is watched: what comes to an open folder need not be listed (readdir(3); btrfs does not).
	var d *os.File
	var err error
	if s.ask(func() { d, err = openFolder(path) }); err != nil {
		s.troubled(path, err)
		return
	}
	var below []string
	told := map[string]bool{}
	err = eachListing(d, s.ask, func(entries []Entry) bool {
		s.sift(d, entries, remote)
		for _, e := range entries {
			if e.Dir() {
				below = append(below, filepath.Join(path, e.Name()))
			}
			if polled {
				told[e.Name()] = e.Dir()
			}
		}
		return !s.stopped
	})
	s.close(d)
	if polled {
		s.w.remember(path, told)
	}
	s.troubled(path, err)
	for _, sub := range below {
		s.w.mu.Lock()
		wanted := s.w.wanted(sub)
		s.w.mu.Unlock()
		if wanted {
			s.folder(sub)
		}
	}
}

// troubled tells that a folder could not be read, or not to its end. What was not seen
// there may still be there. It is looked at again now and then.
func (s *sweeper) troubled(path string, err error) {
	if err == nil || gone(err) {
		return
	}
	s.tell(Event{Kind: Trouble, Path: path, Dir: true, Err: err})
	if s.trouble == nil {
		s.trouble = err
	}
	if s.w.src != nil {
		s.w.mu.Lock()
		s.w.unread[path] = true
		s.w.poll(path)
		s.w.mu.Unlock()
	}
}

// attachFar has a folder looked at now and then whose file system may not answer, and makes the system tell of what
// happens there by way of this machine.
func (s *sweeper) attachFar(path string) {
	w := s.w
	w.mu.Lock()
	_, polled := w.polled[path]
	full, writes := w.src.full(path), w.writes(path)
	if !polled {
		w.poll(path)
		s.batch = append(s.batch, Event{Kind: Polled, Path: path, Dir: true, Err: ErrRemote})
	}
	w.mu.Unlock()
	if full {
		return
	}
	var keep func()
	var err error
	if s.ask(func() { keep, err = w.src.watchFar(path, writes) }); err == nil {
		w.mu.Lock()
		keep()
		w.mu.Unlock()
	}
}

// attach makes the system tell of a folder, or has it looked at now and then: then it
// gives true.
func (w *Watcher) attach(s *sweeper, path string) bool {
	if w.src == nil {
		return false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	_, polled := w.polled[path]
	if !w.src.has(path) || polled {
		err := w.src.watch(path, w.writes(path))
		switch {
		case err == nil && polled:
			delete(w.polled, path)
			delete(w.walked, path)
			s.batch = append(s.batch, Event{Kind: Recovered, Path: path, Dir: true})
		case errors.Is(err, errNoWatches) && !polled:
			w.poll(path)
			s.batch = append(s.batch, Event{Kind: Polled, Path: path, Dir: true, Err: err})
		}
	} else if w.waits[path] != nil || w.guards[path] {
		_ = w.src.watch(path, w.writes(path)) // it was only watched for new names, or for its own, so far
	}
	_, polled = w.polled[path]
	return polled
}

// ErrRemote is why a folder is polled that is watched as well as it can be.
var ErrRemote = errors.New("its file system is on another machine and sends no events")
