package work

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
)

var discardVerb = verb(rule.Verb{Name: "discard", Options: []string{"from"}, Takes: rule.TakesUnlessFrom},
	func() act { return &discard{} })

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

// What a foretold job has done with its file.
const (
	toTheTrash = "to the trash"
	deleted    = "deleted"
)

// Check is part of rule.Act.
func (d *discard) Check(c *notation.Checker) {
	if len(c.Step.From) == 0 && c.Rule.Processed != nil {
		c.ErrorAt("discard", "discard", "a file that was discarded cannot go to the processed folder",
			"remove processed: or discard:")
	}
}

// Says is part of plan.Act.
func (d *discard) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	what := toTheTrash
	if d.To == toDelete {
		what = "delete"
	}
	if len(s.From) == 0 {
		return what, nil
	}
	from, err := j.Sources(s)
	return what + ": " + strings.Join(from, ", "), err
}

func (d *discard) do(_ context.Context, w *Work, s *rule.Step) error {
	if len(s.From) == 0 {
		return w.each(s, func(u *job.Unit, _ plan.Job) error {
			err := w.throwAway(d, u)
			if err == nil {
				w.follow(u)
			}
			return err
		})
	}
	return w.others(s, func(path string, facts file.Facts) error {
		u := job.Unit{Taken: path, At: path, Facts: facts}
		err := w.throwAway(d, &u)
		w.wentTo(path, u.At, u.Facts)
		return err
	})
}

// throwAway discards a file, and follows it into the trash.
func (w *Work) throwAway(d *discard, u *job.Unit) error {
	if w.trial != nil {
		w.tell("would go: %s (%s)", u.At, d.To)
		u.At = ""
		return nil
	}
	var req place.Request
	if d.To == toDelete {
		list := w.placing(job.Deleted, u.At, u.Facts, &req, "")
		if err := w.Placer.Delete(req); err != nil {
			return w.gone(*list, err)
		}
		w.done(*list)
		u.At = ""
		return nil
	}
	list := w.placing(job.Trashed, u.At, u.Facts, &req, "")
	res, err := w.Placer.Trash(req)
	if err != nil {
		return w.gone(*list, err)
	}
	w.done(*list, res)
	u.At, u.Facts = res.Target, res.Facts
	return nil
}

func (d *discard) foretell(w *Foretelling, s *rule.Step) {
	if len(s.From) > 0 {
		w.others(s, func(path string, _ scene.Thing) { w.Scene.Remove(path) }, nil)
		return
	}
	if w.Thrown = toTheTrash; d.To == toDelete {
		w.Thrown = deleted
	}
	w.Scene.Remove(w.At)
	w.At = ""
}
