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
	at := f.wanted[path]
	if at == nil {
		f.wanted[path] = j
		return
	}
	for at.nextWants != nil {
		at = at.nextWants
	}
	at.nextWants = j
}

// unreserve gives a name free again.
func (f *flow) unreserve(j *job) {
	if j.wants == "" {
		return
	}
	switch first := f.wanted[j.wants]; {
	case first == j && j.nextWants == nil:
		delete(f.wanted, j.wants)
	case first == j:
		f.wanted[j.wants] = j.nextWants
	default:
		for ; first != nil; first = first.nextWants {
			if first.nextWants == j {
				first.nextWants = j.nextWants
				break
			}
		}
	}
	j.wants, j.nextWants = "", nil
}

// before lists the files of the jobs that reserved a path before a job, in their order,
// but for those that are on their way there already: they come first anyway.
func (f *flow) before(j *job, path string) []string {
	first := f.wanted[path]
	if first == nil || first == j && j.nextWants == nil {
		return nil
	}
	var files []string
	for ; first != nil; first = first.nextWants {
		if at := first.where(first.row.File, first.row.Facts).at; first.row.ID < j.row.ID && !first.sent && at != "" {
			files = append(files, at)
		}
	}
	return files
}
