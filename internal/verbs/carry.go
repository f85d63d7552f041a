package verbs

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/rule"
	"stilltide/internal/runner"
	"stilltide/internal/work"
)

// travels reports whether a step's command runs on another machine.
func travels(w *work.Work) bool { return w.Away && w.Carrier != nil && !w.Trying() }

// carry runs a step's command on another machine.
func carry(ctx context.Context, w *work.Work, s *rule.Step, stdout string) (runner.Result, error) {
	there, carried := w.Job.Elsewhere(work.AwayRoot, w.Carrier.Shared())
	c, err := there.Command(s, work.AwayRoot)
	if err != nil {
		return runner.Result{}, err
	}
	bring, err := work.Brought(w.Job.Rule)
	if err != nil {
		return runner.Result{}, err
	}
	t := work.Trip{Pool: w.Job.Rule.Pool.S, Rule: w.Job.Rule.Name.S, Job: w.Job.ID, Attempt: w.Job.Attempt,
		Step: stepNumber(w, s), Args: c.Args, Env: c.Env, Secrets: w.Secrets, Stdin: c.Stdin, Timeout: limit(w, s),
		RunHere: w.Job.Rule.WhileAway == rule.AwayRunHere,
		Inputs:  carried, Bring: bring, Scratch: w.Job.Scratch, Output: w.Output, Stdout: stdout}
	if base := s.Base + string(filepath.Separator); strings.HasPrefix(c.Args[0], base) && s.Command != nil {
		t.Args[0] = work.AwayRoot + "/work/" + filepath.ToSlash(strings.TrimPrefix(c.Args[0], base))
	}
	if c.Script != nil {
		t.Texts = append(t.Texts, work.TripText{Path: strings.TrimPrefix(c.Script.Path, work.AwayRoot+"/"),
			Text: c.Script.Text, Mode: 0o700})
	}
	if there.Files != nil {
		t.Texts = append(t.Texts, work.TripText{Path: "list.txt", Text: strings.Join(there.Files, "\n") + "\n",
			Mode: 0o600},
			work.TripText{Path: "list0.txt", Text: strings.Join(there.Files, "\x00") + "\x00", Mode: 0o600})
	}
	res, by := w.Carrier.Carry(ctx, t)
	if w.By = by; by != "" {
		w.Note("on " + by + afterOthers(res.Lost))
	}
	w.Behind = res.Behind
	return res, nil
}

// limit is how long a command may take elsewhere: a rule's bound on an attempt counts there, and
// not while it waits for a machine.
func limit(w *work.Work, s *rule.Step) time.Duration {
	step, attempt := s.Timeout.Duration, w.Job.Rule.Timeout.Duration
	if step == 0 || attempt > 0 && attempt < step {
		return attempt
	}
	return step
}

// stepNumber is the place of a step in its rule, from 0.
func stepNumber(w *work.Work, s *rule.Step) int {
	for i := range w.Job.Rule.Steps {
		if s == &w.Job.Rule.Steps[i] {
			return i
		}
	}
	return 0
}

// afterOthers says why a command was begun more than once.
func afterOthers(lost int) string {
	if lost == 0 {
		return ""
	}
	return fmt.Sprintf(" (begun %d times: a machine that had it before was lost, or gave it back)", lost+1)
}

// where says on which machine the command of a failed step ran.
func where(w *work.Work) string {
	if w.By == "" {
		return ""
	}
	return fmt.Sprintf(" on %s", w.By)
}
