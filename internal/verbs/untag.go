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
	"stilltide/internal/work"
)

var untagVerb = verb(rule.Verb{Name: "untag"}, func() work.Act { return &untag{} })

type untag struct {
	Tags []rule.Text `key:"untag" fits:"^[^,\\n]*$" doc:"tags that are taken from the file's (user.xdg.tags)"`

	filled []*fill.Template
}

// Check is part of rule.Act.
func (t *untag) Check(c *notation.Checker) { t.filled = checkTags(c, t.Tags) }

// Says is part of plan.Act.
func (t *untag) Says(j *plan.Job, _ *rule.Step, _ string) (string, error) {
	tags, err := fillTags(j, t.filled)
	return "untag " + strings.Join(tags, ", "), err
}

// Do is part of work.Act.
func (t *untag) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	return w.Each(s, func(u *job.Unit, j plan.Job) error {
		tags, err := fillTags(&j, t.filled)
		if err != nil {
			return err
		}
		have := content.Tags(u.At)
		return setTags(w, u, slices.DeleteFunc(slices.Clone(have),
			func(one string) bool { return slices.Contains(tags, one) }))
	})
}

// Foretell is part of work.Act.
func (t *untag) Foretell(*work.Foretelling, *rule.Step) {}
