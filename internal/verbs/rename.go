package verbs

import (
	"context"

	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/work"
)

var renameVerb = verb(rule.Verb{Name: "rename", Options: []string{"same_name"}, Takes: rule.TakesInput,
	Puts: rule.PutsFile, InPlace: true},
	func() work.Act { return &rename{} })

type rename struct {
	Name rule.Text `key:"rename" fits:"^[^/]*$" doc:"the file's new name, in the folder where it is"`
}

// Check is part of rule.Act.
func (r *rename) Check(c *notation.Checker) { c.Name(r.Name, "rename") }

// Says is part of plan.Act.
func (r *rename) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, _, err := j.Lands(s)
	if err != nil {
		return "", err
	}
	j.At = to.Path()
	return "rename to " + plan.Display(to.Name), nil
}

// Do is part of work.Act.
func (r *rename) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	return w.Each(s, func(u *job.Unit, j plan.Job) error { return moveOne(w, s, u, j) })
}

// Foretell is part of work.Act.
func (r *rename) Foretell(w *work.Foretelling, s *rule.Step) { foretellMove(w, s) }
