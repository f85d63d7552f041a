package flow

import (
	"path/filepath"
	"sync/atomic"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// Numbers go in the order in which files are taken, not in which their jobs end: a job
// reserves the name that it wants when it is taken. Another that comes to be placed
// before it leaves that name to it, unless the content is the same.

// reserve notes where a job's file is to go after success, as far as that is known now.
func (f *Flow) reserve(j *Job) {
	if j.rule == nil || j.rule.Processed == nil && len(j.rule.Steps) == 0 || j.row.Event == file.Removed ||
		j.rule.Gather != nil {
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
			if !j.rule.Uses("now", "attempt") {
				j.spot = spot
			}
		}
	} else {
		c := plan.Candidate{Rule: j.rule, Unit: j.row.File, Watch: j.row.Watch, Captures: j.captures}
		placed, ends, err := c.Targets(j.row.Facts, j.row.Event, j.row.Taken, f.set.State())
		if err != nil {
			return
		}
		path = ends
		for _, at := range placed {
			w := &wish{job: j, path: at}
			j.wishes = append(j.wishes, w)
			f.want(w)
		}
	}
	if path != "" && path != j.row.File {
		j.end.job, j.end.path = j, path
		f.want(&j.end)
	}
}

// unreserve frees names.
func (f *Flow) unreserve(j *Job) {
	if j.end.path != "" {
		f.unwant(&j.end)
		j.end.path = ""
	}
	for _, w := range j.wishes {
		f.unwant(w)
	}
	j.wishes = nil
}

// over notes that a job places nothing more.
func (j *Job) over() {
	j.end.done.Store(true)
	for _, w := range j.wishes {
		w.done.Store(true)
	}
}

// wish is a name that a job has reserved.
type wish struct {
	job           *Job
	path          string
	before, after *wish       // for the same path, in the order in which their files were taken
	done          atomic.Bool // it has the name, or one with a number: the job's attempt says so
}

// wanting is the wishes for one path.
type wanting struct{ first, last *wish }

func (f *Flow) want(w *wish) {
	at := f.wanted[w.path]
	w.before = at.last
	for w.before != nil && w.before.job.row.ID > w.job.row.ID {
		w.before = w.before.before
	}
	if w.before == nil {
		w.after, at.first = at.first, w
	} else {
		w.after, w.before.after = w.before.after, w
	}
	if w.after == nil {
		at.last = w
	} else {
		w.after.before = w
	}
	f.wanted[w.path] = at
}

func (f *Flow) unwant(w *wish) {
	at := f.wanted[w.path]
	if w.before == nil {
		at.first = w.after
	} else {
		w.before.after = w.after
	}
	if w.after == nil {
		at.last = w.before
	} else {
		w.after.before = w.before
	}
	if at.first == nil {
		delete(f.wanted, w.path)
	} else {
		f.wanted[w.path] = at
	}
	w.before, w.after = nil, nil
}

// before lists the files of the jobs that reserved a path before a job, in their order.
// Those that are on their way there already are not among them: they come first anyway.
func (f *Flow) before(j *Job, path string) []job.Ahead {
	var files []job.Ahead
	for w := f.wanted[path].first; w != nil && w.job.row.ID < j.row.ID; w = w.after {
		if at := w.job.where(w.job.row.File, w.job.row.Facts).At; at != "" && !w.done.Load() {
			at, before := f.hands.Follow(w.job.row.ID, at)
			files = append(files, job.Ahead{Path: at, Before: before, Done: &w.done})
		}
	}
	return files
}

// Fulfil notes that a step has placed what a name was reserved for.
func (a *Attempt) Fulfil(path string) {
	for _, one := range a.wishes {
		if one.path == path {
			one.done.Store(true)
		}
	}
}
