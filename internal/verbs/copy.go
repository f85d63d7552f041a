package verbs

import (
	"context"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/work"
)

var copyVerb = verb(rule.Verb{Name: "copy", Options: []string{"from", "as", "same_name"}, Puts: rule.PutsFile},
	func() work.Act { return &copying{} })

type copying struct {
	Folder rule.Path `key:"copy" doc:"the folder to which the file, or from:, is copied"`
}

// Check is part of rule.Act.
func (c *copying) Check(k *notation.Checker) { k.Into(c.Folder) }

// Says is part of plan.Act.
func (c *copying) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, from, err := j.Lands(s)
	if err != nil {
		return "", err
	}
	if len(from) > 0 {
		return sayOthers(s.Verb(), from, to), nil
	}
	return "copy to " + plan.Display(to.Path()), nil
}

// Do is part of work.Act.
func (c *copying) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	if len(s.From) == 0 {
		return w.Each(s, func(u *job.Unit, j plan.Job) error { return copyOne(w, s, j, u.At, u.Facts) })
	}
	return w.Others(s, func(path string, facts file.Facts) error { return copyOne(w, s, w.Job, path, facts) })
}

// Foretell is part of work.Act.
func (c *copying) Foretell(w *work.Foretelling, s *rule.Step) {
	if len(s.From) > 0 {
		w.Others(s, func(path string, t scene.Thing) { foretellOther(w, s, path, t, false) },
			func(path string) { foretellMade(w, s, path) })
		return
	}
	to, err := w.Job.Spot(s, w.Job.Path())
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.Land(w.At, w.Self, to, s.SameName, nil)
}

func copyOne(w *work.Work, s *rule.Step, j plan.Job, source string, facts file.Facts) error {
	to, err := w.Spot(s, j, source)
	if err != nil {
		return err
	}
	return copyTo(w, to, source, facts, s.SameName, nil)
}

// copyTo copies a file to a place. ours tells whether what is there may be replaced in any
// case; nil for never.
func copyTo(w *work.Work, to plan.Spot, source string, facts file.Facts, same rule.SameName,
	ours func(string, file.Facts) bool) error {
	req := place.Request{To: to, Ours: ours}
	list := w.Placing(job.Put, source, facts, &req, same)
	res, err := w.Placer.Copy(req)
	if w.Left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.Done(*list, res)
	w.PlacedAt(to.Path())
	switch {
	case res.Here:
	case res.Same:
		w.Note("its content was already in " + res.Target)
		w.Tell("%s has that content already", res.Target)
	default:
		w.Tell("would be copied to %s", res.Target)
	}
	return nil
}
