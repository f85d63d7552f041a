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

var linkVerb = verb(rule.Verb{Name: "link", Options: []string{"from", "as", "same_name"}, Puts: rule.PutsFile,
	Files: rule.SuitsFiles},
	func() work.Act { return &link{} })

type link struct {
	Folder rule.Path `key:"link" doc:"the folder in which a symbolic link leads to the file, or to from:"`
	Hard   bool      `key:"hard" default:"false" doc:"true: no symbolic link, but a second name of the file itself, on the same file system"`
}

// Check is part of rule.Act.
func (l *link) Check(c *notation.Checker) {
	c.Into(l.Folder)
	if !l.Hard && len(c.Step.From) == 0 && c.FileGoesOn() {
		c.ErrorAt("link", "link", "this link would lead nowhere, because the file goes elsewhere after it",
			"put link after the step that moves the file, with no processed:, or write hard: true")
	}
}

// Says is part of plan.Act.
func (l *link) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, from, err := j.Lands(s)
	if err != nil {
		return "", err
	}
	if len(from) > 0 {
		return sayOthers(s.Verb(), from, to), nil
	}
	return "link from " + plan.Display(to.Path()), nil
}

// Do is part of work.Act.
func (l *link) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	if len(s.From) == 0 {
		return w.Each(s, func(u *job.Unit, j plan.Job) error { return l.link(w, s, j, u.At, u.Facts) })
	}
	return w.Others(s, func(path string, facts file.Facts) error { return l.link(w, s, w.Job, path, facts) })
}

// link makes one link.
func (l *link) link(w *work.Work, s *rule.Step, j plan.Job, source string, facts file.Facts) error {
	to, err := w.Spot(s, j, source)
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	kind, link := job.Linked, w.Placer.Symlink
	if l.Hard {
		kind, link = job.Put, w.Placer.Link
	}
	list := w.Placing(kind, source, facts, &req, s.SameName)
	res, err := link(req)
	if w.Left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.Done(*list, res)
	w.PlacedAt(to.Path())
	switch {
	case res.Here || res.Same && !l.Hard:
		w.Note("it was linked from " + res.Target + " already")
	case res.Same:
		w.Note("its content was already in " + res.Target)
	default:
		w.Tell("%s would be linked from %s", filepath.Base(source), res.Target)
	}
	return nil
}

// Foretell is part of work.Act.
func (l *link) Foretell(w *work.Foretelling, s *rule.Step) {
	if len(s.From) > 0 {
		w.Others(s, func(path string, t scene.Thing) { l.foretellOne(w, s, path, t) }, nil)
		return
	}
	l.foretellOne(w, s, w.At, w.Self)
}

func (l *link) foretellOne(w *work.Foretelling, s *rule.Step, source string, t scene.Thing) {
	to, err := w.Job.Spot(s, source)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	if l.Hard {
		l.foretellHard(w, s, source, t, to)
		return
	}
	t = scene.Thing{Facts: file.Facts{Exists: true}} // no rule takes a symbolic link
	at := w.Scene.Land("", t, to, s.SameName, nil)
	w.Clash(at, to.Name)
	if w.Wrong = at.Wrong; at.Wrong == "" && !at.Skipped {
		w.Scene.Put(at, t, w.Job.Rule.Name.S)
		w.Job.Placed = at.Path
	}
}

func (l *link) foretellHard(w *work.Foretelling, s *rule.Step, source string, t scene.Thing, to plan.Spot) {
	if !w.Scene.Together(source, to.Path()) {
		at := w.Scene.Land(source, t, to, s.SameName, nil)
		if at.Wrong == "" && !at.Skipped && !at.Same && !at.Here {
			w.Wrong = plan.NoSecondName{File: source, Folder: to.Folder()}.Error()
			return
		}
	}
	w.Land(source, t, to, s.SameName, nil)
}
