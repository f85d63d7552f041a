package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
)

// memStore is the ledger of the simulation: what was recorded is lost in a
// crash unless it was committed, and commits keep the order of recording.
type memStore struct {
	durable, now tables
	full         bool // the disk is full: nothing becomes durable
	// what may be written late, as the file has it until then
	lateJobs       map[int64]ledger.Job
	lateTaken      map[int64]bool // of jobs that the file does not have yet
	latePlacements map[int64]ledger.Placement
}

// tables is one state of the ledger.
type tables struct {
	id, placement int64
	jobs          map[int64]ledger.Job
	attempts      map[[2]int64]ledger.Attempt
	placements    map[int64]ledger.Placement
	known         map[[2]string]ledger.Known
	content       map[[2]string]int64
	paused        map[string]bool
}

func newTables() tables {
	return tables{id: 1, placement: 1, jobs: map[int64]ledger.Job{}, attempts: map[[2]int64]ledger.Attempt{},
		placements: map[int64]ledger.Placement{},
		known:      map[[2]string]ledger.Known{}, content: map[[2]string]int64{}, paused: map[string]bool{}}
}

func (t tables) clone() tables {
	t.jobs, t.attempts, t.placements = maps.Clone(t.jobs), maps.Clone(t.attempts), maps.Clone(t.placements)
	t.known, t.content, t.paused = maps.Clone(t.known), maps.Clone(t.content), maps.Clone(t.paused)
	return t
}

func newMemStore() *memStore {
	return &memStore{durable: newTables(), now: newTables(), lateJobs: map[int64]ledger.Job{},
		lateTaken: map[int64]bool{}, latePlacements: map[int64]ledger.Placement{}}
}

// commit makes all durable, but for what may be late: that stays as it was.
func (m *memStore) commit() bool {
	if m.full {
		return false
	}
	m.durable = m.now.clone()
	maps.Copy(m.durable.jobs, m.lateJobs)
	maps.Copy(m.durable.placements, m.latePlacements)
	maps.DeleteFunc(m.durable.jobs, func(id int64, _ ledger.Job) bool { return m.lateTaken[id] })
	return true
}

// flush makes all durable.
func (m *memStore) flush() bool {
	if m.full {
		return false
	}
	clear(m.lateJobs)
	clear(m.lateTaken)
	clear(m.latePlacements)
	return m.commit()
}

// crash forgets what was not durable. Numbers are read from the file anew.
func (m *memStore) crash() {
	m.now = m.durable.clone()
	clear(m.lateJobs)
	clear(m.lateTaken)
	clear(m.latePlacements)
	for id := range m.now.jobs {
		m.now.id = max(m.now.id, id+1)
	}
}

func (m *memStore) NextID() int64        { m.now.id++; return m.now.id - 1 }
func (m *memStore) NextPlacement() int64 { m.now.placement++; return m.now.placement - 1 }

// allowed holds each step of a job against the table of states.
func allowed(was ledger.State, j ledger.Job) {
	if !ledger.Allowed(was, j.State) {
		panic(fmt.Sprintf("job %d went from %q to %q, which no table knows: %s", j.ID, was, j.State, j.Reason))
	}
}

func (m *memStore) Record(j ledger.Job, was ledger.State) {
	allowed(was, j)
	delete(m.lateJobs, j.ID)
	delete(m.lateTaken, j.ID)
	j.Extra = slices.Clone(j.Extra)
	m.now.jobs[j.ID] = j
}
func (m *memStore) RecordTaken(j ledger.Job) {
	m.lateTaken[j.ID], m.now.jobs[j.ID] = true, j
}
func (m *memStore) RecordEnd(j *ledger.Job, was ledger.State) {
	allowed(was, *j)
	if _, late := m.lateJobs[j.ID]; !late && !m.lateTaken[j.ID] {
		m.lateJobs[j.ID] = m.now.jobs[j.ID]
	}
	m.now.jobs[j.ID] = *j
}
func (m *memStore) RecordPlaced(p *ledger.Placement, after file.Facts) {
	if _, late := m.latePlacements[p.ID]; !late {
		m.latePlacements[p.ID] = m.now.placements[p.ID]
	}
	done := *p
	done.State, done.After = ledger.Done, after
	m.now.placements[p.ID] = done
}
func (m *memStore) RecordMembers(ledger.Job) {} // Record keeps them
func (m *memStore) RecordAttempt(a ledger.Attempt) {
	m.now.attempts[[2]int64{a.Job, int64(a.Number)}] = a
}
func (m *memStore) RecordIntention(p *ledger.Placement) { m.RecordPlacement(*p) }

func (m *memStore) RecordPlacement(p ledger.Placement) {
	delete(m.latePlacements, p.ID)
	m.now.placements[p.ID] = p
}
func (m *memStore) RecordPause(rule string, p bool) { m.now.paused[rule] = p }
func (m *memStore) RecordDismissed(ledger.Job)      {}
func (m *memStore) Flush() error                    { m.flush(); return nil }
func (m *memStore) Sync(context.Context) error {
	if !m.commit() {
		return errors.New("no space left on device")
	}
	return nil
}
func (m *memStore) Remember(k ledger.Known)  { m.now.known[[2]string{k.Rule, k.File}] = k }
func (m *memStore) Forget(rule, path string) { delete(m.now.known, [2]string{rule, path}) }
func (m *memStore) KnownFiles(string, string) ([]string, error) {
	return nil, nil
}
func (m *memStore) RememberContent(rule, hash string, job int64) {
	m.now.content[[2]string{rule, hash}] = job
}
func (m *memStore) KnowsContent(rule, hash string, job int64) (bool, error) {
	other, ok := m.now.content[[2]string{rule, hash}]
	return ok && other != job, nil
}
func (m *memStore) RememberMount(string, string)       {}
func (m *memStore) Mounts() (map[string]string, error) { return map[string]string{}, nil }
func (m *memStore) RecordWatched(string, string)       {}
func (m *memStore) Rename(string, string) error        { return nil }
func (m *memStore) Watched() (map[[2]string]bool, error) {
	return map[[2]string]bool{}, nil
}
func (m *memStore) Folder() string               { return "" }
func (m *memStore) Prune(time.Time) (int, error) { return 0, nil }
func (m *memStore) Close() error                 { return nil }

func (m *memStore) Known(rule, path string) (ledger.Known, bool, error) {
	k, ok := m.now.known[[2]string{rule, path}]
	return k, ok, nil
}

func (m *memStore) KnowsFiles() bool { return len(m.now.known) > 0 }

func (m *memStore) KnownCount(rule string) (n int) {
	for k := range m.now.known {
		if k[0] == rule {
			n++
		}
	}
	return n
}

func (m *memStore) Jobs(q ledger.Filter) ([]ledger.Job, error) {
	var list []ledger.Job
	for _, j := range m.now.jobs {
		if (q.ID == 0 || j.ID == q.ID) && (q.Rule == "" || j.Rule == q.Rule) &&
			(len(q.States) == 0 || slices.Contains(q.States, j.State)) && j.ID > q.After {
			list = append(list, j)
		}
	}
	slices.SortFunc(list, func(a, b ledger.Job) int { return int(a.ID - b.ID) })
	if q.Limit > 0 && len(list) > q.Limit {
		list = list[:q.Limit]
	}
	return list, nil
}

func (m *memStore) OpenJobs(rule string, states []ledger.State, after int64, limit int) ([]ledger.Job, error) {
	return m.Jobs(ledger.Filter{Rule: rule, States: states, After: after, Limit: limit})
}

func (m *memStore) OpenJob(path string) (ledger.Job, bool, error) {
	for _, j := range m.now.jobs {
		if j.File == path && !j.State.Final() {
			return j, true, nil
		}
	}
	return ledger.Job{}, false, nil
}

func (m *memStore) Attempts(job int64) (list []ledger.Attempt, err error) {
	for key, a := range m.now.attempts {
		if key[0] == job {
			list = append(list, a)
		}
	}
	if last := m.now.jobs[job].Last; last != nil {
		list = append(list, *last)
	}
	slices.SortFunc(list, func(a, b ledger.Attempt) int { return a.Number - b.Number })
	return list, nil
}

func (m *memStore) Placements(job int64) (list []ledger.Placement, err error) {
	for _, p := range m.now.placements {
		if p.Job == job {
			list = append(list, p)
		}
	}
	slices.SortFunc(list, func(a, b ledger.Placement) int { return int(a.ID - b.ID) })
	return list, nil
}

func (m *memStore) PlacedBy(rule, target string) (found ledger.Placement, ok bool, err error) {
	for _, p := range m.now.placements {
		if p.Target == target && p.State == ledger.Done && m.now.jobs[p.Job].Rule == rule && p.ID > found.ID {
			found, ok = p, true
		}
	}
	return found, ok, nil
}

func (m *memStore) PlacedAt(target string) (list []ledger.Placement, err error) {
	for _, p := range m.now.placements {
		if p.Target == target && p.State == ledger.Done {
			list = append(list, p)
		}
	}
	return list, nil
}

func (m *memStore) TakenBack(path string) (bool, error) {
	for _, p := range m.now.placements {
		if p.State == ledger.Undone && (p.Target == path || strings.HasPrefix(p.Target,
			path+string(filepath.Separator))) {
			return true, nil
		}
	}
	return false, nil
}

func (m *memStore) Reliers(target string, job int64) (list []ledger.Placement, err error) {
	for _, p := range m.now.placements {
		if p.Target == target && p.Kind == string(place.Duplicate) && p.Job != job &&
			(p.State == ledger.Intended || p.State == ledger.Done) {
			list = append(list, p)
		}
	}
	return list, nil
}

func (m *memStore) RecordBoot(string)     {}
func (m *memStore) Boot() (string, error) { return "", nil }

func (m *memStore) FolderOrigin(string) (string, string, bool, error) { return "", "", false, nil }

func (m *memStore) PlacedBelow(string) ([]string, error) { return nil, nil }

func (m *memStore) Undoing() ([]ledger.Placement, error)     { return nil, nil }
func (m *memStore) PuttingBack() ([]ledger.Placement, error) { return nil, nil }

func (m *memStore) Origin(string, file.Facts) (string, string, bool, error) {
	return "", "", false, nil
}

func (m *memStore) Tally() (map[string]map[ledger.State]int, error) {
	all := map[string]map[ledger.State]int{}
	for _, j := range m.now.jobs {
		if all[j.Rule] == nil {
			all[j.Rule] = map[ledger.State]int{}
		}
		all[j.Rule][j.State]++
	}
	return all, nil
}

func (m *memStore) Paused() (map[string]time.Time, error) {
	paused := map[string]time.Time{}
	for name, p := range m.now.paused {
		if p {
			paused[name] = time.Time{}
		}
	}
	return paused, nil
}
