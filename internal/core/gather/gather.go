// Package gather joins settled files into batches and groups, so that one job
// handles many files.
//
// A batch ends when no further file has settled for a while, when it is large
// enough, or when it has lasted long enough. A group is complete as soon as a
// member matches each pattern it needs; it is overdue when that does not happen
// in time. A member that changes leaves, and returns once it has settled again.
// The Machine has no clock and touches no file.
package gather

import (
	"slices"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/file"
)

// DefaultMaxWait bounds a batch that never falls quiet.
const DefaultMaxWait = time.Minute

// Spec is how one rule gathers.
type Spec struct {
	Quiet    time.Duration // batch: no further member for so long
	MaxFiles int           // batch: ends at so many members; 0 for no bound
	MaxWait  time.Duration // batch: ends after so long; group: late after so long, 0 for never
	Need     []Need        // group: what must be met; none for a batch
}

// Need is one pattern that a group needs.
type Need struct {
	Text string
	Fits func(path string) bool
}

// Key names a group: the rule, the watched folder and the value of `by`.
type Key struct{ Rule, Watch, By string }

// Member is a settled file.
type Member struct {
	Path  string
	Facts file.Facts
	Chain []string // rules that it went through before
}

// Group is a batch or group under way, or one that has ended.
type Group struct {
	Key     Key
	Members []Member // in the order in which they settled
	Missing []string // needs that no member meets, if the set was late
	spec    Spec
	first   time.Time
	last    time.Time
	lacks   []string // needs that no member meets
}

// Machine holds the groups under way. The zero value is ready to use.
type Machine struct {
	groups map[Key]*Group
	member map[string]Key
	ends   due.Queue[Key] // when groups end if no other file comes
}

// Join adds a settled file to its group.
func (m *Machine) Join(k Key, s Spec, member Member, now time.Time) {
	if m.groups == nil {
		m.groups, m.member = map[Key]*Group{}, map[string]Key{}
	}
	m.Leave(member.Path)
	g := m.groups[k]
	if g == nil {
		g = &Group{Key: k, first: now}
		m.groups[k] = g
	}
	g.spec, g.last = s, now
	g.Members = append(g.Members, member)
	m.member[member.Path] = k
	m.changed(g)
}

// changed finds out anew when a group ends.
func (m *Machine) changed(g *Group) {
	g.lacks = g.missing()
	if end, has := g.end(); has {
		m.ends.Set(g.Key, end)
	} else {
		m.ends.Remove(g.Key)
	}
}

// Leave takes a file out of its group; false if it is in none.
func (m *Machine) Leave(path string) bool {
	k, ok := m.member[path]
	if !ok {
		return false
	}
	delete(m.member, path)
	g := m.groups[k]
	g.Members = slices.DeleteFunc(g.Members, func(one Member) bool { return one.Path == path })
	if len(g.Members) == 0 {
		delete(m.groups, k)
		m.ends.Remove(k)
	} else {
		m.changed(g)
	}
	return true
}

// Len is the number of files in groups.
func (m *Machine) Len() int { return len(m.member) }

// Each calls f for each file in a group, with its key and since when the group waits.
func (m *Machine) Each(f func(path string, k Key, since time.Time, missing []string)) {
	for _, g := range m.groups {
		for _, one := range g.Members {
			f(one.Path, g.Key, g.first, g.lacks)
		}
	}
}

// Next is the earliest time at which a group may end; ok is false if only
// another file can change anything.
func (m *Machine) Next() (at time.Time, ok bool) { return m.ends.Next() }

// Busy reports whether any group ends by itself as a success: a batch, or a group
// that is complete.
func (m *Machine) Busy() bool {
	for _, g := range m.groups {
		if len(g.lacks) == 0 {
			return true
		}
	}
	return false
}

// EndWaits is for a sweep that has nothing else to do: groups of which no member has changed for longer
// than MaxWait are late, though the sweep has only just seen them. It reports whether there are any.
func (m *Machine) EndWaits(now time.Time) (are bool) {
	for k, g := range m.groups {
		if len(g.lacks) == 0 || g.spec.MaxWait == 0 || now.Before(g.lastChange().Add(g.spec.MaxWait)) {
			continue
		}
		m.ends.Set(k, now)
		are = true
	}
	return are
}

// lastChange is when a member changed last.
func (g *Group) lastChange() time.Time {
	newest := file.Time(0)
	for _, one := range g.Members {
		newest = max(newest, one.Facts.Change)
	}
	return newest.Time()
}

// Due takes the groups that have ended by now, the longest waiting first.
func (m *Machine) Due(now time.Time) []Group {
	var ended []Group
	for k, ok := m.ends.Pop(now); ok; k, ok = m.ends.Pop(now) {
		g := m.groups[k]
		g.Missing = g.lacks
		rest := g.split()
		ended = append(ended, *g)
		delete(m.groups, k)
		for _, one := range g.Members {
			delete(m.member, one.Path)
		}
		if rest != nil {
			m.groups[k] = rest
			m.changed(rest)
		}
	}
	slices.SortStableFunc(ended, func(a, b Group) int {
		if c := a.first.Compare(b.first); c != 0 {
			return c
		}
		return compare(a.Key, b.Key)
	})
	return ended
}

// split bounds a group that has ended: of files that settled at the same moment there may be more than
// it may have, and those begin another.
func (g *Group) split() (rest *Group) {
	if g.spec.MaxFiles == 0 || len(g.Members) <= g.spec.MaxFiles {
		return nil
	}
	most := g.spec.MaxFiles
	rest = &Group{Key: g.Key, Members: g.Members[most:], spec: g.spec, first: g.last, last: g.last}
	g.Members = g.Members[:most:most]
	return rest
}

func compare(a, b Key) int {
	for _, pair := range [][2]string{{a.Rule, b.Rule}, {a.Watch, b.Watch}, {a.By, b.By}} {
		if pair[0] != pair[1] {
			if pair[0] < pair[1] {
				return -1
			}
			return 1
		}
	}
	return 0
}

// end is the time at which the group ends if no other file comes.
func (g *Group) end() (at time.Time, ok bool) {
	if len(g.spec.Need) > 0 {
		if len(g.lacks) == 0 {
			return g.last, true
		}
		return g.first.Add(g.spec.MaxWait), g.spec.MaxWait > 0
	}
	if g.spec.MaxFiles > 0 && len(g.Members) >= g.spec.MaxFiles {
		return g.last, true
	}
	quiet, bound := g.last.Add(g.spec.Quiet), g.first.Add(max(g.spec.MaxWait, 0))
	if g.spec.MaxWait <= 0 {
		bound = g.first.Add(DefaultMaxWait)
	}
	if bound.Before(quiet) {
		return bound, true
	}
	return quiet, true
}

// missing lists the needs that no member meets.
func (g *Group) missing() []string {
	var missing []string
	for _, n := range g.spec.Need {
		if !slices.ContainsFunc(g.Members, func(one Member) bool { return n.Fits(one.Path) }) {
			missing = append(missing, n.Text)
		}
	}
	return missing
}
