package watchfs

import (
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"stilltide/internal/core/file"
)

// what is the meaning of a system event, whatever the system.
type what int

const (
	nameCreated what = iota
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
	o    Options
	out  chan []Event
	stop chan struct{}
	done sync.WaitGroup

	mu     sync.Mutex
	src    *source
	roots  map[string]*root
	waits  map[string][]string // by the folder that is watched for them: the roots that are absent
	guards map[string]bool     // folders above wanted ones, watched only for being renamed
	polled map[string]snapshot
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
	for level, p := 0, folder; ; level++ {
		if r := w.roots[p]; r != nil && level <= r.depth {
			return true
		}
		up := filepath.Dir(p)
		if up == p {
			return false
		}
		p = up
	}
}

func (w *Watcher) send(batch []Event) bool {
	if len(batch) == 0 {
		return true
	}
	select {
	case w.out <- batch:
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

var kindOf = [...]Kind{nameCreated: Created, writerClosed: Closed, nameMoved: Moved, nameRemoved: Removed}

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
	for path := range w.guards {
		if below(path) {
			delete(w.guards, path)
		}
	}
}

// guard watches the folders above a wanted one: when one of them is renamed,
// the wanted folder is not where it was, and nothing else would say so. That
// is no promise where watches run out. The lock is held.
func (w *Watcher) guard(path string) {
	if w.src == nil {
		return
	}
	for up := filepath.Dir(path); up != filepath.Dir(up); up = filepath.Dir(up) {
		if !w.guards[up] && w.src.guard(up) == nil {
			w.guards[up] = true
		}
	}
}

// sweeper is one pass over a folder and what lies below it.
type sweeper struct {
	w       *Watcher
	batch   []Event
	stopped bool
	trouble error // why a folder could not be read, the first if there are several
	// when the system was asked what it has not answered yet, in Unix nanoseconds; 0 if nothing
	asked atomic.Int64
}

// ask does something that the file system may not answer.
func (s *sweeper) ask(do func()) {
	s.asked.Store(time.Now().UnixNano())
	do()
	s.asked.Store(0)
}

func (s *sweeper) tell(e Event) {
	s.batch = append(s.batch, e)
	if len(s.batch) >= batchSize {
		s.flush()
	}
}

func (s *sweeper) flush() {
	if !s.stopped && !s.w.send(s.batch) {
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
	s.folder(path)
	if s.stopped {
		return
	}
	if s.ask(func() { _, err = os.Stat(path) }); err != nil {
		s.absent(path, err)
		return
	}
	s.w.mu.Lock()
	s.w.guard(path)
	s.w.mu.Unlock()
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

// absent tells that a wanted folder is missing and watches its nearest
// parent for it.
func (s *sweeper) absent(path string, err error) {
	w := s.w
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.roots[path]
	if r == nil {
		return
	}
	if !r.told || r.present {
		r.told, r.present = true, false
		if err != nil && !gone(err) {
			s.batch = append(s.batch, Event{Kind: Trouble, Path: path, Dir: true, Err: err})
		}
		s.batch = append(s.batch, Event{Kind: Absent, Path: path, Dir: true})
	}
	s.batch = append(s.batch, Event{Kind: Swept, Path: path, Dir: true})
	if w.src == nil {
		return
	}
	w.src.dropBelow(path)
	w.unwait(path)
	for {
		parent := nearestParent(path)
		w.waits[parent] = append(w.waits[parent], path)
		if err := w.src.wait(parent); err != nil {
			w.poll(path)
			return
		}
		// Made between the look and the watch?
		if nearestParent(path) == parent {
			if info, err := os.Stat(path); err == nil && info.IsDir() {
				w.push(walk{path: path, root: path})
			}
			return
		}
		w.unwait(path)
	}
}

// unwait ends the waiting for a root. The lock is held.
func (w *Watcher) unwait(path string) {
	for parent, waiting := range w.waits {
		rest := waiting[:0]
		for _, p := range waiting {
			if p != path {
				rest = append(rest, p)
			}
		}
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
	remote := false
	s.ask(func() { remote = Remote(path) }) // before anything is locked: it may not answer
	polled := s.w.attach(s, path, remote)
	var d *os.File
	var err error
	if s.ask(func() { d, err = os.Open(path) }); err != nil {
		s.troubled(path, err)
		return
	}
	var below []string
	told := map[string]bool{}
	err = eachEntry(d, s.ask, func(e fs.DirEntry) bool {
		name, dir := filepath.Join(path, e.Name()), e.IsDir()
		if !dir && e.Type()&fs.ModeType != 0 {
			return !s.stopped
		}
		s.tell(Event{Kind: Found, Path: name, Dir: dir})
		if dir {
			below = append(below, name)
		}
		if polled {
			told[e.Name()] = dir
		}
		return !s.stopped
	})
	d.Close()
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

// attach makes the system tell of a folder, or has it looked at now and then: then it
// gives true.
func (w *Watcher) attach(s *sweeper, path string, remote bool) bool {
	if w.src == nil {
		return false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	_, polled := w.polled[path]
	if !w.src.has(path) || polled {
		err := w.src.watch(path)
		switch {
		case err == nil && polled && !remote:
			delete(w.polled, path)
			delete(w.walked, path)
			s.batch = append(s.batch, Event{Kind: Recovered, Path: path, Dir: true})
		case errors.Is(err, errNoWatches) && !polled:
			w.poll(path)
			s.batch = append(s.batch, Event{Kind: Polled, Path: path, Dir: true, Err: err})
		}
	} else if w.waits[path] != nil || w.guards[path] {
		_ = w.src.watch(path) // it was only watched for new names, or for its own, so far
	}
	_, polled = w.polled[path]
	if !polled && remote {
		w.poll(path)
		s.batch = append(s.batch, Event{Kind: Polled, Path: path, Dir: true, Err: ErrRemote})
		return true
	}
	return polled
}

// ErrRemote is why a folder is polled that is watched as well as it can be.
var ErrRemote = errors.New("its file system is on another machine and sends no events")

// EachEntry returns the entries of a folder in the order in which a sweep takes them: by
// name, or by name within each of the batches in which a large folder is read.
func EachEntry(folder string, f func(fs.DirEntry)) error {
	d, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer d.Close()
	return eachEntry(d, func(read func()) { read() }, func(e fs.DirEntry) bool { f(e); return true })
}

// eachEntry reads a folder; ask is what each read is done by.
func eachEntry(d *os.File, ask func(read func()), f func(fs.DirEntry) bool) error {
	for {
		var entries []fs.DirEntry
		var err error
		ask(func() { entries, err = d.ReadDir(batchSize) })
		slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
		for _, e := range entries {
			if !f(e) {
				return nil
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
