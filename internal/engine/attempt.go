package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/runner"
)

// attempt runs a job's steps, one after the other, in a goroutine of its own.
func (e *Engine) attempt(ctx context.Context, a *attempt) attemptResult {
	begun := time.Now()
	res := attemptResult{id: a.plan.ID}
	defer func() { res.ran = time.Since(begun) }()
	if a.hash {
		sum, err := hashFile(a.plan.File)
		if err != nil {
			res.reason = "the file cannot be read: " + err.Error()
			return res
		}
		res.hash, a.plan.Hash = sum, sum
		if e.handledBefore(a, sum) {
			res.same = true
			return res
		}
	}
	output := filepath.Join("output", fmt.Sprintf("%d-%d.txt", a.plan.ID, a.number))
	if scratch, err := e.scratch(a); err != nil {
		res.reason = err.Error()
		return res
	} else if scratch != "" {
		defer os.RemoveAll(scratch)
	}
	if t := a.plan.Rule.Timeout.Duration; t > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, t, errAttemptTimeout)
		defer cancel()
	}
	defer e.bounded(output)()
	res.ok = true
	for i := range a.plan.Rule.Steps {
		if !e.step(ctx, a, i, output, &res) {
			res.ok = false
			break
		}
	}
	res.output = keepOutput(e.state, output)
	res.ran = time.Since(begun)
	return res
}

var (
	errAttemptTimeout = errors.New("the attempt's time is over")
	errStopJob        = errors.New("the job is to be stopped")
)

// handledBefore tells whether the content need not be handled again.
func (e *Engine) handledBefore(a *attempt, sum string) bool {
	if a.unless != "" && a.unless == sum {
		return true
	}
	if !a.never {
		return false
	}
	if e.ledger.Flush() != nil { // what the job before remembered may not be in the file yet
		return false
	}
	known, err := e.ledger.KnowsContent(a.plan.Rule.Name.S, sum, a.plan.ID)
	return err == nil && known
}

// scratch makes the attempt's own folder, if a step uses it.
func (e *Engine) scratch(a *attempt) (string, error) {
	if !a.plan.Rule.Uses("scratch", "list", "list0") {
		return "", nil
	}
	path := filepath.Join(e.state, "scratch", fmt.Sprintf("%d-%d", a.plan.ID, a.number))
	if err := os.MkdirAll(path, 0o700); err != nil {
		return "", fmt.Errorf("the scratch folder cannot be made: %w", err)
	}
	a.plan.Scratch = path
	if a.plan.Files == nil {
		return path, nil
	}
	a.plan.List, a.plan.List0 = filepath.Join(path, "list.txt"), filepath.Join(path, "list0.txt")
	return path, writeLists(a.plan)
}

// writeLists writes the files that list those of a burst or set.
func writeLists(j plan.Job) error {
	err := errors.Join(
		os.WriteFile(j.List, []byte(strings.Join(j.Files, "\n")+"\n"), 0o600),
		os.WriteFile(j.List0, []byte(strings.Join(j.Files, "\x00")+"\x00"), 0o600))
	if err != nil {
		return fmt.Errorf("the list of files cannot be written: %w", err)
	}
	return nil
}

// step runs one step; false ends the attempt.
func (e *Engine) step(ctx context.Context, a *attempt, i int, output string, res *attemptResult) bool {
	s := &a.plan.Rule.Steps[i]
	c, err := a.plan.Command(s, e.state)
	if err == nil {
		err = writeScript(c.Script)
	}
	if err != nil {
		res.reason = stepName(a.plan.Rule, i) + err.Error()
		return false
	}
	run := e.runner.Run(ctx, runner.Spec{
		Args: c.Args, Dir: c.Dir, Env: c.Env, Output: filepath.Join(e.state, output), Timeout: c.Timeout,
		Ledger: e.state, Job: a.plan.ID, Attempt: a.number,
	})
	res.cpu += run.CPU
	res.memory = max(res.memory, run.Memory)
	if run.Err == nil {
		exit := run.Exit
		res.exit = &exit
	}
	reason := e.judge(ctx, s, a.plan.Rule, run, res)
	if reason == "" {
		return true
	}
	if last := LastLines(filepath.Join(e.state, output), 1); len(last) == 1 && run.Err == nil {
		reason += ": " + shorten(last[0])
	}
	res.reason = stepName(a.plan.Rule, i) + reason
	return false
}

// shorten keeps the last printed line to the length of a sentence.
func shorten(line string) string {
	line = strings.TrimSpace(strings.ToValidUTF8(line, "\uFFFD"))
	if r := []rune(line); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return line
}

// judge says in one sentence why a step failed, "" if it did not.
func (e *Engine) judge(ctx context.Context, s *rule.Step, r *rule.Rule, run runner.Result, res *attemptResult) string {
	program := "the script"
	if s.Verb() == "run" {
		program = filepath.Base(s.Command.Words[0].String())
	}
	switch {
	case run.Err != nil:
		return run.Err.Error()
	case run.Stopped && context.Cause(ctx) == errAttemptTimeout:
		return fmt.Sprintf("%s was ended after %s (timeout)", program, plan.Span(r.Timeout.Duration))
	case run.Stopped && context.Cause(ctx) == errStopJob:
		return "it was stopped"
	case run.Stopped:
		res.stopped = true
		return "the watcher ended"
	case run.TimedOut:
		return fmt.Sprintf("%s was ended after %s (the step's timeout)", program, plan.Span(s.Timeout.Duration))
	case run.Signal != "":
		return fmt.Sprintf("%s was ended by %s", program, run.Signal)
	case !s.Success(run.Exit):
		return fmt.Sprintf("%s ended with exit code %d", program, run.Exit)
	}
	return ""
}

// stepName names the step in messages where a rule has several.
func stepName(r *rule.Rule, i int) string {
	if len(r.Steps) < 2 {
		return ""
	}
	return fmt.Sprintf("step %d: ", i+1)
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

// keepOutput gives the output's path, or removes the file and gives "" if
// nothing was printed.
func keepOutput(state, output string) string {
	path := filepath.Join(state, output)
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	if info.Size() == 0 {
		os.Remove(path)
		return ""
	}
	return output
}

// LastLines reads the last lines of a file, at most n of them and 4 KiB.
func LastLines(path string, n int) []string {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	const most = 4 << 10
	if info, err := f.Stat(); err == nil && info.Size() > most {
		f.Seek(-most, io.SeekEnd)
	}
	text, err := io.ReadAll(io.LimitReader(f, most))
	if err != nil || len(bytes.TrimSpace(text)) == 0 {
		return nil
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	return lines[max(0, len(lines)-n):]
}

func hashFile(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
