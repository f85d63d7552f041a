package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/runner"
	"stilltide/internal/scene"
	"stilltide/internal/watchfs"
)

var (
	runVerb = verb(rule.Verb{Name: "run", Options: []string{"working_folder", "env", "success_codes", "add_file",
		"stdin", "stdout", "save", "same_name"}, Program: true, Apart: true},
		func() act { return &program{} })
	scriptVerb = verb(rule.Verb{Name: "script", Options: []string{"interpreter", "working_folder", "env",
		"success_codes", "stdin", "stdout", "save", "same_name"}, Program: true, Apart: true},
		func() act { return &program{} })
)

// program is run and script: their keys are the rule's, too, so that the step has them.
type program struct{}

// Check is part of rule.Act.
func (program) Check(c *notation.Checker) { c.Program() }

// Says is part of plan.Act.
func (program) Says(j *plan.Job, s *rule.Step, state string) (string, error) {
	command, err := j.Command(s, state)
	if err != nil {
		return "", err
	}
	text := "run " + fill.Quote(command.Args)
	if command.Script != nil {
		text = "script, on " + plan.Display(filepath.Base(j.Path()))
	}
	if s.To != nil {
		to, err := j.Spot(s, j.Path())
		return text + " > " + fill.QuoteWord(to.Path()), err
	}
	return text, nil
}

func (program) do(ctx context.Context, w *Work, s *rule.Step) error {
	if p := w.program(ctx, s); p != nil {
		return p
	}
	return nil
}

func (program) foretell(w *Foretelling, s *rule.Step) {
	w.ran = true
	if s.To != nil {
		w.make(s, scene.Thing{Facts: file.Facts{Exists: true, Regular: true}, Open: true})
	}
}

// program runs a command or script, and keeps its standard output where the
// step wants that.
func (w *Work) program(ctx context.Context, s *rule.Step) *Problem {
	stdout := ""
	if s.Save.Set() || s.Stdout.Set() {
		stdout = filepath.Join(w.Job.Scratch, "stdout-"+fmt.Sprint(s.Pos.Line))
	}
	before := w.printed // by the steps before
	run := w.runHere
	w.by = ""
	if w.travels() {
		run = w.carry
	}
	var err error
	if w.run, err = run(ctx, s, stdout); err != nil {
		return problemOf(err)
	}
	w.CPU += w.run.CPU
	w.Memory = max(w.Memory, w.run.Memory)
	w.printed = max(w.printed, w.run.Output)
	if w.run.Err == nil {
		exit := w.run.Exit
		w.Exit, w.Job.Exit = &exit, exit
	}
	if w.run.Left {
		w.note("processes that it left in the background were ended with it")
	}
	if why := w.judge(ctx, s); why != "" {
		if line := plan.Telling(lastLines(w.Output, before, tellingLines)); line != "" && w.run.Err == nil {
			why += ": " + shorten(line)
		}
		return &Problem{Text: why, Waits: errors.Is(w.run.Err, syscall.ENOSPC) || errors.Is(w.run.Err, ErrPoolAway),
			Missing: errors.As(w.run.Err,
				new(runner.Missing)) && sameForAll(s)}
	}
	if s.Save.Set() {
		return problemOf(w.save(s, stdout))
	}
	if s.Stdout.Set() {
		return problemOf(w.keepStdout(s, stdout))
	}
	return nil
}

// runHere runs a step's command on this machine.
func (w *Work) runHere(ctx context.Context, s *rule.Step, stdout string) (res runner.Result, err error) {
	c, err := w.Job.Command(s, w.State)
	if err == nil {
		err = writeScript(c.Script)
	}
	if err == nil {
		err = w.reachable(c)
	}
	if err != nil {
		return res, err
	}
	if w.trial != nil {
		fmt.Fprintf(w.trial.out, "$ %s\n", fill.Quote(c.Args))
	}
	res = w.Runner.Run(ctx, runner.Spec{Args: c.Args, Dir: c.Dir, Env: c.Env, Output: w.Output, Stdout: stdout,
		Stdin: c.Stdin, Timeout: c.Timeout, Secrets: w.Secrets, Ledger: w.State, Job: w.Job.ID,
		Attempt: w.Job.Attempt})
	w.trial.ran(res, w.Output)
	return res, nil
}

// sameForAll reports whether a step's program does not depend on the file.
func sameForAll(s *rule.Step) bool { return s.Command == nil || len(s.Command.Words[0].Refs()) == 0 }

// reachable returns an error if something does not answer that a command would wait for
// before it is one: it would hold a worker meanwhile.
func (w *Work) reachable(c plan.Command) error {
	for _, path := range []string{c.Dir, c.Args[0], c.Stdin} {
		if !filepath.IsAbs(path) {
			continue
		}
		if err := w.Book.Answers(path); err != nil {
			return err
		}
	}
	return nil
}

// tellingLines is among how many of its last lines the reason of a failure is looked for.
const tellingLines = 40

// maxSaved bounds what save keeps, in bytes.
const maxSaved = 1 << 20

// save keeps what a command printed as a word.
func (w *Work) save(s *rule.Step, path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return w.saveText(s, text)
}

func (w *Work) saveText(s *rule.Step, text []byte) error {
	if len(text) > maxSaved {
		return fmt.Errorf("save: %d bytes were printed, and at most %d can be saved; use stdout: for more",
			len(text), maxSaved)
	}
	if w.Job.Saved == nil {
		w.Job.Saved = map[string]string{}
	}
	if s.Save.Fields == nil {
		w.Job.Saved[s.Save.Words[0].S] = strings.TrimSpace(string(text))
		return nil
	}
	for i, field := range s.Save.Fields {
		value, err := fieldOf(text, field)
		if err != nil {
			return fmt.Errorf("save: %w", err)
		}
		w.Job.Saved[s.Save.Words[i].S] = value
	}
	return nil
}

// pretend gives the words that a step saves a value in a trial.
func (w *Work) pretend(s *rule.Step, value string) {
	if w.Job.Saved == nil {
		w.Job.Saved = map[string]string{}
	}
	for _, word := range s.Save.Words {
		w.Job.Saved[word.S] = value
	}
}

// keepStdout puts what a command printed where stdout: says.
func (w *Work) keepStdout(s *rule.Step, path string) error {
	facts, err := watchfs.Stat(path)
	if err != nil {
		return err
	}
	to, err := w.spot(s, w.Job, w.Job.Path())
	if err != nil {
		return err
	}
	return w.copyTo(to, path, facts, s.SameName, nil)
}

// judge says in one sentence why a command failed, "" if it did not.
func (w *Work) judge(ctx context.Context, s *rule.Step) string {
	program := "the script"
	if s.Command != nil {
		program = filepath.Base(s.Command.Words[0].String())
	}
	run := w.run
	program += w.where()
	switch {
	case run.Behind:
		return "the watcher ended; the command goes on elsewhere, and its result is taken up at the next start"
	case run.Err != nil:
		return run.Err.Error()
	case run.Stopped && context.Cause(ctx) == ErrTimeout:
		return fmt.Sprintf("%s timed out after %s", program, plan.Span(w.Job.Rule.Timeout.Duration))
	case run.Stopped && context.Cause(ctx) == ErrStopJob:
		return "it was stopped"
	case run.Stopped:
		return "the watcher ended"
	case run.TimedOut && w.by != "" && w.limit(s) != s.Timeout.Duration:
		return fmt.Sprintf("%s timed out after %s", program, plan.Span(w.limit(s)))
	case run.TimedOut:
		return fmt.Sprintf("%s timed out after %s (the step's timeout)", program, plan.Span(s.Timeout.Duration))
	case run.Signal != "":
		return fmt.Sprintf("%s was ended by %s", program, run.Signal)
	case !s.Success(run.Exit):
		return fmt.Sprintf("%s ended with exit code %d", program, run.Exit)
	}
	return ""
}
