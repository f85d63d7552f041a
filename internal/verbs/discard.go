package verbs

import (
	"context"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/work"
)

var discardVerb = verb(rule.Verb{Name: "discard", Options: []string{"from"}, Takes: rule.TakesUnlessFrom},
	func() work.Act { return &discard{} })

type discard struct {
	To trashOrDelete `key:"discard" doc:"trash: the file, or from:, goes to the freedesktop trash; delete: it is gone"`
}

// trashOrDelete says what becomes of a file.
type trashOrDelete string

const (
	toTrash  trashOrDelete = "trash"
	toDelete trashOrDelete = "delete"
)

// Words is part of rule.OneOf.
func (trashOrDelete) Words() []string { return []string{string(toTrash), string(toDelete)} }

// Check is part of rule.Act.
func (d *discard) Check(c *notation.Checker) {
	if len(c.Step.From) == 0 && c.Rule.Processed != nil {
		c.ErrorAt("discard", "discard", "a file that was discarded cannot go to the processed folder",
			"remove processed: or discard:")
	}
}

// Says is part of plan.Act.
func (d *discard) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	what := work.ToTheTrash
	if d.To == toDelete {
		what = "delete"
	}
	if len(s.From) == 0 {
		return what, nil
	}
	from, err := j.Sources(s)
	return what + ": " + strings.Join(from, ", "), err
}

// Do is part of work.Act.
func (d *discard) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	if len(s.From) == 0 {
		return w.Each(s, func(u *job.Unit, _ plan.Job) error {
			err := throwAway(w, d, u)
			if err == nil {
				w.Follow(u)
			}
			return err
		})
	}
	return w.Others(s, func(path string, facts file.Facts) error {
		u := job.Unit{Taken: path, At: path, Facts: facts}
		err := throwAway(w, d, &u)
		w.WentTo(path, u.At, u.Facts)
		return err
	})
}

// throwAway discards a file, and follows it into the trash.
func throwAway(w *work.Work, d *discard, u *job.Unit) error {
	if w.Trying() {
		w.Tell("would go: %s (%s)", u.At, d.To)
		u.At = ""
		return nil
	}
	var req place.Request
	if d.To == toDelete {
		list := w.Placing(job.Deleted, u.At, u.Facts, &req, "")
		if err := w.Placer.Delete(req); err != nil {
			return w.Gone(*list, err)
		}
		w.Done(*list)
		u.At = ""
		return nil
	}
	list := w.Placing(job.Trashed, u.At, u.Facts, &req, "")
	res, err := w.Placer.Trash(req)
	if err != nil {
		return w.Gone(*list, err)
	}
	w.Done(*list, res)
	u.At, u.Facts = res.Target, res.Facts
	return nil
}

// Foretell is part of work.Act.
func (d *discard) Foretell(w *work.Foretelling, s *rule.Step) {
	if len(s.From) > 0 {
		w.Others(s, func(path string, _ scene.Thing) { w.Scene.Remove(path) }, nil)
		return
	}
	if w.Thrown = work.ToTheTrash; d.To == toDelete {
		w.Thrown = work.Deleted
	}
	w.Scene.Remove(w.At)
	w.At = ""
}
