package watchfs

import (
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"stilltide/internal/core/file"
)

// what is the meaning of a system event, whatever the system.
type what int

const (
	nameCreated what = iota
	fileWritten
	writerClosed
	nameMoved
	nameRemoved
	folderGone
	lostEvents
)

// change is one system event.
type change struct {
	what   what
	folder string // the watched folder
	path   string
	dir    bool
}

// Watcher watches folders. Use New; Close ends it and its goroutines.
type Watcher struct {
	o     Options
	out   chan []Event
	found chan []Event // what walks and looks find; the same as out, unless it is wanted apart
	stop  chan struct{}
	done  sync.WaitGroup

	mu      sync.Mutex
	src     *source
	roots   map[string]*root
	writing map[string]int      // folders whose files are told of while they are written
	waits   map[string][]string // by the folder that is watched for them: the roots that are absent
	guards  map[string]bool     // folders above wanted ones, watched only for being renamed
	polled  map[string]snapshot
	// by polled folder: what a walk told of since the last look, and whether it is a folder
	walked map[string]map[string]bool
	unread map[string]bool // folders that could not be read, or not to their end
	walks  []walk          // to be done by the walker
	queued map[walk]bool
	busy   map[string]bool // by wanted folder: a walk there is under way
	polls  map[string]bool // polled folders that are being looked at
	kick   chan struct{}
	looks  chan struct{} // kicked when the first folder must be looked at

	walking sync.WaitGroup // walks, and looks at polled folders
}

// root is a wanted folder.
type root struct {
	path    string
	depth   int
	present bool
	told    bool // Absent or Present was sent
	silent  bool // it does not answer
	facts   file.Facts
}

type walk struct {
	path string
	root string // Swept is told for it, "" for none
	ping bool   // it is only asked whether it answers
}

// New starts a watcher that wants no folder yet.
func New(o Options) (*Watcher, error) {
	if o.Look <= 0 {
		o.Look = 5 * time.Second
	}
	w := &Watcher{
		o: o, out: make(chan []Event, 64), stop: make(chan struct{}), kick: make(chan struct{}, 1),
		looks: make(chan struct{}, 1),
		roots: map[string]*root{}, waits: map[string][]string{}, guards: map[string]bool{},
		polled: map[string]snapshot{}, walked: map[string]map[string]bool{}, unread: map[string]bool{},
		queued: map[walk]bool{}, busy: map[string]bool{}, polls: map[string]bool{},
	}
	w.found = w.out
	if o.Apart {
		w.found = make(chan []Event, foundAhead)
	}
	if !o.Once {
		src, err := newSource(o)
		if err != nil {
			return nil, err
		}
		w.src = src
		w.done.Go(w.readEvents)
		w.done.Go(w.watchMounts)
		w.done.Go(w.pollFolders)
	}
	w.done.Go(w.walkFolders)
	return w, nil
}

// Events returns the stream. Batches keep the order in which things happened.
func (w *Watcher) Events() <-chan []Event { return w.out }

// foundAhead is how many batches of what walks find may wait. They are few: a walk has time,
// and what it has found is taken in turn with what happens.
const foundAhead = 4

// Found returns the stream of what walks and looks find, with Options.Apart.
func (w *Watcher) Found() <-chan []Event { return w.found }

// Waiting counts the batches that wait to be taken.
func (w *Watcher) Waiting() int {
	if w.o.Apart {
		return len(w.out) + len(w.found)
	}
	return len(w.out)
}

// Close ends the watcher.
func (w *Watcher) Close() {
	close(w.stop)
	if w.src != nil {
		w.src.close()
	}
	w.done.Wait()
	w.waitForWalks()
}

// Want sets the wanted folders, each with its depth. New ones are swept; ones
// that are no longer wanted are dropped.
func (w *Watcher) Want(folders map[string]int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for path := range w.roots {
		if _, ok := folders[path]; !ok {
			w.forget(path)
		}
	}
	for _, path := range slices.Sorted(maps.Keys(folders)) {
		depth := folders[path]
		if r := w.roots[path]; r != nil && r.depth == depth {
			continue
		}
		w.roots[path] = &root{path: path, depth: depth}
		w.push(walk{path: path, root: path})
	}
}

// TellWriting sets the folders, each with its depth, whose files are told of while they are
// written, too: the writer of a log never closes it.
func (w *Watcher) TellWriting(folders map[string]int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.writing = folders; w.src == nil {
		return
	}
	for _, path := range w.src.watched() {
		if _, polled := w.polled[path]; !polled && w.writes(path) && w.wanted(path) {
			_ = w.src.watch(path, true) // it has a watch, so that this only widens it
		}
	}
}

// writes reports whether the files of a folder are told of while they are written.
func (w *Watcher) writes(folder string) bool { return Within(folder, w.writing) }

// Sweep looks through all wanted folders again.
func (w *Watcher) Sweep() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.sweepAll()
}

func (w *Watcher) sweepAll() {
	for _, path := range slices.Sorted(maps.Keys(w.roots)) {
		w.push(walk{path: path, root: path})
	}
}

func (w *Watcher) forget(path string) {
	delete(w.roots, path)
	if w.src == nil {
		return
	}
	for _, p := range w.src.watched() {
		if (p == path || strings.HasPrefix(p, path+"/")) && !w.wanted(p) && w.waits[p] == nil && !w.guards[p] {
			w.src.drop(p)
		}
	}
}

// push returns the walker something to do. The lock is held.
func (w *Watcher) push(k walk) {
	if w.queued[k] {
		return
	}
	w.queued[k] = true
	w.walks = append(w.walks, k)
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

// wanted reports whether a folder lies within the depth of a wanted one.
func (w *Watcher) wanted(folder string) bool {
	return upwards(folder, func(p string, level int) bool {
		r := w.roots[p]
		return r != nil && level <= r.depth
	})
}

// Within reports whether a folder lies within the depth of one of others.
func Within(folder string, depths map[string]int) bool {
	return len(depths) > 0 && upwards(folder, func(p string, level int) bool {
		depth, is := depths[p]
		return is && level <= depth
	})
}

// upwards reports whether something holds of a folder or of one above it; level is how far above.
func upwards(folder string, holds func(p string, level int) bool) bool {
	for level, p := 0, folder; ; level++ {
		if holds(p, level) {
			return true
		}
		up := filepath.Dir(p)
		if up == p {
			return false
		}
		p = up
	}
}

// send tells what happened, sendFound what was found. They are false when the watcher ends.
func (w *Watcher) send(batch []Event) bool { return w.sendOn(w.out, batch) }

func (w *Watcher) sendFound(batch []Event) bool { return w.sendOn(w.found, batch) }

// Full reports whether more is to be told than was taken.
func (w *Watcher) Full() bool { return len(w.out) == cap(w.out) || len(w.found) == cap(w.found) }

func (w *Watcher) sendOn(stream chan<- []Event, batch []Event) bool {
	if len(batch) == 0 {
		return true
	}
	select {
	case stream <- batch:
		return true
	case <-w.stop:
		return false
	}
}

// In a burst the events of a millisecond are read at once: to be woken for each
// costs more than to handle it, also for the program that makes the files.
const (
	burst     = 4 // events in one read
	gathering = time.Millisecond
)

// readEvents is the goroutine that reads from the system until Close.
func (w *Watcher) readEvents() {
	for {
		said, err := w.src.read()
		if err != nil {
			if errors.Is(err, os.ErrClosed) {
				return
			}
			w.send([]Event{{Kind: Trouble, Err: err}})
			return
		}
		w.mu.Lock()
		changes := w.src.changes(said)
		batch := make([]Event, 0, len(changes))
		for _, c := range changes {
			batch = w.happened(batch, c)
		}
		w.mu.Unlock()
		if !w.send(batch) {
			return
		}
		if len(batch) >= burst {
			time.Sleep(gathering)
		}
	}
}

// happened turns a change into events and into work for the walker.
func (w *Watcher) happened(batch []Event, c change) []Event {
	switch {
	case c.what == lostEvents:
		w.sweepAll()
		return batch
	case c.what == folderGone:
		return w.folderLeft(batch, c.folder)
	}
	for _, r := range w.waits[c.folder] {
		w.push(walk{path: r, root: r})
	}
	if !w.wanted(c.folder) {
		return batch
	}
	if c.dir {
		return w.subfolder(batch, c)
	}
	return append(batch, Event{Kind: kindOf[c.what], Path: c.path})
}

var kindOf = [...]Kind{nameCreated: Created, writerClosed: Closed, nameMoved: Moved, nameRemoved: Removed,
	fileWritten: Written}

func (w *Watcher) subfolder(batch []Event, c change) []Event {
	if c.what == nameRemoved {
		w.src.dropBelow(c.path)
		w.rootsLeft(c.path)
		return append(batch, Event{Kind: Removed, Path: c.path, Dir: true})
	}
	if w.wanted(c.path) {
		if w.src.has(c.path) { // another folder stands at this path now
			w.src.dropBelow(c.path)
		}
		w.push(walk{path: c.path})
	}
	kind := Created
	if c.what == nameMoved {
		kind = Moved
	}
	return append(batch, Event{Kind: kind, Path: c.path, Dir: true})
}

// folderLeft handles a watched folder that was removed, renamed or unmounted.
func (w *Watcher) folderLeft(batch []Event, folder string) []Event {
	w.src.dropBelow(folder)
	for _, r := range w.waits[folder] {
		w.push(walk{path: r, root: r})
	}
	delete(w.waits, folder)
	w.rootsLeft(folder)
	return batch
}

// rootsLeft has the wanted folders looked at that were at or below a folder.
func (w *Watcher) rootsLeft(folder string) {
	below := func(path string) bool { return path == folder || strings.HasPrefix(path, folder+"/") }
	for path := range w.roots {
		if below(path) {
			w.push(walk{path: path, root: path})
		}
	}
	maps.DeleteFunc(w.guards, func(path string, _ bool) bool { return below(path) })
}

// guard watches the folders above a wanted one: when one of them is renamed,
// the wanted folder is not where it was, and nothing else would say so. That
// is no promise where watches run out, nor on a file system that may not answer.
func (s *sweeper) guard(path string) {
	w := s.w
	if w.src == nil {
		return
	}
	for up := filepath.Dir(path); up != filepath.Dir(up); up = filepath.Dir(up) {
		w.mu.Lock()
		guarded := w.guards[up]
		w.mu.Unlock()
		if guarded || s.remote(up) {
			continue
		}
		w.mu.Lock()
		if w.src.guard(up) == nil {
			w.guards[up] = true
		}
		w.mu.Unlock()
	}
}
