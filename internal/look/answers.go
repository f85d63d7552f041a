package look

import (
	"cmp"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"stilltide/internal/core/plan"
	"stilltide/internal/watchfs"
)

// Patience is how long somebody who must not wait waits for a file system that may not
// answer.
const Patience = 8 * time.Millisecond

// longest bounds the patience with a file system that has been slow.
const longest = 5 * time.Second

// Answers asks file systems that may not answer: those of other machines and of other
// programs. What it asks them is done in goroutines of its own, and who must not wait does
// not wait for it. What lies on other file systems is done at once. Use NewAnswers; a nil
// one knows of none.
//
// A goroutine ends when its call comes back. One whose call never does stays until the
// program ends; nothing more is asked of that file system meanwhile.
type Answers struct {
	table func() []string
	read  time.Time // when it was; of whoever refreshes

	mu     sync.Mutex
	mounts []*mount
	known  map[string]bool   // folders of which was found out where they really are
	linked map[string]string // of those that links lead elsewhere: where they are
}

// mount is one file system that may not answer.
type mount struct {
	point  string
	calls  map[*call]bool // under way
	queue  []later        // to be done one after the other
	queued bool           // that is under way
	took   time.Duration  // how long the last call took that came back
	linked bool           // it is a folder from which links lead to one
}

// call is something that was asked.
type call struct {
	since   time.Time
	overdue bool // somebody has stopped waiting for it
}

// later is something that is done when its turn comes. It says each time when the file system has answered a part.
type later func(answered func())

// NewAnswers reads the mount table.
func NewAnswers() *Answers {
	a := &Answers{table: watchfs.UnsureMounts, known: map[string]bool{}, linked: map[string]string{}}
	a.Refresh(0)
	return a
}

// Refresh reads the mount table again, unless it was read a moment ago.
func (a *Answers) Refresh(moment time.Duration) {
	if a == nil || time.Since(a.read) < moment {
		return
	}
	a.read = time.Now()
	points := a.table()
	a.mu.Lock()
	defer a.mu.Unlock()
	known := map[string]*mount{}
	for _, m := range a.mounts {
		if !m.linked {
			known[m.point] = m
		}
	}
	a.mounts = slices.DeleteFunc(a.mounts, func(m *mount) bool { return !m.linked })
	for _, point := range points {
		m := known[point]
		if m == nil {
			m = &mount{point: point, calls: map[*call]bool{}}
		}
		known[point] = nil
		if m != nil {
			a.mounts = append(a.mounts, m)
		}
	}
}

// of finds the file system that a path lies on, if it may not answer.
func (a *Answers) of(path string) (found *mount) {
	if a == nil {
		return nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if len(a.mounts) == 0 {
		return nil
	}
	for folder := path; len(a.linked) > 0 && folder != filepath.Dir(folder); folder = filepath.Dir(folder) {
		if real, is := a.linked[folder]; is {
			path = real + path[len(folder):]
			break
		}
	}
	for _, m := range a.mounts {
		if _, below := plan.Below(path, m.point); below && (found == nil || len(m.point) > len(found.point)) {
			found = m
		}
	}
	return found
}

// Any reports whether there is a file system that may not answer.
func (a *Answers) Any() bool {
	if a == nil {
		return false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.mounts) > 0
}

// Know notes where a folder really is, if links lead from it to a file system that may not
// answer, and returns that; the folder itself if that is not answered in two seconds.
func (a *Answers) Know(folder string) (real string) {
	if !a.Any() {
		return RealPath(folder)
	}
	a.mu.Lock()
	real, known := a.linked[folder], a.known[folder]
	a.mu.Unlock()
	if known || a.of(folder) != nil {
		return cmp.Or(real, folder)
	}
	found := make(chan string, 1)
	m := &mount{point: folder, calls: map[*call]bool{}, linked: true}
	c := m.begin()
	go func() { // ends when it is answered
		found <- RealPath(folder)
		a.over(m, c)
	}()
	timer := time.NewTimer(2 * time.Second)
	defer timer.Stop()
	select {
	case real = <-found:
		a.mu.Lock()
		if a.known[folder] = true; real != folder {
			a.linked[folder] = real
		}
		a.mu.Unlock()
		return real
	case <-timer.C:
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if m.calls[c] {
		c.overdue = true
		a.mounts = append(a.mounts, m) // wherever the links lead: it does not answer
	}
	return folder
}

// Unsure reports whether a path lies on a file system that may not answer, and on which.
func (a *Answers) Unsure(path string) (point string, is bool) {
	if m := a.of(path); m != nil {
		return m.point, true
	}
	return "", false
}

// Since returns the file systems that have not answered a call yet, and since when.
func (a *Answers) Since() map[string]time.Time {
	if !a.Any() {
		return nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	var since map[string]time.Time
	for _, m := range a.mounts {
		for c := range m.calls {
			if since == nil {
				since = map[string]time.Time{}
			}
			if at, known := since[m.point]; !known || c.since.Before(at) {
				since[m.point] = c.since
			}
		}
	}
	return since
}

// Ask does something with a path, and waits for it for a while at most: not at all while
// an earlier call has not come back for that long, so that a file system which does not answer
// is waited for once, and one that is slow for the hasty answers the patient all the same. After
// a NoAnswer it may still be done later, so what it writes to must be its own.
func (a *Answers) Ask(path string, wait time.Duration, do func()) error {
	m := a.of(path)
	if m == nil {
		do()
		return nil
	}
	a.mu.Lock()
	if wait > Patience { // whoever can wait lets a slow share have its time
		wait = max(wait, min(2*m.took, longest))
	}
	if m.late() >= wait {
		a.mu.Unlock()
		return plan.NoAnswer{Point: m.point}
	}
	c := m.begin()
	a.mu.Unlock()
	done := make(chan struct{})
	go func() {
		do()
		a.over(m, c)
		close(done)
	}()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-done:
		return nil
	case <-timer.C:
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if !m.calls[c] {
		return nil // it came back in this instant
	}
	c.overdue = true
	return plan.NoAnswer{Point: m.point}
}

// late is for how long a call has not come back for which somebody has stopped waiting, the longest if there are
// several. The lock is held.
func (m *mount) late() (long time.Duration) {
	for c := range m.calls {
		if c.overdue {
			long = max(long, time.Since(c.since))
		}
	}
	return long
}

// begin notes that a call is under way. The lock is held.
func (m *mount) begin() *call {
	c := &call{since: time.Now()}
	m.calls[c] = true
	return c
}

// over notes that a call came back.
func (a *Answers) over(m *mount, c *call) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(m.calls, c)
	m.took = time.Since(c.since)
}

// Later does something with a path of a file system that may not answer, when all that
// was to be done later before it has been done. What asks more than once calls answered each
// time when it has an answer: a slow file system is not one that does not answer.
func (a *Answers) Later(path string, do func(answered func())) {
	m := a.of(path)
	if m == nil { // it was unmounted in this instant
		go do(func() {})
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	m.queue = append(m.queue, do)
	if !m.queued {
		m.queued = true
		go a.work(m)
	}
}

// abreast is how many questions a file system is asked at once.
const abreast = 8

// LaterEach is Later for n things, several of which are done at once: where each takes long, most of that is the way
// there and back. then is called when all are done.
func (a *Answers) LaterEach(path string, n int, do func(i int), then func()) {
	a.Later(path, func(answered func()) {
		var all errgroup.Group
		all.SetLimit(abreast)
		for i := range n {
			all.Go(func() error {
				do(i)
				answered()
				return nil
			})
		}
		_ = all.Wait() // each keeps its error
		then()
	})
}

// work does what is queued, one after the other.
func (a *Answers) work(m *mount) {
	for {
		a.mu.Lock()
		if len(m.queue) == 0 {
			m.queued = false
			a.mu.Unlock()
			return
		}
		do := m.queue[0]
		m.queue = m.queue[1:]
		c := m.begin()
		a.mu.Unlock()
		do(func() { a.answered(c) })
		a.over(m, c)
	}
}

// answered notes that a call has brought a part of what it asks for.
func (a *Answers) answered(c *call) {
	a.mu.Lock()
	defer a.mu.Unlock()
	c.since = time.Now()
}
