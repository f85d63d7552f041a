package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// attempt runs a job's steps, one after the other, in a goroutine of its own.
func (e *Engine) attempt(ctx context.Context, a *attempt) attemptResult {
	begun := time.Now()
	res := attemptResult{id: a.plan.ID}
	defer func() { res.ran = time.Since(begun) }()
	if a.unmakes {
		return e.unmakeSteps(a)
	}
	if a.hash {
		sum, err := watchfs.Hash(a.plan.Watch, a.plan.File, a.plan.Facts.Size)
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
	if err := a.plan.Ready(); err != nil {
		res.reason, res.hopeless = err.Error()+"; nothing was run", true
		return res
	}
	output := ledger.OutputName(a.plan.ID, a.number)
	w := e.workOn(a, filepath.Join(e.state, output))
	scratch, err := w.scratch()
	if scratch != "" {
		defer os.RemoveAll(scratch)
	}
	if err != nil {
		res.reason = err.Error()
		return res
	}
	if t := a.plan.Rule.Timeout.Duration; t > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, t, errAttemptTimeout)
		defer cancel()
	}
	defer e.bounded(output)()
	why := w.all(ctx)
	res.stopped = why != nil && ctx.Err() != nil && context.Cause(ctx) != errAttemptTimeout && context.Cause(ctx) != errStopJob
	w.conclude(a, why, &res)
	e.keep(w.placed, false)
	if len(w.placed) > 0 {
		e.trimKept(a.set.File.KeepReplaced())
	}
	res.exit, res.cpu, res.memory = w.exit, w.cpu, w.memory
	e.rehash(a, &res)
	res.output = w.keepOutput(output)
	res.ran = time.Since(begun)
	return res
}

// conclude fills in how the steps ended. What a failed attempt placed is taken
// back before anything else is done with the job.
func (w *work) conclude(a *attempt, why *problem, res *attemptResult) {
	res.result = strings.Join(w.notes, "; ")
	if res.ok = why == nil; res.ok {
		res.units, res.took, res.rests = w.units, w.took(), w.rests
		return
	}
	for _, one := range w.wishes {
		one.done.Store(false) // it is taken back
	}
	res.reason, res.waits, res.hopeless, res.result = why.text, why.waits, why.hopeless, ""
	w.placed = append(slices.Clone(a.left), w.placed...)
	problems := w.takeBack(w.placed, a.units(), false)
	res.left = notUndone(w.placed)
	for _, rest := range w.rests { // the folder itself could not go back there, then
		problems, res.rests = append(problems, rest.String()), append(res.rests, rest)
	}
	if len(problems) > 0 {
		res.reason += "; not undone: " + strings.Join(problems, "; ")
	}
	res.units = a.units()
	stuck(res.units, w.placed)
	restored(res.units)
	for _, u := range res.units {
		res.astray = res.astray || u.at != u.taken && a.plan.Event != file.Removed
	}
}

// unmakeSteps takes back what a job's steps placed that ended well.
func (e *Engine) unmakeSteps(a *attempt) attemptResult {
	res := attemptResult{id: a.plan.ID, unmade: true, units: a.units()}
	err := e.ledger.Flush()
	var all []ledger.Placement
	if err == nil {
		all, err = e.ledger.Placements(a.plan.ID)
	}
	if err != nil {
		res.reason = "what its steps placed stays: " + err.Error()
		return res
	}
	var list []*ledger.Placement
	for i := range all {
		if p := &all[i]; p.FinalState == "" && p.Attempt == a.number && p.State == ledger.Done {
			list = append(list, p)
		}
	}
	if problems := e.workOn(a, "").takeBack(list, a.units(), false); len(problems) > 0 {
		res.reason = "not undone: " + strings.Join(problems, "; ")
	}
	res.left = notUndone(list)
	stuck(res.units, list)
	restored(res.units)
	return res
}

// took lists the files that the steps took away, besides the job's own.
func (w *work) took() (paths []string) {
	for _, p := range w.placed {
		switch place.Kind(p.Kind) {
		case place.Moved, place.Duplicate, place.Trashed, place.Deleted:
			if p.State == ledger.Done && p.Source != w.job.File {
				paths = append(paths, p.Source)
			}
		}
	}
	return paths
}

// rehash returns the hash of a file whose content a step replaced and that stays.
func (e *Engine) rehash(a *attempt, res *attemptResult) {
	if !res.ok || res.hash == "" || len(res.units) != 1 {
		return
	}
	if u := res.units[0]; u.at != "" && !u.facts.Same(a.plan.Facts) && (u.facts.Size != a.plan.Facts.Size || u.facts.Mod != a.plan.Facts.Mod) {
		if sum, err := watchfs.Hash(a.plan.Watch, u.at, u.facts.Size); err == nil {
			res.hash = sum
		}
	}
}

// workOn makes the work of an attempt.
func (e *Engine) workOn(a *attempt, output string) *work {
	w := &work{hands: e.hands(a.plan.ID, a.plan.Watch, a.set, a.plan.Rule.Name.S, a.chain), job: a.plan, units: a.units(), output: output, wishes: a.wishes}
	w.job.Files = slices.Clone(a.plan.Files) // they change as steps move them
	w.job.Exists = isThere
	return w
}

// isThere reports whether a path is there, by the path itself or what a link leads to.
func isThere(path string) (bool, error) {
	f, err := watchfs.Stat(path)
	return f.Exists, err
}

// hands are the engine's own, for one attempt of a rule.
func (e *Engine) hands(job int64, watch string, set *plan.Set, rule string, chain []string) hands {
	return hands{watch: watch, secrets: set.File.SecretNames(), placer: &e.placer, runner: e.runner, state: e.state, book: &attemptBook{e: e, job: job, set: set, rule: rule, chain: chain}}
}

// units are the job's files where they were taken.
func (a *attempt) units() []unit {
	list := []unit{{taken: a.plan.File, at: a.plan.File, facts: a.plan.Facts, captures: a.plan.Captures}}
	if a.plan.Event == file.Removed {
		list[0].at = ""
	}
	return append(list, a.more...)
}

// all does the steps, one after the other, until one fails.
func (w *work) all(ctx context.Context) *problem {
	r := w.job.Rule
	for i := range r.Steps {
		p := w.step(ctx, &r.Steps[i])
		if p == nil && ctx.Err() != nil && i < len(r.Steps)-1 {
			p = &problem{text: whyEnded(ctx, r)}
		}
		if p != nil {
			p.text = stepName(r, i) + p.text
			return p
		}
	}
	return nil
}

// whyEnded says why an attempt ended between or within steps that run no program.
func whyEnded(ctx context.Context, r *rule.Rule) string {
	switch context.Cause(ctx) {
	case errAttemptTimeout:
		return fmt.Sprintf("it timed out after %s", plan.Span(r.Timeout.Duration))
	case errStopJob:
		return "it was stopped"
	}
	return "the watcher ended"
}

var (
	errAttemptTimeout = errors.New("the attempt timed out")
	errStopJob        = errors.New("the job is to be stopped")
)

// handledBefore reports whether the content need not be handled again.
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
func (w *work) scratch() (string, error) {
	if !w.job.Rule.NeedsScratch() {
		return "", nil
	}
	path := filepath.Join(w.state, "scratch", fmt.Sprintf("%d-%d", w.job.ID, w.job.Attempt))
	if err := os.MkdirAll(path, 0o700); err != nil {
		return "", fmt.Errorf("the scratch folder cannot be made: %w", err)
	}
	w.job.Scratch = path
	if w.job.Files == nil {
		return path, nil
	}
	w.job.List, w.job.List0 = filepath.Join(path, "list.txt"), filepath.Join(path, "list0.txt")
	return path, writeLists(w.job)
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

// keepOutput returns the output's name, or removes the file and gives "" if
// nothing was printed.
func (w *work) keepOutput(name string) string {
	if w.printed == 0 {
		os.Remove(w.output)
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
