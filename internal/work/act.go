package work

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/watchfs"
)

// Act is all that a verb must be able to do. Each verb is a type in a file of its own, with
// the keys that it alone has; what its steps placed is taken back by the records that Do
// leaves.
type Act interface {
	notation.Checked // what is written
	plan.Act         // says what would be done
	Foretell(w *Foretelling, s *rule.Step)
	Do(ctx context.Context, w *Work, s *rule.Step) error
}

// Step does one step.
func (w *Work) Step(ctx context.Context, s *rule.Step) *Problem {
	applies, err := w.Job.Applies(s)
	if err != nil || !applies {
		return ProblemOf(err)
	}
	if t := s.Timeout.Duration; t > 0 && !s.Runs() {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, t)
		defer cancel()
	}
	placer := *w.Placer
	placer.Cancel = ctx.Done()
	defer func(was *place.Placer) { w.Placer = was }(w.Placer)
	w.Placer = &placer
	return w.ended(ctx, s, s.Act.(Act).Do(ctx, w, s))
}

// Each does something with each of the job's files.
func (w *Work) Each(s *rule.Step, do func(u *job.Unit, j plan.Job) error) error {
	for i := range w.Units {
		u := &w.Units[i]
		j := w.as(u)
		switch {
		case u.At != "" || s.Kind().Apart:
		case j.Event == file.Removed:
			return fmt.Errorf("%s was removed, so there is nothing to %s; where: event != \"removed\" leaves the "+
				"step out then", plan.Display(u.Taken), s.Verb())
		default:
			return errors.New("an earlier step has discarded the file")
		}
		if err := do(u, j); err != nil {
			return err
		}
	}
	return nil
}

// Others does something with the files that from names.
func (w *Work) Others(s *rule.Step, do func(path string, facts file.Facts) error) error {
	globs, err := w.Job.Sources(s)
	if err != nil {
		return err
	}
	for _, glob := range globs {
		paths, err := filepath.Glob(glob)
		if err != nil {
			return fmt.Errorf("from: %s is not a pattern: %w", glob, err)
		}
		paths = slices.DeleteFunc(paths, func(path string) bool { return plan.Hidden(filepath.Base(path)) })
		if len(paths) == 0 {
			return fmt.Errorf("from: there is no %s", plan.Display(glob))
		}
		for _, path := range paths {
			facts, err := lookAtOther(path)
			if err == nil {
				err = do(path, facts)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func lookAtOther(path string) (file.Facts, error) {
	facts, err := watchfs.Stat(path)
	if err == nil && facts.Dir {
		facts, err = watchfs.LookTree(path)
	}
	if err == nil && !facts.Exists {
		err = fmt.Errorf("%s: %w", plan.Display(path), job.ErrGone) // another job was quicker
	}
	return facts, err
}

// act does a step in the scene.
func (w *Foretelling) act(s *rule.Step) {
	switch {
	case w.At != "":
	case w.Thrown == ToTheTrash:
		w.Doubt = true // what is done with a file in the trash is not foretold
		return
	case len(s.From) == 0 && !s.Kind().Apart:
		w.Wrong = "an earlier step has discarded the file"
		return
	}
	s.Act.(Act).Foretell(w, s)
}

// Others foretells something for the files that from names; made, for one that a command
// is to make under a path that is spelled out.
func (w *Foretelling) Others(s *rule.Step, each func(path string, t scene.Thing), made func(path string)) {
	globs, err := w.Job.Sources(s)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	for _, glob := range globs {
		if w.Scratch(glob) {
			if w.Doubt = true; !w.Ran {
				w.Wrong = "from: there is no " + plan.Display(glob) + ": no command before has made it"
			} else if made != nil && !strings.ContainsAny(filepath.Base(glob), "*?[") {
				made(glob)
			}
			continue
		}
		paths := w.Scene.Glob(glob)
		if len(paths) == 0 {
			w.Wrong = "from: there is no " + plan.Display(glob)
		}
		for _, path := range paths {
			if t, _ := w.Scene.Look(path); w.Wrong == "" {
				each(path, t)
			}
		}
	}
}
