package work

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
)

var writeVerb = verb(rule.Verb{Name: "write", Options: []string{"as", "same_name"},
	Needs: []string{"as", "content"}, Puts: rule.PutsOwn, Apart: true},
	func() act { return &write{} })

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

func (t *write) do(_ context.Context, w *Work, s *rule.Step) error {
	text, err := t.text.Fill(w.Job.Lookup)
	if err != nil {
		return err
	}
	to, err := w.spot(s, w.Job, w.Job.Path())
	if err != nil {
		return err
	}
	req := place.Request{To: to}
	list := w.placing(job.Put, "", file.Facts{}, &req, s.SameName)
	res, err := w.Placer.Write(req, []byte(text))
	if w.left(err) {
		return nil
	}
	if err != nil {
		return err
	}
	w.done(*list, res)
	w.tell("would be written: %s", res.Target)
	return nil
}

func (t *write) foretell(w *Foretelling, s *rule.Step) {
	text, err := t.text.Fill(w.Job.Lookup)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.make(s, scene.Thing{Facts: file.Facts{Exists: true, Regular: true, Size: int64(len(text)), Mod: file.At(w.Now)},
		Text: []byte(text)})
}
