package engine

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
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
	output := job.OutputName(a.plan.ID, a.number)
	w := e.workOn(a, filepath.Join(e.state, output))
	scratch, err := w.Scratch()
	if scratch != "" {
		defer os.RemoveAll(scratch)
	}
	if err != nil {
		res.reason = err.Error()
		return res
	}
	if t := a.plan.Rule.Timeout.Duration; t > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, t, work.ErrTimeout)
		defer cancel()
	}
	defer e.bounded(output)()
	why := w.All(ctx)
	res.stopped = why != nil && ctx.Err() != nil && context.Cause(ctx) != work.ErrTimeout &&
		context.Cause(ctx) != work.ErrStopJob
	conclude(w, a, why, &res)
	e.keep(w.Placed, false)
	if len(w.Placed) > 0 {
		e.trimKept(a.set.File.KeepReplaced())
	}
	res.exit, res.cpu, res.memory = w.Exit, w.CPU, w.Memory
	e.rehash(a, &res)
	res.output = w.KeepOutput(output)
	res.ran = time.Since(begun)
	return res
}

// conclude fills in how the steps ended. What a failed attempt placed is taken
// back before anything else is done with the job.
func conclude(w *work.Work, a *attempt, why *work.Problem, res *attemptResult) {
	res.result = strings.Join(w.Notes, "; ")
	if res.ok = why == nil; res.ok {
		res.units, res.took, res.rests = w.Units, w.Took(), w.Rests
		return
	}
	for _, one := range a.wishes {
		one.done.Store(false) // it is taken back
	}
	res.reason, res.waits, res.hopeless, res.missing, res.result = why.Text, why.Waits, why.Hopeless, why.Missing, ""
	w.Placed = append(slices.Clone(a.left), w.Placed...)
	problems := w.TakeBack(w.Placed, a.units(), false)
	res.left = work.NotUndone(w.Placed)
	for _, rest := range w.Rests { // the folder itself could not go back there, then
		problems, res.rests = append(problems, rest.String()), append(res.rests, rest)
	}
	if len(problems) > 0 {
		res.reason += "; not undone: " + strings.Join(problems, "; ")
	}
	res.units = a.units()
	work.Stuck(res.units, w.Placed)
	work.Restored(res.units)
	for _, u := range res.units {
		res.astray = res.astray || u.At != u.Taken && a.plan.Event != file.Removed
	}
}

// unmakeSteps takes back what a job's steps placed that ended well.
func (e *Engine) unmakeSteps(a *attempt) attemptResult {
	res := attemptResult{id: a.plan.ID, unmade: true, units: a.units()}
	err := e.ledger.Flush()
	var all []job.Placement
	if err == nil {
		all, err = e.ledger.Placements(a.plan.ID)
	}
	if err != nil {
		res.reason = "what its steps placed stays: " + err.Error()
		return res
	}
	var list []*job.Placement
	for i := range all {
		if p := &all[i]; p.FinalState == "" && p.Attempt == a.number && p.State == job.Done {
			list = append(list, p)
		}
	}
	if problems := e.workOn(a, "").TakeBack(list, a.units(), false); len(problems) > 0 {
		res.reason = "not undone: " + strings.Join(problems, "; ")
	}
	res.left = work.NotUndone(list)
	work.Stuck(res.units, list)
	work.Restored(res.units)
	return res
}

// rehash returns the hash of a file whose content a step replaced and that stays.
func (e *Engine) rehash(a *attempt, res *attemptResult) {
	if !res.ok || res.hash == "" || len(res.units) != 1 {
		return
	}
	if u := res.units[0]; u.At != "" && !u.Facts.Same(a.plan.Facts) && (u.Facts.Size != a.plan.Facts.Size ||
		u.Facts.Mod != a.plan.Facts.Mod) {
		if sum, err := watchfs.Hash(a.plan.Watch, u.At, u.Facts.Size); err == nil {
			res.hash = sum
		}
	}
}

// workOn makes the work of an attempt.
func (e *Engine) workOn(a *attempt, output string) *work.Work {
	w := &work.Work{Hands: e.hands(a.plan.ID, a.plan.Watch, a.set, a.plan.Rule.Name.S, a.chain), Job: a.plan,
		Units: a.units(), Output: output, Fulfil: a.fulfil}
	w.Job.Files = slices.Clone(a.plan.Files) // they change as steps move them
	w.Job.Exists = work.IsThere
	return w
}

// hands are the engine's own, for one attempt of a rule.
func (e *Engine) hands(job int64, watch string, set *plan.Set, rule string, chain []string) work.Hands {
	return work.Hands{Watch: watch, Secrets: set.File.SecretNames(), Placer: &e.placer, Runner: e.runner,
		State: e.state, Book: &attemptBook{e: e, job: job, set: set, rule: rule, chain: chain}}
}

// units are the job's files where they were taken.
func (a *attempt) units() []work.Unit {
	list := []work.Unit{{Taken: a.plan.File, At: a.plan.File, Facts: a.plan.Facts, Captures: a.plan.Captures}}
	if a.plan.Event == file.Removed {
		list[0].At = ""
	}
	return append(list, a.more...)
}

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

// bounded looks at what an attempt prints, beside it if it takes longer than a look's time,
// and once when it ends with the returned function.
func (e *Engine) bounded(output string) (end func()) {
	path := filepath.Join(e.state, output)
	var bound work.Bound
	over, watched := make(chan struct{}), make(chan struct{})
	timer := time.AfterFunc(work.OutputLook, func() {
		e.work.Go(func() { // the attempt still counts as work until then
			defer close(watched)
			bound.Watch(over, path)
		})
	})
	return func() {
		close(over)
		if !timer.Stop() {
			<-watched
		}
		bound.Look(path)
	}
}
