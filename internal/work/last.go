package work

import (
	"fmt"
	"path/filepath"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// What a job has made may be all that is left of a file that was there before: its copy,
// where a later step deleted it or a command changed it. Taking back leaves that where it is.

// history finds the jobs of a file, and what was taken back.
type history interface {
	Jobs(job.Filter) ([]job.Job, error)
	Placements(job int64) ([]job.Placement, error)
	TakenBack(path string) (bool, error)
}

// LastOf returns an error if what a placement put somewhere was made from a file that is not
// there any more, neither where it was nor where another placement of the job, or another
// job, left it. state is the folder that the attempts' own folders lie in: what comes from
// those is not asked about.
func LastOf(l history, state string, p *job.Placement, all []*job.Placement,
	look func(path string) (file.Facts, error)) error {
	if p.Kind != job.Put || p.Source == "" {
		return nil
	}
	if _, passing := plan.Below(p.Source, filepath.Join(state, "scratch")); passing {
		return nil
	}
	if own, err := IsOwn(l, p); err != nil || own {
		return err // new content for the file itself: what it had is kept
	}
	why, at := "", p.Source
	for range maxFollowed {
		now, err := look(at)
		switch {
		case err != nil:
			return err
		case now.Exists && (now.Dir || now.Size == p.Facts.Size && now.Mod == p.Facts.Mod):
			return nil
		case why == "" && now.Exists:
			why = "has changed"
		}
		if at, err = movedOn(l, p.Job, at, all); err != nil {
			return err
		}
		if at == "" {
			break
		}
	}
	if why == "" {
		if back, err := l.TakenBack(p.Source); err != nil || back {
			return err // that was made by a job, too
		}
		why = "is not there any more"
	}
	return fmt.Errorf("%s stays: %s, from which it was made, %s", plan.Display(p.Target), plan.Display(p.Source),
		why)
}

// IsOwn reports whether a placement gave an input of its job new content, where that lay then. By their facts it and a
// copy cannot be told apart: where times are coarse, or cannot be set, the copy has others than its source.
func IsOwn(l history, p *job.Placement) (bool, error) {
	if p.Kind != job.Put || !p.Replaced {
		return false, nil
	}
	jobs, err := l.Jobs(job.Filter{ID: p.Job})
	if err != nil || len(jobs) == 0 {
		return false, err
	}
	list, err := l.Placements(p.Job)
	for _, file := range jobs[0].Files() {
		at := file
		for _, before := range list {
			went := before.State == job.Done || before.Attempt == p.Attempt && before.State != job.Dropped
			if before.ID < p.ID && before.Source == at && !before.Kind.Adds() && went {
				at = before.Target
			}
		}
		if at == p.Target {
			return true, err
		}
	}
	return false, err
}

// movedOn returns where a placement of the same job, or a later job, moved a file to, "" if none.
func movedOn(l history, id int64, at string, list []*job.Placement) (to string, err error) {
	for _, p := range list {
		if p.Source == at && p.Target != at && !p.Kind.Adds() &&
			(p.State == job.Done || p.State.GoingBack()) {
			return p.Target, nil
		}
	}
	jobs, err := l.Jobs(job.Filter{File: at, After: id})
	for _, j := range jobs {
		if _, now, ok := j.Took(at); ok && now != at {
			to = now
		}
	}
	return to, err
}

// maxFollowed bounds the jobs through which a file is followed.
const maxFollowed = 16

// NothingElse says that a placement stays because its input is gone.
func NothingElse(p *job.Placement, input string) error {
	return fmt.Errorf("%s stays: %s is not there any more", plan.Display(p.Target), plan.Display(input))
}

// inputGone reports whether one of an attempt's inputs is neither where it was taken nor
// where a placement of the attempt left it.
func inputGone(list []*job.Placement, inputs []job.Unit) (path string, gone bool) {
	for _, u := range inputs {
		if u.At == "" {
			continue // the job of a removal
		}
		at, there := u.Taken, LookAt(u.Taken, false).Exists
		for _, p := range list {
			if p.Source == at && !p.Kind.Adds() && p.Kind != job.Tagged &&
				p.State != job.Dropped {
				if at = p.Target; at != "" {
					there = there || LookAt(at, false).Exists
				}
			}
		}
		if !there {
			return u.Taken, true
		}
	}
	return "", false
}
