package engine

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/place"
	"stilltide/internal/runner"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// recover takes up the jobs of an earlier run, however that ended. A job
// whose placement was under way is finished; one whose attempt was cut short
// is tried again, as far as its rule allows; a queued one stays queued.
func (e *Engine) recover(now time.Time) error {
	if err := emptyFolder(filepath.Join(e.state, "scratch")); err != nil {
		return err
	}
	if err := e.renamed(); err != nil {
		return err
	}
	if err := finishPuttingBack(e.ledger, &e.placer); err != nil {
		return err
	}
	if err := e.finishUndoing(); err != nil {
		return err
	}
	paused, err := e.ledger.Paused()
	if err != nil {
		return err
	}
	for name := range paused {
		e.flow.paused[name] = true
	}
	e.flow.applyRules()
	tally, err := e.ledger.Tally()
	if err != nil {
		return err
	}
	for name, states := range tally {
		for state, n := range states {
			if !state.Final() {
				e.before += n
			}
		}
		if states[job.Queued]+states[job.Held] > 0 {
			e.flow.window.leave(name) // taken from the ledger as there is room
		}
	}
	before, err := e.ledger.Boot()
	if err != nil {
		return err
	}
	boot := runner.Boot()
	sameBoot := before == "" || before == boot
	e.ledger.RecordBoot(boot)
	begun := []job.State{job.Running, job.Retrying, job.Settling}
	jobs, err := e.ledger.OpenJobs("", begun, 0, 0)
	if err != nil {
		return err
	}
	for _, row := range jobs {
		if err := e.resumeOne(row, sameBoot, now); err != nil {
			return err
		}
	}
	return nil
}

// resumeOne takes up one job, or leaves it for later if a file system does not answer.
func (e *Engine) resumeOne(row job.Job, sameBoot bool, now time.Time) error {
	tries, err := e.tries(row)
	if err != nil {
		return err
	}
	placements, err := e.ledger.Placements(row.ID)
	if err != nil {
		return err
	}
	if row.State == job.Running && e.unanswered(row, placements) {
		e.later = append(e.later, row)
		return nil
	}
	e.resume(row, tries, placements, sameBoot, now)
	return nil
}

// renamed gives rules with a `was` the memory of their old name.
func (e *Engine) renamed() error {
	for _, r := range e.flow.set.Rules() {
		if r.OldName.Set() && e.flow.set.Rule(r.OldName.S) == nil {
			if err := e.ledger.Rename(r.OldName.S, r.Name.S); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *Engine) tries(row job.Job) ([]plan.Try, error) {
	attempts, err := e.ledger.Attempts(row.ID)
	if err != nil {
		return nil, err
	}
	var tries []plan.Try
	for _, a := range attempts {
		if a.Number > row.Earlier && !a.Ended.IsZero() {
			tries = append(tries, plan.Try{Started: a.Started, Ran: a.Ended.Sub(a.Started), Reason: a.Reason})
		}
	}
	return tries, nil
}

// A job in whose attempts the watcher ends again and again may be what ends it. After
// aloneAfter such attempts it runs alone, so that nothing else is charged with it; at
// lastCrash it fails.
const (
	aloneAfter = 2
	lastCrash  = 4
)

// resume takes up one job. sameBoot tells that the system has not started anew since,
// which would be another reason for the end.
func (e *Engine) resume(row job.Job, tries []plan.Try, placements []job.Placement, sameBoot bool,
	now time.Time) {
	f := e.flow
	was := row.State
	if was != job.Running {
		if was != job.Retrying {
			row.Become(job.Queued)
		}
		f.restore(row, was, tries, now)
		return
	}
	if last := lastRound(placements, row.Attempts); len(last) > 0 {
		e.resumePlacing(row, tries, last, now)
		return
	}
	cut := "the watcher ended in the middle of this attempt"
	tries = append(tries, plan.Try{Started: row.Started, Reason: cut})
	r := f.set.Rule(row.Rule)
	at, left, problems := e.unmake(row, placements)
	if len(problems) > 0 {
		cut += "; not undone: " + strings.Join(problems, "; ")
	}
	for i := range at {
		putBackIn(&row, at[i])
	}
	if r != nil && len(at) > 0 && at[0].At != row.File && row.Event != file.Removed {
		j := f.adopt(row, was, tries)
		j.cause = cut
		j.follow(at)
		f.record(j)
		f.end(j, job.Failed, now)
		return
	}
	if sameBoot {
		row.Crashes++
	}
	row.Earlier++ // an attempt that was cut short is none of those that may fail
	if row.Crashes >= lastCrash {
		cut = fmt.Sprintf("the watcher ended %d times in the middle of it, the last %d while nothing else ran, "+
			"so it may be what ends the watcher", row.Crashes, lastCrash-aloneAfter)
	}
	if r != nil && len(r.Steps) > 0 && (row.Crashes >= lastCrash || !r.Retry.AfterCrash) {
		j := f.adopt(row, was, tries)
		j.cause = cut
		f.end(j, job.Failed, now)
		return
	}
	row.Become(job.Queued)
	row.FileNow = row.File
	f.restore(row, was, tries, now)
	if j := f.open[row.ID]; j != nil {
		j.leave(left)
	}
}

// unmake takes back what the steps of an attempt placed that was cut short,
// and what could not be undone after the ones before.
// It returns where the files are if something could not be undone.
func (e *Engine) unmake(row job.Job, placements []job.Placement) (units []work.Unit, left []*job.Placement,
	problems []string) {
	var list []*job.Placement
	for i := range placements {
		if p := &placements[i]; p.FinalState == "" && p.Attempt > row.Earlier {
			list = append(list, p)
		}
	}
	if len(list) == 0 {
		return nil, nil, nil
	}
	units = []work.Unit{{Taken: row.File, At: row.File, Facts: row.Facts}}
	for _, m := range row.Extra {
		units = append(units, work.Unit{Taken: m.File, At: m.File, Facts: m.Facts})
	}
	inputs := units
	if row.Event == file.Removed {
		inputs = nil
	}
	problems = e.hands(row.ID, row.Watch, e.flow.set, row.Rule, nil).TakeBack(list, inputs, true)
	work.Stuck(units, list)
	work.Restored(units)
	return units, work.NotUndone(list), problems
}

// lastRound returns the placements that end a job's last attempt, if that was
// under way or done: those that lead where the newest one leads and were not
// dropped. What a step placed, or a command that sent the job round again,
// is none of them.
func lastRound(all []job.Placement, attempt int) []job.Placement {
	if len(all) == 0 {
		return nil
	}
	leads := all[len(all)-1].FinalState
	var last []job.Placement
	for i := len(all) - 1; i >= 0 && all[i].FinalState == leads && leads.Final(); i-- {
		if all[i].State != job.Dropped && (all[i].Attempt == attempt || all[i].Attempt == 0) {
			last = append([]job.Placement{all[i]}, last...)
		}
	}
	return last
}

// resumePlacing looks where the files are whose move was intended, and
// perhaps done, when the watcher ended. Those that still wait are placed anew.
func (e *Engine) resumePlacing(row job.Job, tries []plan.Try, moves []job.Placement, now time.Time) {
	j := e.flow.adopt(row, row.State, tries)
	j.cause = causeOf(row.Reason)
	landed := map[string]string{}
	j.suffer().landed, j.now = landed, map[string]work.Unit{}
	for _, p := range moves {
		p.Facts = renumbered(p)
		j.resumeAt(p)
		if at, still := e.settleMove(row.ID, p); still {
			j.keepNumber(p)
		} else {
			landed[p.Source] = at
		}
	}
	if j.rule == nil {
		source := j.where(row.File, row.Facts).At
		at, there := landed[source]
		if !there {
			at = source
		}
		e.flow.finish(j, job.Cancelled, "its rule is no longer in the rules file", at, now)
		return
	}
	e.flow.end(j, moves[0].FinalState, now)
}

// renumbered returns the facts of a placement's source as they are now, if it was taken back
// from another disk, which has given it a new number.
func renumbered(p job.Placement) file.Facts {
	now := work.LookAt(p.Source, p.Facts.Dir)
	if now.Exists && now.Dir == p.Facts.Dir && now.Size == p.Facts.Size && now.Mod == p.Facts.Mod {
		return now
	}
	return p.Facts
}

// keepNumber has a placement that is tried again be the one that was intended.
func (j *openJob) keepNumber(p job.Placement) {
	note := func(path string, taken file.Facts) {
		if j.where(path, taken).At == p.Source {
			j.intents = append(j.intents, intent{path, p.FinalState, p.ID})
		}
	}
	note(j.row.File, j.row.Facts)
	for _, m := range j.row.Extra {
		note(m.File, m.Facts)
	}
}

// resumeAt notes where the steps had left the file that a placement is about.
func (j *openJob) resumeAt(p job.Placement) {
	note := func(path, at string) {
		if at == p.Source {
			j.now[path] = work.Unit{Taken: path, At: at, Facts: p.Facts}
		}
	}
	note(j.row.File, j.row.FileNow)
	for _, m := range j.row.Extra {
		note(m.File, m.FileNow)
	}
}

// settleMove brings one move that a crash cut short to a clean point: it says
// where the file is, and whether it still waits to be moved.
func (e *Engine) settleMove(job int64, p job.Placement) (at string, still bool) {
	at, still, rest := settleMove(e.ledger, &e.placer, e.state, p)
	if j := e.flow.open[job]; j != nil {
		j.keepRest(rest)
	}
	return at, still
}

func settleMove(l store, placer *place.Placer, state string, p job.Placement) (at string, still bool,
	rest *place.Rest) {
	part := place.PartName(state, p.Job)
	half := filepath.Join(filepath.Dir(p.Target), part)
	if there, err := watchfs.Stat(half); err == nil && there.Exists && there.Ino == p.Facts.Ino &&
		there.Dev == p.Facts.Dev {
		_ = placer.Rename(half, p.Source) // on its way to replace something, or hidden where it is
	} else {
		_ = placer.Discard(half) // a copy that was not complete, or what was replaced and is kept
	}
	if p.Facts.Dir && p.After.Exists && work.LookAt(p.Target, false).Ino == p.After.Ino {
		if ok, rest, _ := placer.FinishRemoval(place.Request{Source: p.Source, Expect: p.Facts, Part: part},
			p.Target); ok {
			p.State = job.Done
			l.RecordPlacement(p)
			return p.Target, false, rest
		}
	}
	source := p.Source
	if hidden := filepath.Join(filepath.Dir(p.Source), part); work.LookAt(hidden, p.Facts.Dir).Same(p.Facts) {
		if source = hidden; placer.Rename(hidden, p.Source) == nil {
			source = p.Source
		}
	}
	landed := landedAt(p, source)
	facts := work.LookAt(source, p.Facts.Dir)
	there := facts.Exists && (facts.Same(p.Facts) || facts.Dir && p.Facts.Ino == facts.Ino &&
		p.Facts.Dev == facts.Dev)
	if landed != "" && there {
		// Both names, one content: the move was between its two halves.
		removed, err := placer.RemoveDuplicate(place.Request{Source: source, Expect: facts, Part: part}, landed)
		there = err != nil || !removed
	}
	switch {
	case there:
		return p.Source, true, nil // the placing, which is tried again, finds it under its hidden name, too
	case landed != "":
		p.State, p.Target = job.Done, landed
		if now := work.LookAt(landed, p.Facts.Dir); now.Exists {
			p.After = now
		}
	default:
		p.State = job.Dropped
	}
	l.RecordPlacement(p)
	return landed, false, nil
}

// finishPuttingBack goes on with inputs of jobs that are over, which were being put back for
// another round when that was cut short: they are where they were, or back.
func finishPuttingBack(l store, placer *place.Placer) error {
	list, err := l.PuttingBack()
	if err != nil || len(list) == 0 {
		return err
	}
	for _, p := range list {
		row, err := jobByID(l, p.Job)
		if err != nil {
			continue
		}
		at, still, _ := settleMove(l, placer, l.Folder(), p)
		if still {
			p.State = job.Dropped
			l.RecordPlacement(p)
			continue
		}
		if !row.State.Final() {
			continue // all but the record of this move was done
		}
		if err := removeTraces(placer, row.State, p.Source, at); err != nil {
			return err
		}
		if row.FileNow == p.Source {
			row.FileNow = at
		}
		for i := range row.Extra {
			if row.Extra[i].FileNow == p.Source {
				row.Extra[i].FileNow = at
			}
		}
		l.Record(row, row.State)
	}
	return l.Flush()
}

// landedAt returns the target where the file of a placement is now, "" if at none.
// source is where it would be otherwise.
func landedAt(p job.Placement, source string) string {
	folder, name := filepath.Split(p.Target)
	for n := 1; n < 10000; n++ {
		path := filepath.Join(folder, place.Numbered(name, n))
		facts, err := watchfs.Stat(path)
		if err != nil || !facts.Exists {
			return ""
		}
		if place.SameEntry(path, source) {
			continue
		}
		sameFile := facts.Dev == p.Facts.Dev && facts.Ino == p.Facts.Ino
		// Not by device: a bind mount is another file system with the same number.
		copied := !sameFile && facts.Size == p.Facts.Size && facts.Mod == p.Facts.Mod
		if copied {
			// A complete copy has the source's content, if that is still there to compare.
			if work.LookAt(source, false).Exists {
				copied, err = place.SameContent(source, path, p.Facts.Size)
				copied = copied && err == nil
			}
		}
		if sameFile || copied {
			return path
		}
	}
	return ""
}

func emptyFolder(path string) error {
	entries, err := os.ReadDir(path)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	for _, e := range entries {
		if err := os.RemoveAll(filepath.Join(path, e.Name())); err != nil {
			return err
		}
	}
	return nil
}
