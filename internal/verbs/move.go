package verbs

import (
	"context"
	"path/filepath"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/work"
)

var moveVerb = verb(rule.Verb{Name: "move", Options: []string{"from", "as", "same_name"},
	Takes: rule.TakesUnlessFrom, Puts: rule.PutsFile},
	func() work.Act { return &move{} })

type move struct {
	Folder rule.Path `key:"move" doc:"the folder to which the file, or from:, is moved"`
}

// Check is part of rule.Act.
func (m *move) Check(c *notation.Checker) { c.Into(m.Folder) }

// Says is part of plan.Act.
func (m *move) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, from, err := j.Lands(s)
	if err != nil {
		return "", err
	}
	if len(from) > 0 {
		return sayOthers(s.Verb(), from, to), nil
	}
	j.At = to.Path()
	return "move to " + plan.Display(to.Path()), nil
}

// Do is part of work.Act.
func (m *move) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	if len(s.From) == 0 {
		return w.Each(s, func(u *job.Unit, j plan.Job) error { return moveOne(w, s, u, j) })
	}
	return w.Others(s, func(path string, facts file.Facts) error { return moveOther(w, s, path, facts) })
}

// Foretell is part of work.Act.
func (m *move) Foretell(w *work.Foretelling, s *rule.Step) {
	if len(s.From) == 0 {
		foretellMove(w, s)
		return
	}
	w.Others(s, func(path string, t scene.Thing) { foretellOther(w, s, path, t, true) },
		func(path string) { foretellMade(w, s, path) })
}

// moveOne moves or renames one of the job's files, and follows it.
func moveOne(w *work.Work, s *rule.Step, u *job.Unit, j plan.Job) error {
	to, err := w.Spot(s, j, u.At)
	if err != nil {
		return err
	}
	req := place.Request{To: to, Passing: true}
	list := w.Placing(job.Moved, u.At, u.Facts, &req, s.SameName)
	res, err := w.Placer.Move(req)
	if w.Left(err) {
		return nil
	}
	if err != nil {
		return w.Gone(*list, err)
	}
	w.Done(*list, res)
	w.PlacedAt(to.Path())
	if res.Here {
		return nil
	}
	w.Tell("%s would be moved to %s", filepath.Base(u.At), res.Target)
	u.At, u.Facts = res.Target, res.Facts
	w.Follow(u)
	return nil
}

// moveOther moves a file that is none of the job's.
func moveOther(w *work.Work, s *rule.Step, path string, facts file.Facts) error {
	to, err := w.Spot(s, w.Job, path)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.Placing(job.Moved, path, facts, &req, s.SameName)
	res, err := w.Placer.Move(req)
	if w.Left(err) {
		return nil
	}
	if err != nil {
		return w.Gone(*list, err)
	}
	w.Done(*list, res)
	if !res.Here {
		w.Tell("%s would be moved to %s", filepath.Base(path), res.Target)
		w.WentTo(path, res.Target, res.Facts)
	}
	return nil
}

// foretellMove foretells a move or a rename of the job's own file.
func foretellMove(w *work.Foretelling, s *rule.Step) {
	to, err := w.Job.Spot(s, w.Job.Path())
	switch {
	case err != nil:
		w.Wrong = err.Error()
	case w.Scratch(to.Path()):
		w.Open = true
	default:
		w.Move(to, s.SameName)
	}
}

// foretellOther foretells that a file which is none of the job's is moved or copied.
func foretellOther(w *work.Foretelling, s *rule.Step, path string, t scene.Thing, moved bool) {
	to, err := w.Job.Spot(s, path)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	l := w.Scene.Land(path, t, to, s.SameName, nil)
	if w.Wrong = l.Wrong; l.Wrong != "" || l.Here || l.Skipped {
		return
	}
	if moved {
		w.Scene.Remove(path)
		if path == w.At { // its own file, by another way
			w.At, w.Job.At = l.Path, l.Path
		}
	}
	w.Scene.Put(l, t, w.Job.Rule.Name.S)
	w.Job.Placed = l.Path
	w.Arrives(l)
}

// foretellMade foretells that what a command has made is moved or copied.
func foretellMade(w *work.Foretelling, s *rule.Step, path string) {
	to, err := w.Job.Spot(s, path)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.Land("", scene.Thing{Facts: file.Facts{Exists: true, Regular: true}, Open: true}, to, s.SameName, nil)
}
