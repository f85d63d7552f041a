package watchfs

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"stilltide/internal/core/file"
)

// snapshot is what the last look at a folder saw, by name.
type snapshot map[string]file.Facts

// with adds what a walk told of in the meantime, whatever it was then.
func (s snapshot) with(walked map[string]bool) snapshot {
	if s == nil && len(walked) > 0 {
		s = snapshot{}
	}
	for name, dir := range walked {
		if _, known := s[name]; !known {
			s[name] = file.Facts{Dir: dir}
		}
	}
	return s
}

// remember keeps what a walk told of in a folder that is polled: when
// it goes before the next look, that look tells of it.
func (w *Watcher) remember(path string, told map[string]bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, polled := w.polled[path]; !polled {
		return
	}
	if w.walked[path] == nil {
		w.walked[path] = told
		return
	}
	maps.Copy(w.walked[path], told)
}

// pollFolders is the goroutine that looks at the folders without events. It
// sleeps without a timer while there are none.
func (w *Watcher) pollFolders() {
	for {
		w.mu.Lock()
		paths := slices.Collect(maps.Keys(w.polled))
		w.mu.Unlock()
		for _, p := range paths {
			if !w.lookBeside(p) {
				return
			}
		}
		var tick <-chan time.Time
		if len(paths) > 0 {
			tick = time.After(w.o.Look)
		}
		select {
		case <-w.stop:
			return
		case <-tick:
		case <-w.looks:
		}
	}
}

// lookBeside looks at a folder, and goes on beside that if it takes long. It is false when
// the watcher ends.
func (w *Watcher) lookBeside(path string) bool {
	w.mu.Lock()
	under := w.polls[path]
	w.polls[path] = true
	w.mu.Unlock()
	if under {
		return true // it has not answered yet
	}
	done := make(chan struct{})
	w.walking.Go(func() {
		defer close(done)
		w.lookAt(path)
		w.mu.Lock()
		delete(w.polls, path)
		w.mu.Unlock()
	})
	slow := time.NewTimer(beside)
	defer slow.Stop()
	select {
	case <-done:
	case <-slow.C:
		w.doubtAbove(path)
	case <-w.stop:
		return false
	}
	return true
}

// doubtAbove has the wanted folder looked at that a path lies in.
func (w *Watcher) doubtAbove(path string) {
	w.mu.Lock()
	root := w.rootOf(walk{path: path})
	w.mu.Unlock()
	w.Doubt(root)
}

// poll has a folder looked at now and then. The lock is held.
func (w *Watcher) poll(path string) {
	w.polled[path] = nil
	select {
	case w.looks <- struct{}{}:
	default:
	}
}

// lookAt compares a folder with what the last look saw.
func (w *Watcher) lookAt(path string) {
	w.mu.Lock()
	r := w.roots[path]
	before, polled := w.polled[path]
	walked := w.walked[path]
	delete(w.walked, path)
	if !polled || r == nil && !w.wanted(path) {
		delete(w.polled, path)
		w.mu.Unlock()
		return
	}
	w.mu.Unlock()
	before = before.with(walked)
	remote := Remote(path)
	entries, err := os.ReadDir(path)
	if err != nil {
		w.mu.Lock()
		defer w.mu.Unlock()
		switch {
		case r == nil:
			delete(w.polled, path) // a subfolder that went
		case r.present:
			w.polled[path] = nil
			w.push(walk{path: path, root: path})
		}
		return
	}
	after, batch := w.compare(path, before, entries)
	w.mu.Lock()
	if _, still := w.polled[path]; still {
		w.polled[path] = after
	}
	if r != nil && !r.present {
		w.push(walk{path: path, root: path})
	}
	batch = w.readAgain(batch, path, r, remote)
	w.retryWatch(path, remote)
	w.mu.Unlock()
	for part := range slices.Chunk(batch, batchSize) {
		w.sendFound(part)
	}
}

// compare tells what has changed in a folder since the last look, and returns what this one saw.
func (w *Watcher) compare(path string, before snapshot, entries []os.DirEntry) (after snapshot, batch []Event) {
	after = snapshot{}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue
		}
		f := Facts(info)
		after[e.Name()] = f
		old, known := before[e.Name()]
		if known && old.Same(f) {
			continue
		}
		name := filepath.Join(path, e.Name())
		batch = append(batch, Event{Kind: Found, Path: name, Dir: f.Dir})
		if f.Dir && !known {
			w.mu.Lock()
			if w.wanted(name) {
				w.push(walk{path: name})
			}
			w.mu.Unlock()
		}
	}
	for name := range before {
		if _, ok := after[name]; !ok {
			batch = append(batch, Event{Kind: Removed, Path: filepath.Join(path, name), Dir: before[name].Dir})
		}
	}
	return after, batch
}

// readAgain has a folder that could not be read looked through when it can be, and watched
// by events from then on. The lock is held.
func (w *Watcher) readAgain(batch []Event, path string, r *root, remote bool) []Event {
	if !w.unread[path] {
		return batch
	}
	delete(w.unread, path)
	if w.src.has(path) && !remote {
		delete(w.polled, path)
		batch = append(batch, Event{Kind: Recovered, Path: path, Dir: true})
	}
	k := walk{path: path}
	if r != nil {
		k.root = path
	}
	w.push(k)
	return batch
}

// retryWatch goes back to events when a watch is free again. The lock is held.
func (w *Watcher) retryWatch(path string, remote bool) {
	if remote || w.src.has(path) {
		return
	}
	if w.src.watch(path, w.writes(path)) == nil {
		// Watched now: a walk finds what came in between and ends the polling.
		w.push(walk{path: path})
	}
}
