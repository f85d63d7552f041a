// Package work does an attempt: a job's steps, one after the other, until one fails. A failed
// attempt takes back what its steps placed, newest first.
//
// What a step would do is foretold with the same parts, in a picture of the folders instead
// of the folders themselves ([Foretelling], [scene.Scene]), and a rule is tried on a copy with the
// same parts in a throwaway folder ([Trial]). The one who has the work done hears of each
// placement before it is made, by [Book], and may refuse it.
package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/watchfs"
)

// Took lists the files that the steps took away, besides the job's own.
func (w *Work) Took() (paths []string) {
	for _, p := range w.Placed {
		switch p.Kind {
		case job.Moved, job.Duplicate, job.Trashed, job.Deleted:
			if p.State == job.Done && p.Source != w.Job.File {
				paths = append(paths, p.Source)
			}
		}
	}
	return paths
}

// IsThere reports whether a path is there, by the path itself or what a link leads to.
func IsThere(path string) (bool, error) {
	f, err := watchfs.Stat(path)
	return f.Exists, err
}

// All does the steps, one after the other, until one fails.
func (w *Work) All(ctx context.Context) *Problem {
	r := w.Job.Rule
	for i := range r.Steps {
		p := w.Step(ctx, &r.Steps[i])
		if p == nil && ctx.Err() != nil && i < len(r.Steps)-1 {
			p = &Problem{Text: whyEnded(ctx, r)}
		}
		if p != nil {
			p.Text = stepName(r, i) + p.Text
			return p
		}
	}
	return nil
}

// whyEnded says why an attempt ended between or within steps that run no program.
func whyEnded(ctx context.Context, r *rule.Rule) string {
	switch context.Cause(ctx) {
	case ErrTimeout:
		return fmt.Sprintf("it timed out after %s", plan.Span(r.Timeout.Duration))
	case ErrStopJob:
		return "it was stopped"
	}
	return "the watcher ended"
}

var (
	ErrTimeout = errors.New("the attempt timed out")
	ErrStopJob = errors.New("the job is to be stopped")
)

// Scratch makes the attempt's own folder, if a step uses it.
func (w *Work) Scratch() (string, error) {
	if !w.Job.Rule.NeedsScratch() {
		return "", nil
	}
	path := filepath.Join(w.State, "scratch", fmt.Sprintf("%d-%d", w.Job.ID, w.Job.Attempt))
	if err := os.MkdirAll(path, 0o700); err != nil {
		return "", fmt.Errorf("the scratch folder cannot be made: %w", err)
	}
	w.Job.Scratch = path
	if w.Job.Files == nil {
		return path, nil
	}
	w.Job.List, w.Job.List0 = filepath.Join(path, "list.txt"), filepath.Join(path, "list0.txt")
	return path, writeLists(w.Job)
}

// writeLists writes the files that list those of a batch or group.
func writeLists(j plan.Job) error {
	err := os.WriteFile(j.List0, []byte(strings.Join(j.Files, "\x00")+"\x00"), 0o600)
	if j.Listable() == nil {
		err = errors.Join(err, os.WriteFile(j.List, []byte(strings.Join(j.Files, "\n")+"\n"), 0o600))
	}
	if err != nil {
		return fmt.Errorf("the list of files cannot be written: %w", err)
	}
	return nil
}

// shorten keeps a printed line to the length of a sentence.
func shorten(line string) string {
	line = strings.TrimSpace(strings.ToValidUTF8(line, "\uFFFD"))
	if r := []rune(line); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return line
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

// KeepOutput returns the output's name, or removes the file and gives "" if
// nothing was printed.
func (w *Work) KeepOutput(name string) string {
	if w.printed == 0 {
		os.Remove(w.Output)
		return ""
	}
	return name
}

// LastLines reads the last lines of a file, at most n of them and 4 KiB.
func LastLines(path string, n int) []string { return lastLines(path, 0, n) }

// lastLines is LastLines without what stands before an offset.
func lastLines(path string, from int64, n int) []string {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	const most = 4 << 10
	if info, err := f.Stat(); err == nil {
		f.Seek(max(from, info.Size()-most), io.SeekStart)
	}
	text, err := io.ReadAll(io.LimitReader(f, most))
	if err != nil || len(bytes.TrimSpace(text)) == 0 {
		return nil
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	lines = lines[max(0, len(lines)-n):]
	for i := range lines {
		lines[i] = fill.PlainLine(strings.TrimRight(lines[i], "\r"))
	}
	return lines
}
