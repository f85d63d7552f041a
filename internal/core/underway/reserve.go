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
			js.want(w)
		}
	}
	if path != "" && path != j.Row.File {
		j.end.Of, j.end.Path = j.Row.ID, path
		js.want(&j.end)
	}
}

// unreserve frees names.
func (js *Jobs) unreserve(j *Job) {
	if j.end.Path != "" {
		js.unwant(&j.end)
		j.end.Path = ""
	}
	for _, w := range j.wishes {
		js.unwant(w)
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

// wanting is the wishes for one path.
type wanting struct{ first, last *turn.Wish }

func (js *Jobs) want(w *turn.Wish) {
	at := js.wanted[w.Path]
	w.Before = at.last
	for w.Before != nil && w.Before.Of > w.Of {
		w.Before = w.Before.Before
	}
	if w.Before == nil {
		w.After, at.first = at.first, w
	} else {
		w.After, w.Before.After = w.Before.After, w
	}
	if w.After == nil {
		at.last = w
	} else {
		w.After.Before = w
	}
	js.wanted[w.Path] = at
}

func (js *Jobs) unwant(w *turn.Wish) {
	at := js.wanted[w.Path]
	if w.Before == nil {
		at.first = w.After
	} else {
		w.Before.After = w.After
	}
	if w.After == nil {
		at.last = w.Before
	} else {
		w.After.Before = w.Before
	}
	if at.first == nil {
		delete(js.wanted, w.Path)
	} else {
		js.wanted[w.Path] = at
	}
	w.Before, w.After = nil, nil
}

// Before lists the files of the jobs that reserved a path before a job, in their order.
// Those that are on their way there already are not among them: they come first anyway.
func (js *Jobs) Before(j *Job, path string) []job.Ahead {
	var files []job.Ahead
	for w := js.wanted[path].first; w != nil && w.Of < j.Row.ID; w = w.After {
		first := js.ByID[w.Of]
		if at := first.where(first.Row.File, first.Row.Facts).At; at != "" && !w.Done.Load() {
			at, before := js.hands.Follow(w.Of, at)
			files = append(files, job.Ahead{Path: at, Before: before, Done: &w.Done})
		}
	}
	return files
}
