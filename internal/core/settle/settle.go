// Package settle decides when a file is complete.
//
// The classic bug of a watcher is to work on half a file, and the classic
// annoyance is to wait for no reason. The Machine does neither. It is told about
// events, asks for a look at a path when a look can decide something, and
// answers each look with a decision. It never touches the disk and has no
// clock: the caller supplies looks and times.
//
// Quiet time counts from the last change that the system recorded (ctime), not
// from the event: a file whose writer held it open for an hour and closes it
// now is ready now. A read lease (fcntl(2), F_SETLEASE) tells whether a program
// still writes: it is refused while the file is open for writing. Where the
// system cannot tell, size, time and inode must not change between two looks,
// for the longer of the debounce time and HoldStill.
package settle

import (
	"container/heap"
	"time"

	"stilltide/internal/core/file"
)

// HoldStill is how long a file must not change where writers are unknown.
const HoldStill = 5 * time.Second

// Grace is the time that a new name gets to be written and closed before the
// first look: the close comes as an event of its own.
const Grace = 10 * time.Millisecond

// Overdue says what happens with a file that is not ready after Policy.MaxWait.
type Overdue string

const (
	OverdueWait Overdue = "wait"
	OverdueFail Overdue = "fail"
	OverdueTake Overdue = "take"
)

// Policy is how one rule wants its files settled.
type Policy struct {
	Rule     string // whose policy it is
	Debounce time.Duration
	Ignore   bool          // take a file though somebody has it open for writing
	Marker   bool          // a companion file must be there
	MinSize  int64         // bytes
	MaxWait  time.Duration // bound from the last growth, 0 for none
	Overdue  Overdue
}

// Kind is what happened to a path.
type Kind int

const (
	Created Kind = iota // a new name, probably still being written
	Closed              // a writer closed it
	Moved               // renamed to this name, complete as it is
	Found               // seen by a sweep
	Nudged              // something it waits for has changed (a marker, a rule)
	Written             // a writer wrote to it, and keeps it open
)

// Verdict is what the Machine makes of a look.
type Verdict int

const (
	Wait Verdict = iota // asked again later
	Ready
	Gone // the path is no longer there; it is forgotten
	Late // MaxWait is over: to be reported once, and waited for further
	Give // MaxWait is over and the policy says fail; nobody is known to write
)

// Decision is a verdict with its reason in words.
type Decision struct {
	Verdict Verdict
	Why     string
	Since   time.Time // Ready and Give: when the first event came
	Quiet   bool      // Wait: for nothing but that no change comes any more
}

// waiting is one path that is not settled yet.
type waiting struct {
	path     string
	policy   Policy
	since    time.Time // first event
	last     file.Facts
	looked   bool
	still    time.Time // when the last difference between two looks was seen
	grown    time.Time // when it last grew
	backoff  time.Duration
	reported bool
	why      string
	due      time.Time
	number   int // in the order of the first events
	slot     int // place in the heap, -1 while a look is under way
}

// Machine holds all paths that are not settled yet. The zero value is ready to use.
type Machine struct {
	files map[string]*waiting
	heap  dueHeap
	rules map[string]int // how many paths wait under each rule's policy
	next  int            // number of the next path
	spare []*waiting     // of paths that are forgotten, for those that come
}

// maxSpare bounds what is kept for paths to come.
const maxSpare = 1024

// Event tells the machine that something happened to a path. A later event
// for the same path keeps its history; the policy is replaced.
func (m *Machine) Event(path string, kind Kind, p Policy, at time.Time) {
	w := m.files[path]
	if w == nil {
		if m.files == nil {
			m.files, m.rules = map[string]*waiting{}, map[string]int{}
		}
		w = m.fresh()
		*w = waiting{path: path, since: at, still: at, grown: at, slot: -1, number: m.next, why: "just seen"}
		m.next++
		m.files[path] = w
	} else {
		m.leaveRule(w)
	}
	m.rules[p.Rule]++
	w.policy, w.backoff = p, 0
	if kind == Closed {
		w.backoff = closing
	}
	due := at
	if kind == Created || kind == Written {
		due = at.Add(max(p.Debounce, Grace))
	}
	if w.slot < 0 || due.Before(w.due) || kind == Created {
		m.schedule(w, due)
	}
}

// Forget drops a path.
func (m *Machine) Forget(path string) {
	if w := m.files[path]; w != nil {
		if w.slot >= 0 {
			heap.Remove(&m.heap, w.slot)
		}
		delete(m.files, path)
		m.leaveRule(w)
		if *w = (waiting{}); len(m.spare) < maxSpare {
			m.spare = append(m.spare, w)
		}
	}
}

func (m *Machine) leaveRule(w *waiting) {
	rule := w.policy.Rule
	if m.rules[rule]--; m.rules[rule] == 0 {
		delete(m.rules, rule)
	}
}

// Waits reports whether any path waits under a rule's policy.
func (m *Machine) Waits(rule string) bool { return m.rules[rule] > 0 }

func (m *Machine) fresh() *waiting {
	if n := len(m.spare); n > 0 {
		w := m.spare[n-1]
		m.spare = m.spare[:n-1]
		return w
	}
	return &waiting{}
}

// Len is the number of paths that wait.
func (m *Machine) Len() int { return len(m.files) }

// Has reports whether a path waits.
func (m *Machine) Has(path string) bool { return m.files[path] != nil }

// Rule names the rule under whose policy a path waits, "" if it does not wait.
func (m *Machine) Rule(path string) string {
	if w := m.files[path]; w != nil {
		return w.policy.Rule
	}
	return ""
}

// Nudge has a path that waits looked at again, because something that it waits for
// has changed.
func (m *Machine) Nudge(path string, at time.Time) {
	if w := m.files[path]; w != nil {
		m.Event(path, Nudged, w.policy, at)
	}
}

// Waiting describes one path that waits: since when, and what for.
type Waiting struct {
	Path    string
	Rule    string // under whose policy
	Since   time.Time
	Why     string
	Writers file.Writers
	Stuck   bool // only somebody else can end the wait: a writer, a marker
}

// All lists what waits, in no order.
func (m *Machine) All() []Waiting {
	all := make([]Waiting, 0, len(m.files))
	for _, w := range m.files {
		all = append(all, Waiting{Path: w.path, Rule: w.policy.Rule, Since: w.since, Why: w.why,
			Writers: w.last.Writers, Stuck: w.backoff > 0})
	}
	return all
}

// Busy reports whether any path becomes ready by time alone.
func (m *Machine) Busy() bool {
	for _, w := range m.files {
		if w.backoff == 0 {
			return true
		}
	}
	return false
}

// EndWaits is for a sweep that has nothing else to do: paths that have not changed for longer than MaxWait have
// waited for so long, though the sweep has only just seen them. It reports whether there are any.
func (m *Machine) EndWaits(now time.Time) (are bool) {
	for _, w := range m.files {
		changed := w.last.Change.Time()
		if w.policy.MaxWait == 0 || w.reported || w.last.Change == 0 || now.Before(changed.Add(w.policy.MaxWait)) {
			continue
		}
		w.grown, are = changed, true
		m.Nudge(w.path, now)
	}
	return are
}

// Next is the time of the next look; ok is false if none is due.
func (m *Machine) Next() (at time.Time, ok bool) {
	if len(m.heap) == 0 {
		return time.Time{}, false
	}
	return m.heap[0].due, true
}

// Asks takes the paths that must be looked at by now. Each must be answered.
func (m *Machine) Asks(now time.Time) []string {
	var paths []string
	for len(m.heap) > 0 && !m.heap[0].due.After(now) {
		w := heap.Pop(&m.heap).(*waiting)
		paths = append(paths, w.path)
	}
	return paths
}

// Answer decides on a look that was taken at the time now. After Ready, Gone
// and Give the path is forgotten; otherwise it is asked for again.
func (m *Machine) Answer(path string, f file.Facts, now time.Time) Decision {
	w := m.files[path]
	if w == nil {
		return Decision{Verdict: Gone, Why: "it is not waited for"}
	}
	if !f.Exists {
		m.Forget(path)
		return Decision{Verdict: Gone, Why: "it is no longer there"}
	}
	w.note(f, now)
	due, why := w.judge(f, now)
	if why == "" {
		since := w.since
		m.Forget(path)
		return Decision{Verdict: Ready, Since: since}
	}
	w.why = why
	if w.policy.MaxWait > 0 && !w.reported {
		end := w.grown.Add(w.policy.MaxWait)
		if !now.Before(end) {
			return m.overdue(w, f, now, due)
		}
		due = earlier(due, end)
	}
	m.schedule(w, due)
	return Decision{Verdict: Wait, Why: why, Quiet: why == whyStill || why == whyChanged}
}

// InSweep decides on a file as a sweep does that finds it, and has nothing else to do.
func InSweep(p Policy, path string, f file.Facts, now time.Time) Decision {
	var m Machine
	m.Event(path, Found, p, now)
	m.Asks(now)
	d := m.Answer(path, f, now)
	if d.Verdict == Wait && m.EndWaits(now) {
		m.Asks(now)
		d = m.Answer(path, f, now)
	}
	return d
}

// overdue acts once when MaxWait is over.
func (m *Machine) overdue(w *waiting, f file.Facts, now, due time.Time) Decision {
	why, since := w.why+", for longer than max_wait allows", w.since
	switch {
	case w.policy.Overdue == OverdueTake:
		m.Forget(w.path)
		return Decision{Verdict: Ready, Why: why, Since: since}
	case w.policy.Overdue == OverdueFail && f.Writers != file.Some:
		m.Forget(w.path)
		return Decision{Verdict: Give, Why: why, Since: since}
	}
	w.reported = true
	m.schedule(w, due)
	return Decision{Verdict: Late, Why: why}
}

// note remembers what a look saw.
func (w *waiting) note(f file.Facts, now time.Time) {
	if w.looked {
		if f.Size > w.last.Size {
			w.grown, w.reported = now, false
		}
		if !f.Same(w.last) {
			w.still = now
		}
	}
	w.last, w.looked = f, true
}

// Waits that end by themselves.
const (
	whyStill   = "the system cannot tell who writes here, so it must hold still"
	whyChanged = "it changed a moment ago"
)

// judge returns the time of the next look and why the file is not ready, or ""
// if it is ready.
func (w *waiting) judge(f file.Facts, now time.Time) (next time.Time, why string) {
	p := w.policy
	switch {
	case f.Writers == file.Some && !p.Ignore:
		return w.later(now), "a program still has it open for writing"
	case f.Part:
		return w.later(now), "it is empty, and its part-file is still beside it"
	case p.Marker && !f.Marker:
		return w.later(now), "its marker file is not there yet"
	case f.Size < p.MinSize:
		return w.later(now), "it is smaller than min_size"
	}
	if f.Writers == file.Unknown && !p.Ignore {
		if end := w.still.Add(max(p.Debounce, HoldStill)); now.Before(end) {
			return end, whyStill
		}
		return now, ""
	}
	if end := quietFrom(f, w.still, now).Add(p.Debounce); now.Before(end) {
		return end, whyChanged
	}
	return now, ""
}

// quietFrom is the time of the last change. A time in the future, from a
// clock that was set back, is replaced by what was seen.
func quietFrom(f file.Facts, seen, now time.Time) time.Time {
	if change := f.Change.Time(); !change.After(now) {
		return change
	}
	return seen
}

// closing begins the looks after a close: the system tells of it an instant
// before it counts the writer out, so a lease may still be refused.
const closing = 250 * time.Microsecond

// later spaces the looks at a file whose state no event may announce.
func (w *waiting) later(now time.Time) time.Time {
	if w.backoff == 0 {
		w.backoff = time.Second / 4
	}
	w.backoff = min(4*w.backoff, 30*time.Second)
	return now.Add(w.backoff)
}

func (m *Machine) schedule(w *waiting, due time.Time) {
	w.due = due
	if w.slot < 0 {
		heap.Push(&m.heap, w)
		return
	}
	heap.Fix(&m.heap, w.slot)
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// dueHeap orders the waiting paths by the time of their next look.
type dueHeap []*waiting

func (h dueHeap) Len() int { return len(h) }
func (h dueHeap) Less(i, j int) bool {
	if !h[i].due.Equal(h[j].due) {
		return h[i].due.Before(h[j].due)
	}
	return h[i].number < h[j].number // what came at the same time stays in its order
}
func (h dueHeap) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].slot, h[j].slot = i, j
}
func (h *dueHeap) Push(x any) {
	w := x.(*waiting)
	w.slot = len(*h)
	*h = append(*h, w)
}
func (h *dueHeap) Pop() any {
	old := *h
	w := old[len(old)-1]
	*h = old[:len(old)-1]
	w.slot = -1
	return w
}
