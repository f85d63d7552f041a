package watchfs

import (
	"errors"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// ErrSilent is why a folder counts as absent that is there: what it is asked is not answered.
var ErrSilent = errors.New("it does not answer")

const (
	beside     = 50 * time.Millisecond // a walk that takes longer goes on beside the next
	silence    = 2 * time.Second       // without an answer, until the folder counts as absent
	longSilent = 10 * time.Second      // until that is said
)

// walkFolders is the goroutine that has folders watched and swept until Close, one after
// the other. A walk that takes long goes on beside the others: a large folder, or one that
// does not answer, holds up no other.
func (w *Watcher) walkFolders() {
	for {
		k, root, some := w.nextWalk()
		if !some {
			select {
			case <-w.kick:
				continue
			case <-w.stop:
				return
			}
		}
		s, done := &sweeper{w: w}, make(chan struct{})
		w.walking.Go(func() {
			defer close(done)
			s.walk(k)
			w.walkOver(root)
		})
		slow := time.NewTimer(beside)
		select {
		case <-done:
		case <-slow.C:
			w.done.Go(func() { w.mind(s, root, done) })
		case <-w.stop:
		}
		slow.Stop()
	}
}

// nextWalk takes the first walk in a wanted folder in which none is under way.
func (w *Watcher) nextWalk() (k walk, root string, some bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, k := range w.walks {
		root := w.rootOf(k)
		if w.busy[root] {
			continue
		}
		copy(w.walks[1:i+1], w.walks[:i])
		w.walks = w.walks[1:]
		delete(w.queued, k)
		w.busy[root] = true
		return k, root, true
	}
	return walk{}, "", false
}

// rootOf is the wanted folder that a walk is in. The lock is held.
func (w *Watcher) rootOf(k walk) string {
	if k.root != "" {
		return k.root
	}
	for p := k.path; ; p = filepath.Dir(p) {
		if w.roots[p] != nil || p == filepath.Dir(p) {
			return p
		}
	}
}

func (s *sweeper) walk(k walk) {
	switch {
	case k.ping:
		s.ask(func() { _, _ = os.Stat(k.root) })
	case k.root != "":
		s.root(k.root)
	default:
		s.folder(k.path)
		s.tellSifted(0)
	}
	s.flush()
}

// walkOver notes that a walk has ended. A folder that answers again is swept anew.
func (w *Watcher) walkOver(root string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.busy, root)
	if r := w.roots[root]; r != nil && r.silent {
		r.silent = false
		w.push(walk{path: root, root: root})
	}
	select {
	case w.kick <- struct{}{}:
	default:
	}
}

// mind tells of a folder whose walk is not answered, until the walk is over.
func (w *Watcher) mind(s *sweeper, root string, done <-chan struct{}) {
	tick := time.NewTicker(silence / 4)
	defer tick.Stop()
	said := false
	for {
		select {
		case <-done:
			return
		case <-w.stop:
			return
		case now := <-tick.C:
			asked := s.asked.Load()
			if asked == 0 {
				continue
			}
			waited := now.Sub(time.Unix(0, asked))
			if waited >= silence {
				w.sendFound(w.silent(root))
			}
			if waited >= longSilent && !said {
				said = true
				w.sendFound([]Event{{Kind: Trouble, Path: root, Dir: true, Err: ErrSilent}})
			}
		}
	}
}

// silent has a folder count as absent.
func (w *Watcher) silent(root string) []Event {
	w.mu.Lock()
	defer w.mu.Unlock()
	r := w.roots[root]
	if r == nil || r.silent {
		return nil
	}
	r.silent, r.told, r.present = true, true, false
	return []Event{{Kind: Absent, Path: root, Dir: true, Err: ErrSilent}, {Kind: Swept, Path: root, Dir: true,
		Err: ErrSilent}}
}

// Doubt asks whether a wanted folder answers, because something there was not answered.
func (w *Watcher) Doubt(root string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if r := w.roots[root]; r != nil && !w.busy[root] {
		w.push(walk{path: root, root: root, ping: true})
	}
}

// waitForWalks waits for walks that are under way, but not for those that are not answered:
// they end with the program.
func (w *Watcher) waitForWalks() {
	waitFor(&w.walking, time.Second)
}

// waitFor waits until a group is done, or for a time.
func waitFor(group *sync.WaitGroup, long time.Duration) {
	done := make(chan struct{})
	go func() {
		group.Wait()
		close(done)
	}()
	timer := time.NewTimer(long)
	defer timer.Stop()
	select {
	case <-done:
	case <-timer.C:
	}
}
