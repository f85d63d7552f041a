// Package work does an attempt: a job's steps, one after the other, until one fails. A failed
// attempt takes back what its steps placed, newest first.
//
// What a step would do is foretold with the same parts, in a picture of the folders instead
// of the folders themselves ([Foretelling], [scene.Scene]), and a rule is tried on a copy with the
// same parts in a throwaway folder ([Trial]). The one who has the work done hears of each
// placement before it is made, by [Book], and may refuse it.
//
// The verbs, of which steps are made, stand in a room of their own: here is what each must be able
// to do ([Act]), and what it acts with.
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
	w.Job.ListIn(path)
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

// stepName names the step in messages where a rule has several.
func stepName(r *rule.Rule, i int) string {
	if len(r.Steps) < 2 {
		return ""
	}
	return fmt.Sprintf("step %d: ", i+1)
}

// KeepOutput returns the output's name, or removes the file and gives "" if
// nothing was printed.
func (w *Work) KeepOutput(name string) string {
	if w.Printed == 0 {
		os.Remove(w.Output)
		return ""
	}
	return name
}

// LastLines reads the last lines of a file, at most n of them and 4 KiB.
func LastLines(path string, n int) []string { return LinesAfter(path, 0, n) }

// LinesAfter is LastLines without what stands before an offset.
func LinesAfter(path string, from int64, n int) []string {
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
