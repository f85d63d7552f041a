package verbs

import (
	"context"
	"fmt"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/work"
)

var tellVerb = verb(rule.Verb{Name: "tell", Needs: []string{"text"}, Apart: true}, func() work.Act { return &tell{} })

type tell struct {
	Channel rule.Text `key:"tell" doc:"the channel that is told; log is always there"`
	Text    rule.Text `key:"text" doc:"what the notice says"`

	text *fill.Template
}

// Check is part of rule.Act.
func (t *tell) Check(c *notation.Checker) {
	t.text = c.Fill(t.Text, c.Words)
	c.Channel(t.Channel)
}

// Says is part of plan.Act.
func (t *tell) Says(j *plan.Job, _ *rule.Step, _ string) (string, error) {
	text, err := t.text.Fill(j.Lookup)
	return fmt.Sprintf("tell %s: %s", t.Channel.S, plan.Display(text)), err
}

// Do is part of work.Act.
func (t *tell) Do(_ context.Context, w *work.Work, _ *rule.Step) error {
	text, err := t.text.Fill(w.Job.Lookup)
	if err != nil {
		return err
	}
	if w.Trying() {
		w.Tell("would tell %s: %s", t.Channel.S, text)
		return nil
	}
	w.Book.Notice(t.Channel.S, text, w.Job)
	return nil
}

// Foretell is part of work.Act.
func (t *tell) Foretell(*work.Foretelling, *rule.Step) {}
