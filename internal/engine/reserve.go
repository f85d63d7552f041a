package engine

import (
	"path/filepath"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
)

// Numbers go in the order in which files are taken, not in which their jobs end: a job
// reserves the name that it wants when it is taken. Another that comes to be placed
// before it leaves that name to it, unless the content is the same.

// reserve notes where a job's file is to go after success, as far as that is known now.
func (f *flow) reserve(j *job) {
	if j.rule == nil || j.rule.Processed == nil || j.row.Event == file.Removed || j.rule.Gather != nil {
		return
	}
	path := ""
	if p := j.rule.Processed; len(j.rule.Steps) == 0 && p.Fixed != "" && p.Name == nil {
		j.spot = plan.Spot{Root: j.rule.Spelled(p.Fixed), Name: filepath.Base(j.row.File)}
		path = j.spot.Path()
	} else if len(j.rule.Steps) == 0 {
		p := f.planned(j, j.row.Taken)
		if spot, err := p.Destination(j.rule.Processed); err == nil {
			path = spot.Path()
			if !j.rule.Uses("clock", "attempt") {
				j.spot = spot
			}
		}
	} else {
		c := plan.Candidate{Rule: j.rule, Unit: j.row.File, Watch: j.row.Watch, Captures: j.captures}
		if _, ends, err := c.Steps(j.row.Facts, j.row.Event, j.row.Taken, f.set.State()); err == nil {
			path = ends
		}
	}
	if path == "" || path == j.row.File {
		return
	}
	j.wants = path
	f.wanted[path] = f.wanted[path].add(j)
}

// unreserve gives a name free again.
func (f *flow) unreserve(j *job) {
	if j.wants == "" {
		return
	}
	w := f.wanted[j.wants]
	w.remove(j)
	if w.first == nil {
		delete(f.wanted, j.wants)
	}
	j.wants = ""
}

// wanting is the jobs that reserved one path, in the order in which their files were taken.
type wanting struct{ first, last *job }

func (w *wanting) add(j *job) *wanting {
	if w == nil {
		return &wanting{j, j}
	}
	after := w.last
	for after != nil && after.row.ID > j.row.ID {
		after = after.wantsBefore
	}
	j.wantsBefore = after
	if after == nil {
		j.wantsAfter, w.first = w.first, j
	} else {
		j.wantsAfter, after.wantsAfter = after.wantsAfter, j
	}
	if j.wantsAfter == nil {
		w.last = j
	} else {
		j.wantsAfter.wantsBefore = j
	}
	return w
}

func (w *wanting) remove(j *job) {
	if j.wantsBefore == nil {
		w.first = j.wantsAfter
	} else {
		j.wantsBefore.wantsAfter = j.wantsAfter
	}
	if j.wantsAfter == nil {
		w.last = j.wantsBefore
	} else {
		j.wantsAfter.wantsBefore = j.wantsBefore
	}
	j.wantsBefore, j.wantsAfter = nil, nil
}

// before lists the files of the jobs that reserved a path before a job, in their order.
// Those that are on their way there already are not among them: they come first anyway.
func (f *flow) before(j *job, path string) []string {
	w := f.wanted[path]
	if w == nil {
		return nil
	}
	var files []string
	for first := w.first; first != nil && first.row.ID < j.row.ID; first = first.wantsAfter {
		if at := first.where(first.row.File, first.row.Facts).at; at != "" {
			files = append(files, at)
		}
	}
	return files
}
