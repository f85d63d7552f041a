package work

import (
	"fmt"
	"sync"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// InHand knows where the steps of jobs under way have put their files. Such a file goes
// on from there, so it is nothing that another job may take for a file at rest.
type InHand struct {
	mu   sync.Mutex
	by   map[string]int64
	all  map[int64][]string          // by job
	ways map[int64]map[string]string // by job: where its steps put files, by where those were before
	left chan struct{}               // closed when a job leaves its files, nil if no step waits
}

// Take notes where a job's file is about to be. One that is another job's stays so.
func (h *InHand) Take(p *job.Placement) error {
	k := p.Kind
	if k != job.Moved && k != job.Duplicate && k != job.Trashed || p.Target == "" {
		return nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.by == nil {
		h.by, h.all, h.ways = map[string]int64{}, map[int64][]string{}, map[int64]map[string]string{}
	}
	if h.ways[p.Job] == nil {
		h.ways[p.Job] = map[string]string{}
	}
	h.ways[p.Job][p.Source] = p.Target
	if k == job.Trashed {
		return nil // at rest in the trash
	}
	other, held := h.by[p.Target]
	switch {
	case held && other == p.Job:
		return nil
	case held && p.Kind == job.Duplicate:
		return fmt.Errorf("%s: %w", plan.Display(p.Target), job.ErrHeld)
	case held:
		return nil
	}
	h.has(p)
	return nil
}

// Has notes that a job's file is where it was about to be, whoever else was about to put one there.
func (h *InHand) Has(p *job.Placement) {
	if p.Kind != job.Moved || p.State != job.Done {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if by, held := h.by[p.Target]; held && by != p.Job {
		h.has(p)
	}
}

func (h *InHand) has(p *job.Placement) {
	h.by[p.Target] = p.Job
	h.all[p.Job] = append(h.all[p.Job], p.Target)
}

// HeldBesides reports whether a file is one that another job works on.
func (h *InHand) HeldBesides(job int64, path string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	other, held := h.by[path]
	return held && other != job
}

// patient is how long a step waits for a file that another job works on; after that its
// attempt is made again later.
const patient = 2 * time.Second

// Wait is HeldBesides for a file that is to be replaced: it gives the other job a while.
func (h *InHand) Wait(job int64, path string) bool {
	late := time.NewTimer(patient)
	defer late.Stop()
	for {
		h.mu.Lock()
		if h.left == nil {
			h.left = make(chan struct{})
		}
		left := h.left
		h.mu.Unlock()
		if !h.HeldBesides(job, path) {
			return false
		}
		select {
		case <-left:
		case <-late.C:
			return true
		}
	}
}

// Follow reports where a job's file is by now, and where it was before its last move, which
// may not have been made yet.
func (h *InHand) Follow(job int64, file string) (at, before string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	at, before = file, file
	for range len(h.ways[job]) {
		next, moved := h.ways[job][at]
		if !moved || next == at {
			break
		}
		before, at = at, next
	}
	return at, before
}

// Leave forgets the files of a job that is over or has them back.
func (h *InHand) Leave(job int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.left != nil && len(h.all[job]) > 0 {
		close(h.left)
		h.left = nil
	}
	for _, path := range h.all[job] {
		if h.by[path] == job {
			delete(h.by, path)
		}
	}
	delete(h.all, job)
	delete(h.ways, job)
}
