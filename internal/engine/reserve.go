package engine

import (
	"slices"

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
	if len(j.rule.Steps) == 0 {
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
	f.wanted[path] = append(f.wanted[path], j)
}

// unreserve gives a name free again.
func (f *flow) unreserve(j *job) {
	if j.wants == "" {
		return
	}
	list := slices.DeleteFunc(f.wanted[j.wants], func(other *job) bool { return other == j })
	if f.wanted[j.wants] = list; len(list) == 0 {
		delete(f.wanted, j.wants)
	}
	j.wants = ""
}

// before lists the files of the jobs that reserved a path before a job, in their order.
func (f *flow) before(j *job, path string) []string {
	list := f.wanted[path]
	if len(list) == 0 || len(list) == 1 && list[0] == j {
		return nil
	}
	var files []string
	for _, other := range list {
		if at := other.where(other.row.File, other.row.Facts).at; other.row.ID < j.row.ID && at != "" {
			files = append(files, at)
		}
	}
	return files
}
