package work

import (
	"context"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
)

var copyVerb = verb(rule.Verb{Name: "copy", Options: []string{"from", "as", "same_name"}, Puts: rule.PutsFile},
	func() act { return &copying{} })

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

func (c *copying) do(_ context.Context, w *Work, s *rule.Step) error {
	if len(s.From) == 0 {
		return w.each(s, func(u *job.Unit, j plan.Job) error { return w.copy(s, j, u.At, u.Facts) })
	}
	return w.others(s, func(path string, facts file.Facts) error { return w.copy(s, w.Job, path, facts) })
}

func (c *copying) foretell(w *Foretelling, s *rule.Step) {
	if len(s.From) > 0 {
		w.others(s, func(path string, t scene.Thing) { w.other(s, path, t, false) },
			func(path string) { w.made(s, path) })
		return
	}
	to, err := w.Job.Spot(s, w.Job.Path())
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.land(w.At, w.Self, to, s.SameName, nil)
}

func (w *Work) copy(s *rule.Step, j plan.Job, source string, facts file.Facts) error {
	to, err := w.spot(s, j, source)
	if err != nil {
		return err
	}
	return w.copyTo(to, source, facts, s.SameName, nil)
}

// copyTo copies a file to a place. ours tells whether what is there may be replaced in any
// case; nil for never.
func (w *Work) copyTo(to plan.Spot, source string, facts file.Facts, same rule.SameName,
	ours func(string, file.Facts) bool) error {
	req := place.Request{To: to, Ours: ours}
	list := w.placing(job.Put, source, facts, &req, same)
	res, err := w.Placer.Copy(req)
	if w.left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.placedAt(to.Path())
	switch {
	case res.Here:
	case res.Same:
		w.note("its content was already in " + res.Target)
		w.tell("%s has that content already", res.Target)
	default:
		w.tell("would be copied to %s", res.Target)
	}
	return nil
}
