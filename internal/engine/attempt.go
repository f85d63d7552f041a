package engine

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
	"stilltide/internal/work"
)

// attempt runs a job's steps, one after the other, in a goroutine of its own.
func (e *Engine) attempt(ctx context.Context, a *turn.Attempt) turn.AttemptEnd {
	begun := time.Now()
	res := turn.AttemptEnd{ID: a.Plan.ID}
	defer func() { res.Ran = time.Since(begun) }()
	if a.Unmakes {
		return e.unmakeSteps(a)
	}
	if a.Content.Asked {
		sum, err := content.Hash(a.Plan.Watch, a.Plan.File, a.Plan.Facts.Size)
		if err != nil {
			res.Reason = "the file cannot be read: " + err.Error()
			return res
		}
		res.Hash, res.Handled, a.Plan.Hash = sum, sum, sum
		if e.handledBefore(a, sum) {
			res.Same = true
			return res
		}
	}
	if err := a.Plan.Ready(); err != nil {
		res.Reason, res.Hopeless = err.Error()+"; nothing was run", true
		return res
	}
	output := job.OutputName(a.Plan.ID, a.Number)
	w := e.workOn(a, filepath.Join(e.state, output))
	scratch, err := w.Scratch()
	if scratch != "" {
		defer os.RemoveAll(scratch)
	}
	if err != nil {
		res.Reason = err.Error()
		return res
	}
	if t := a.Plan.Rule.Timeout.Duration; t > 0 && !w.Away { // elsewhere it counts from when the command begins
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, t, work.ErrTimeout)
		defer cancel()
	}
	defer e.bounded(output)()
	why := w.All(ctx)
	res.Stopped = why != nil && (w.Behind || ctx.Err() != nil && context.Cause(ctx) != work.ErrTimeout &&
		context.Cause(ctx) != work.ErrStopJob)
	conclude(w, a, why, &res)
	e.desk.Kept.Over(keptBy(w.Placed)...)
	res.Exit, res.CPU, res.Memory = w.Exit, w.CPU, w.Memory
	e.rehash(a, &res)
	res.Output = w.KeepOutput(output)
	res.Ran = time.Since(begun)
	return res
}

// conclude fills in how the steps ended. What a failed attempt placed is taken
// back before anything else is done with the job.
func conclude(w *work.Work, a *turn.Attempt, why *work.Problem, res *turn.AttemptEnd) {
	res.Result = strings.Join(w.Notes, "; ")
	if res.OK = why == nil; res.OK {
		res.Units, res.Took, res.Rests = w.Units, w.Took(), w.Rests
		return
	}
	a.TakenBack()
	res.Reason, res.Waits, res.Hopeless, res.Missing, res.Result = why.Text, why.Waits, why.Hopeless, why.Missing, ""
	w.Placed = append(slices.Clone(a.Left), w.Placed...)
	problems := w.TakeBack(w.Placed, a.Units(), false)
	res.Left = work.NotUndone(w.Placed)
	for _, rest := range w.Rests { // the folder itself could not go back there, then
		problems, res.Rests = append(problems, rest.String()), append(res.Rests, rest)
	}
	if len(problems) > 0 {
		res.Reason += "; not undone: " + strings.Join(problems, "; ")
	}
	res.Units = a.Units()
	work.Stuck(res.Units, w.Placed)
	work.Restored(res.Units)
	for _, u := range res.Units {
		res.Astray = res.Astray || u.At != u.Taken && a.Plan.Event != file.Removed
	}
}

// unmakeSteps takes back what a job's steps placed that ended well.
func (e *Engine) unmakeSteps(a *turn.Attempt) turn.AttemptEnd {
	res := turn.AttemptEnd{ID: a.Plan.ID, Unmade: true, Units: a.Units()}
	err := e.ledger.Flush()
	var all []job.Placement
	if err == nil {
		all, err = e.ledger.Placements(a.Plan.ID)
	}
	if err != nil {
		res.Reason = "what its steps placed stays: " + err.Error()
		return res
	}
	var list []*job.Placement
	for i := range all {
		if p := &all[i]; p.FinalState == "" && p.Attempt == a.Number && p.State == job.Done {
			list = append(list, p)
		}
	}
	if problems := e.workOn(a, "").TakeBack(list, a.Units(), false); len(problems) > 0 {
		res.Reason = "not undone: " + strings.Join(problems, "; ")
	}
	res.Left = work.NotUndone(list)
	work.Stuck(res.Units, list)
	work.Restored(res.Units)
	return res
}

// rehash returns the hash of a file whose content a step replaced and that stays.
func (e *Engine) rehash(a *turn.Attempt, res *turn.AttemptEnd) {
	if !res.OK || res.Hash == "" || len(res.Units) != 1 {
		return
	}
	if u := res.Units[0]; u.At != "" && !u.Facts.Same(a.Plan.Facts) && (u.Facts.Size != a.Plan.Facts.Size ||
		u.Facts.Mod != a.Plan.Facts.Mod) {
		if sum, err := content.Hash(a.Plan.Watch, u.At, u.Facts.Size); err == nil {
			res.Hash = sum
		}
	}
}

// workOn makes the work of an attempt.
func (e *Engine) workOn(a *turn.Attempt, output string) *work.Work {
	w := &work.Work{Hands: e.hands(a.Plan.ID, a.Plan.Watch, a.Set, a.Plan.Rule.Name.S, a.Chain), Job: a.Plan,
		Units: a.Units(), Output: output, Fulfil: a.Fulfil, Away: a.Away && e.fleet != nil}
	w.Job.Files = slices.Clone(a.Plan.Files) // they change as steps move them
	w.Job.Exists = work.IsThere
	return w
}

// hands are the engine's own, for one attempt of a rule.
func (e *Engine) hands(job int64, watch string, set *plan.Set, rule string, chain []string) work.Hands {
	return work.Hands{Watch: watch, Secrets: set.File.SecretNames(), Placer: &e.desk.Placer, Runner: e.runner,
		State: e.state, Carrier: e.carrier(), Book: &attemptBook{e: e, job: job, set: set, rule: rule, chain: chain}}
}

// handledBefore reports whether the content need not be handled again.
func (e *Engine) handledBefore(a *turn.Attempt, sum string) bool {
	is, err := a.Content.Skips(sum, func(sum string) (bool, error) {
		return e.ledger.KnowsContent(a.Plan.Rule.Name.S, sum, a.Plan.ID)
	})
	return err == nil && is
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
