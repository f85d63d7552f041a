// Package rerun decides when the command of a quick run starts, and when the
// running one is stopped.
//
// Changes are collected until they have been quiet for a while; then one run is
// due for all of them, or one for each. While a run is in progress nothing else
// starts: changes in the meantime cause one more run afterwards or, if the old
// run is to be stopped, end it first.
package rerun

import (
	"slices"
	"time"
)

// Machine is one quick run's state. Set its options before the first call.
type Machine struct {
	Quiet   time.Duration // since the last change, before a run is due
	Each    bool          // a run for each file, one after the other
	StopOld bool          // a change stops the run that is under way

	changed  []string // in the order of their first change
	last     time.Time
	due      bool // a run is due whatever has changed: at the start
	running  bool
	stopping bool
	current  []string
}

// Begin asks for a run that no change is needed for.
func (m *Machine) Begin(files []string) {
	if m.Each {
		m.changed = append(m.changed, files...)
		return
	}
	m.due = true
}

// Changed notes that a file has changed and is complete.
func (m *Machine) Changed(path string, now time.Time) {
	m.last = now
	if !slices.Contains(m.changed, path) {
		m.changed = append(m.changed, path)
	}
}

// Gone notes that a file is no longer there: with a run for each, there is
// nothing left to run for.
func (m *Machine) Gone(path string, now time.Time) {
	if m.Each {
		m.changed = slices.DeleteFunc(m.changed, func(p string) bool { return p == path })
		return
	}
	m.Changed(path, now)
}

// Next says what is to be done now: start a run for these files (perhaps none,
// at the start), or stop the one that is under way. busy tells that files are
// still being written, so that a burst is not over.
func (m *Machine) Next(now time.Time, busy bool) (start bool, files []string, stop bool) {
	ready := m.due || len(m.changed) > 0 && !busy && now.Sub(m.last) >= m.Quiet
	if !ready {
		return false, nil, false
	}
	if m.running {
		stop = m.StopOld && !m.stopping && m.concerns()
		m.stopping = m.stopping || stop
		return false, nil, stop
	}
	files, m.changed = m.changed, nil
	if m.Each {
		files, m.changed = files[:1:1], files[1:]
	}
	m.due, m.running, m.stopping, m.current = false, true, false, files
	return true, files, false
}

// concerns reports whether the run that is under way is for what has changed.
func (m *Machine) concerns() bool {
	return !m.Each || slices.ContainsFunc(m.changed, func(p string) bool { return slices.Contains(m.current, p) })
}

// Ended notes that the run is over.
func (m *Machine) Ended() { m.running, m.stopping, m.current = false, false, nil }

// Running reports whether a run is under way.
func (m *Machine) Running() bool { return m.running }

// Wake is when Next has something to say by itself.
func (m *Machine) Wake() (at time.Time, ok bool) {
	if len(m.changed) == 0 || m.running && (!m.StopOld || m.stopping) {
		return time.Time{}, false
	}
	return m.last.Add(m.Quiet), true
}
