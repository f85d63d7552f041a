package underway

import (
	"path/filepath"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
)

// Numbers go in the order in which files are taken, not in which their jobs end: a job
// reserves the name that it wants when it is taken. Another that comes to be placed
// before it leaves that name to it, unless the content is the same.

// reserve notes where a job's file is to go after success, as far as that is known now.
func (js *Jobs) reserve(j *Job) {
	if j.Rule == nil || j.Rule.Processed == nil && len(j.Rule.Steps) == 0 || j.Row.Event == file.Removed ||
		j.Rule.Gather != nil {
		return
	}
	path := ""
	if p := j.Rule.Processed; len(j.Rule.Steps) == 0 && p.Fixed != "" && p.Name == nil {
		j.Spot = plan.Spot{Root: j.Rule.Spelled(p.Fixed), Name: filepath.Base(j.Row.File)}
		path = j.Spot.Path()
	} else if len(j.Rule.Steps) == 0 {
		p := js.planned(j, j.Row.Taken)
		if spot, err := p.Destination(j.Rule.Processed); err == nil {
			path = spot.Path()
			if !j.Rule.Uses("now", "attempt") {
				j.Spot = spot
			}
		}
	} else {
		c := plan.Candidate{Rule: j.Rule, Unit: j.Row.File, Watch: j.Row.Watch, Captures: j.Captures}
		placed, ends, err := c.Targets(j.Row.Facts, j.Row.Event, j.Row.Taken, js.Set.State())
		if err != nil {
			return
		}
		path = ends
		for _, at := range placed {
			w := &turn.Wish{Of: j.Row.ID, Path: at}
			j.wishes = append(j.wishes, w)
			js.wanted.Add(w)
		}
	}
	if path != "" && path != j.Row.File {
		j.end.Of, j.end.Path = j.Row.ID, path
		js.wanted.Add(&j.end)
	}
}

// unreserve frees names.
func (js *Jobs) unreserve(j *Job) {
	if j.end.Path != "" {
		js.wanted.Remove(&j.end)
		j.end.Path = ""
	}
	for _, w := range j.wishes {
		js.wanted.Remove(w)
	}
	j.wishes = nil
}

// over notes that a job places nothing more.
func (j *Job) over() {
	j.end.Done.Store(true)
	for _, w := range j.wishes {
		w.Done.Store(true)
	}
}

// Before lists the files of the jobs that reserved a path before a job, in their order.
// Those that are on their way there already are not among them: they come first anyway.
func (js *Jobs) Before(j *Job, path string) []job.Ahead {
	var files []job.Ahead
	for w := js.wanted.First(path); w != nil && w.Of < j.Row.ID; w = w.Next() {
		first := js.ByID[w.Of]
		if at := first.where(first.Row.File, first.Row.Facts).At; at != "" && !w.Done.Load() {
			at, before := js.hands.Follow(w.Of, at)
			files = append(files, job.Ahead{Path: at, Before: before, Done: &w.Done})
		}
	}
	return files
}
