package verbs

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
	"stilltide/internal/work"
)

var (
	runVerb = verb(rule.Verb{Name: "run", Options: []string{"working_folder", "env", "success_codes", "add_file",
		"stdin", "stdout", "save", "same_name"}, Program: true, Apart: true},
		func() work.Act { return &program{} })
	scriptVerb = verb(rule.Verb{Name: "script", Options: []string{"interpreter", "working_folder", "env",
		"success_codes", "stdin", "stdout", "save", "same_name"}, Program: true, Apart: true},
		func() work.Act { return &program{} })
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
		var to plan.Spot
		to, err = j.Spot(s, j.Path())
		text += " > " + fill.QuoteWord(to.Path())
	}
	if j.Rule.Travels() {
		text += " (pool " + j.Rule.Pool.S + ")"
	}
	return text, err
}

// Do is part of work.Act.
func (program) Do(ctx context.Context, w *work.Work, s *rule.Step) error {
	if p := runProgram(ctx, w, s); p != nil {
		return p
	}
	return nil
}

// Foretell is part of work.Act.
func (program) Foretell(w *work.Foretelling, s *rule.Step) {
	w.Ran = true
	if s.To != nil {
		w.Make(s, scene.Thing{Facts: file.Facts{Exists: true, Regular: true}, Open: true})
	}
}

// runProgram runs a command or script, and keeps its standard output where the
// step wants that.
func runProgram(ctx context.Context, w *work.Work, s *rule.Step) *work.Problem {
	stdout := ""
	if s.Save.Set() || s.Stdout.Set() {
		stdout = filepath.Join(w.Job.Scratch, plan.HiddenPrefix+"stdout-"+fmt.Sprint(s.Pos.Line))
	}
	before := w.Printed // by the steps before
	run := runHere
	w.By = ""
	if travels(w) {
		run = carry
	}
	var err error
	if w.Ran, err = run(ctx, w, s, stdout); err != nil {
		return work.ProblemOf(err)
	}
	w.CPU += w.Ran.CPU
	w.Memory = max(w.Memory, w.Ran.Memory)
	w.Printed = max(w.Printed, w.Ran.Output)
	if w.Ran.Err == nil {
		exit := w.Ran.Exit
		w.Exit, w.Job.Exit = &exit, exit
	}
	if w.Ran.Left {
		w.Note("processes that it left in the background were ended with it")
	}
	if why := judge(ctx, w, s); why != "" {
		if line := plan.Telling(work.LinesAfter(w.Output, before, tellingLines)); line != "" && w.Ran.Err == nil {
			why += ": " + shorten(line)
		}
		return &work.Problem{Text: why, Waits: errors.Is(w.Ran.Err, syscall.ENOSPC) || errors.Is(w.Ran.Err,
			work.ErrPoolAway),
			Missing: errors.As(w.Ran.Err,
				new(runner.Missing)) && sameForAll(s)}
	}
	if s.Save.Set() {
		return work.ProblemOf(save(w, s, stdout))
	}
	if s.Stdout.Set() {
		return work.ProblemOf(keepStdout(w, s, stdout))
	}
	return nil
}

// runHere runs a step's command on this machine.
func runHere(ctx context.Context, w *work.Work, s *rule.Step, stdout string) (res runner.Result, err error) {
	c, err := w.Job.Command(s, w.State)
	if err == nil {
		err = writeScript(c.Script)
	}
	if err == nil {
		err = reachable(w, c)
	}
	if err != nil {
		return res, err
	}
	w.Trial.Begins(c.Args)
	res = w.Runner.Run(ctx, runner.Spec{Args: c.Args, Dir: c.Dir, Env: c.Env, Output: w.Output, Stdout: stdout,
		Stdin: c.Stdin, Timeout: c.Timeout, Secrets: w.Secrets, Ledger: w.State, Job: w.Job.ID,
		Attempt: w.Job.Attempt})
	w.Trial.Ran(res, w.Output)
	return res, nil
}

// sameForAll reports whether a step's program does not depend on the file.
func sameForAll(s *rule.Step) bool { return s.Command == nil || len(s.Command.Words[0].Refs()) == 0 }

// reachable returns an error if something does not answer that a command would wait for
// before it is one: it would hold a worker meanwhile.
func reachable(w *work.Work, c plan.Command) error {
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
func save(w *work.Work, s *rule.Step, path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return saveText(w, s, text)
}

func saveText(w *work.Work, s *rule.Step, text []byte) error {
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
func pretend(w *work.Work, s *rule.Step, value string) {
	if w.Job.Saved == nil {
		w.Job.Saved = map[string]string{}
	}
	for _, word := range s.Save.Words {
		w.Job.Saved[word.S] = value
	}
}

// keepStdout puts what a command printed where stdout: says.
func keepStdout(w *work.Work, s *rule.Step, path string) error {
	facts, err := watchfs.Stat(path)
	if err != nil {
		return err
	}
	to, err := w.Spot(s, w.Job, w.Job.Path())
	if err != nil {
		return err
	}
	return copyTo(w, to, path, facts, s.SameName, nil)
}

// judge says in one sentence why a command failed, "" if it did not.
func judge(ctx context.Context, w *work.Work, s *rule.Step) string {
	program := "the script"
	if s.Command != nil {
		program = filepath.Base(s.Command.Words[0].String())
	}
	run := w.Ran
	program += where(w)
	switch {
	case run.Behind:
		return "the watcher ended; the command goes on elsewhere, and its result is taken up at the next start"
	case run.Err != nil:
		return run.Err.Error()
	case run.Stopped && context.Cause(ctx) == work.ErrTimeout:
		return fmt.Sprintf("%s timed out after %s", program, plan.Span(w.Job.Rule.Timeout.Duration))
	case run.Stopped && context.Cause(ctx) == work.ErrStopJob:
		return "it was stopped"
	case run.Stopped:
		return "the watcher ended"
	case run.TimedOut && w.By != "" && limit(w, s) != s.Timeout.Duration:
		return fmt.Sprintf("%s timed out after %s", program, plan.Span(limit(w, s)))
	case run.TimedOut:
		return fmt.Sprintf("%s timed out after %s (the step's timeout)", program, plan.Span(s.Timeout.Duration))
	case run.Signal != "":
		return fmt.Sprintf("%s was ended by %s", program, run.Signal)
	case !s.Success(run.Exit):
		return fmt.Sprintf("%s ended with exit code %d", program, run.Exit)
	}
	return ""
}

// shorten keeps a printed line to the length of a sentence.
func shorten(line string) string {
	line = strings.TrimSpace(strings.ToValidUTF8(line, "\uFFFD"))
	if r := []rune(line); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return line
}

// writeScript puts a script's text where it is run from. The name holds the
// text's hash, so it is written once.
func writeScript(s *plan.Script) error {
	if s == nil {
		return nil
	}
	if have, err := os.ReadFile(s.Path); err == nil && string(have) == s.Text {
		return nil
	}
	part, err := os.CreateTemp(filepath.Dir(s.Path), ".part-*")
	if err != nil {
		return fmt.Errorf("the script cannot be written: %w", err)
	}
	_, err = part.WriteString(s.Text)
	if closeErr := part.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(part.Name(), s.Path)
	}
	if err != nil {
		os.Remove(part.Name())
		return fmt.Errorf("the script cannot be written: %w", err)
	}
	return nil
}
