package verbs

import (
	"context"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/work"
)

var writeVerb = verb(rule.Verb{Name: "write", Options: []string{"as", "same_name"},
	Needs: []string{"as", "content"}, Puts: rule.PutsOwn, Apart: true},
	func() work.Act { return &write{} })

type write struct {
	Folder  rule.Path `key:"write" doc:"the folder in which a text file is written, named by as: and holding content:"`
	Content rule.Text `key:"content" doc:"the text"`

	text *fill.Template
}

// Check is part of rule.Act.
func (t *write) Check(c *notation.Checker) {
	c.Into(t.Folder)
	t.text = c.Fill(t.Content, c.Words)
}

// Says is part of plan.Act.
func (t *write) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, _, err := j.Lands(s)
	return "write to " + plan.Display(to.Path()), err
}

// Do is part of work.Act.
func (t *write) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	text, err := t.text.Fill(w.Job.Lookup)
	if err != nil {
		return err
	}
	to, err := w.Spot(s, w.Job, w.Job.Path())
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.Placing(job.Put, "", file.Facts{}, &req, s.SameName)
	res, err := w.Placer.Write(req, []byte(text))
	if w.Left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.Done(*list, res)
	w.Tell("would be written: %s", res.Target)
	return nil
}

// Foretell is part of work.Act.
func (t *write) Foretell(w *work.Foretelling, s *rule.Step) {
	text, err := t.text.Fill(w.Job.Lookup)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.Make(s, scene.Thing{Facts: file.Facts{Exists: true, Regular: true, Size: int64(len(text)), Mod: file.At(w.Now)},
		Text: []byte(text)})
}
