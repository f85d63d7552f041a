package verbs

import (
	"context"
	"slices"
	"strings"

	"stilltide/internal/content"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

var tagVerb = verb(rule.Verb{Name: "tag"}, func() work.Act { return &tag{} })

type tag struct {
	Tags []rule.Text `key:"tag" fits:"^[^,\\n]*$" doc:"tags that are added to the file's (user.xdg.tags)"`

	filled []*fill.Template
}

// Check is part of rule.Act.
func (t *tag) Check(c *notation.Checker) { t.filled = checkTags(c, t.Tags) }

// checkTags compiles tags.
func checkTags(c *notation.Checker, tags []rule.Text) (filled []*fill.Template) {
	for _, one := range tags {
		if strings.ContainsAny(one.S, ",\n") {
			c.Error(one.Pos, "tag", "a tag holds no comma and no line break", "make a list of them")
		}
		filled = append(filled, c.Fill(one, c.Each))
	}
	return filled
}

// fillTags fills tags; one that is empty then is left out.
func fillTags(j *plan.Job, tags []*fill.Template) (list []string, err error) {
	for _, t := range tags {
		text, err := t.Fill(j.Lookup)
		if err != nil {
			return nil, err
		}
		if text = strings.TrimSpace(strings.NewReplacer(",", "_", "\n", " ").Replace(text)); text != "" {
			list = append(list, text)
		}
	}
	return list, nil
}

// Says is part of plan.Act.
func (t *tag) Says(j *plan.Job, _ *rule.Step, _ string) (string, error) {
	tags, err := fillTags(j, t.filled)
	return "tag " + strings.Join(tags, ", "), err
}

// Do is part of work.Act.
func (t *tag) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	return w.Each(s, func(u *job.Unit, j plan.Job) error {
		tags, err := fillTags(&j, t.filled)
		if err != nil {
			return err
		}
		all := content.Tags(u.At)
		for _, one := range tags {
			if !slices.Contains(all, one) {
				all = append(all, one)
			}
		}
		return setTags(w, u, all)
	})
}

// setTags gives a file its tags.
func setTags(w *work.Work, u *job.Unit, all []string) error {
	if slices.Equal(all, content.Tags(u.At)) {
		return nil
	}
	p := &job.Placement{ID: w.Book.Number(), Job: w.Job.ID, Attempt: w.Job.Attempt, Kind: job.Tagged,
		Source: u.At, Target: u.At,
		Facts: u.Facts, After: u.Facts, Kept: content.ReadTags(u.At), State: job.Intended}
	if err := w.Book.Intend([]*job.Placement{p}); err != nil {
		return err
	}
	w.Placed = append(w.Placed, p)
	f, err := watchfs.OpenKnown(w.Job.Watch, u.At, u.Facts)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := content.WriteTags(f, strings.Join(all, ",")); err != nil {
		return err
	}
	w.Done([]*job.Placement{p})
	w.Tell("its tags would be %s", strings.Join(all, ", "))
	return nil
}

// Foretell is part of work.Act.
func (t *tag) Foretell(w *work.Foretelling, _ *rule.Step) {
	tags, err := fillTags(&w.Job, t.filled)
	if err == nil && len(tags) > 0 && w.At != "" && !w.Scene.KeepsTags(w.At) {
		w.Wrong = content.NoTags(w.At).Error()
	}
}
