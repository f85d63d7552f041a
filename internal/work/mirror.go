package work

import (
	"context"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

var mirrorVerb = verb(rule.Verb{Name: "mirror", Options: []string{"same_name"}, Puts: rule.PutsFile, SameRel: true,
	Removal: true, Apart: true, Files: rule.SuitsSingle},
	func() act { return &mirror{} })

type mirror struct {
	Folder rule.Path `key:"mirror" doc:"the folder that is kept in step: the same path below it as below watch; a removed file's copy goes to the trash"`
}

// Check is part of rule.Act.
func (m *mirror) Check(c *rule.Checker) { c.Into(m.Folder) }

// Says is part of plan.Act.
func (m *mirror) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	if j.Event == file.Removed {
		to, err := j.Spot(s, j.File)
		return "to the trash: " + plan.Display(to.Path()), err
	}
	to, _, err := j.Lands(s)
	return "mirror to " + plan.Display(to.Path()), err
}

// do keeps the same path below another folder in step.
func (m *mirror) do(_ context.Context, w *Work, s *rule.Step) error {
	return w.each(s, func(u *job.Unit, j plan.Job) error {
		to, err := w.spot(s, j, u.Taken)
		if err != nil {
			return err
		}
		ours := func(target string, f file.Facts) bool { return w.Book.Ours(j.Rule.Name.S, target, f) }
		if u.At != "" {
			return w.copyTo(to, u.At, u.Facts, s.SameName, ours)
		}
		return w.unmirror(to, ours)
	})
}

// unmirror discards the copy of a file that was removed.
func (w *Work) unmirror(to plan.Spot, ours func(string, file.Facts) bool) error {
	there, err := watchfs.Stat(to.Path())
	switch {
	case err != nil:
		return err
	case !there.Exists:
		w.note("its copy was gone already")
		return nil
	case !ours(to.Path(), there):
		w.note("its copy has been changed, so it stays in " + to.Path())
		return nil
	}
	var req place.Request
	list := w.placing(job.Trashed, to.Path(), there, &req, "")
	if w.trial != nil {
		w.tell("would go to the trash: %s", to.Path())
		return nil
	}
	res, err := w.Placer.Trash(req)
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.note("its copy is in the trash")
	return nil
}

func (m *mirror) foretell(w *Foretelling, s *rule.Step) {
	if w.At == "" {
		return
	}
	to, err := w.Job.Spot(s, w.Job.File)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.land(w.At, w.Self, to, s.SameName, w.Ours)
}
