package engine

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/underway"
	"stilltide/internal/look"
	"stilltide/internal/runner"
	"stilltide/internal/work"
)

// recover takes up the jobs of an earlier run, however that ended. A job
// whose placement was under way is finished; one whose attempt was cut short
// is tried again, as far as its rule allows; a queued one stays queued.
func (e *Engine) recover(now time.Time) error {
	scratch := filepath.Join(e.state, "scratch")
	err := errors.Join(os.RemoveAll(scratch), os.MkdirAll(scratch, 0o700))
	if err != nil {
		return err
	}
	cutShort, err := byhand.FinishCutShort(e.ledger, &e.desk.Placer, e.flow.Set, e.answers.ReachJob, e.flow.Blame)
	if err != nil {
		return err
	}
	paused, err := e.ledger.Paused()
	accepted, acceptedErr := e.ledger.Accepted()
	if err = errors.Join(err, acceptedErr); err != nil {
		return err
	}
	tally, err := e.ledger.Tally()
	if err != nil {
		return err
	}
	var queued []string
	for name, states := range tally {
		for state, n := range states {
			if !state.Final() {
				e.before += n
			}
		}
		if states[job.Queued]+states[job.Held] > 0 {
			queued = append(queued, name)
		}
	}
	e.flow.TakeUp(paused, accepted, queued)
	for _, c := range cutShort {
		e.cutShort = append(e.cutShort, cutByHand{c, e.flow.Lend(c.Row.ID, c.Paths, c.Places...)})
		e.askAgain(c.Waits)
	}
	before, err := e.ledger.Boot()
	if err != nil {
		return err
	}
	boot := runner.Boot()
	sameBoot := before == "" || before == boot
	e.ledger.RecordBoot(boot)
	jobs, err := e.ledger.OpenJobs("", []job.State{job.Running, job.Retrying, job.Settling}, 0, 0)
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

// resumeOne takes up one job, or leaves it for later if a file system does not answer, or its
// folder is not there.
func (e *Engine) resumeOne(row job.Job, sameBoot bool, now time.Time) error {
	tries, m, err := e.recoverJob(row, e.flow.Set)
	if errors.As(err, &look.NotReached{}) {
		placements, readErr := e.ledger.Placements(row.ID)
		if readErr != nil {
			return readErr
		}
		e.flow.Lend(row.ID, row.Files(), job.Places(placements)...)
		e.later = append(e.later, row)
		e.askAgain(err)
		return nil
	}
	if err == nil {
		e.flow.Resume(row, tries, m, sameBoot, now)
	}
	return err
}

// recoverJob brings what a job of an earlier run did to a clean point, as far as a crash has cut it short.
func (e *Engine) recoverJob(row job.Job, set *plan.Set) (tries []plan.Try, m underway.Recovered, _ error) {
	tries, err := e.tries(row)
	if err != nil {
		return nil, m, err
	}
	placements, err := e.ledger.Placements(row.ID)
	if err != nil {
		return nil, m, err
	}
	if underway.IsCutShort(row, placements) {
		if err := e.answers.ReachJob(set, row, placements); err != nil {
			return nil, m, err
		}
	}
	return tries, underway.Recover(row, placements, recoverer{e, set}), nil
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

// recoverer brings what a crash cut short to a clean point.
type recoverer struct {
	e   *Engine
	set *plan.Set
}

// Unmake takes back what the steps of an attempt placed that was cut short,
// and what could not be undone after the ones before.
func (m recoverer) Unmake(row job.Job, placements []job.Placement) (units []job.Unit, left []*job.Placement,
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
	units = []job.Unit{{Taken: row.File, At: row.File, Facts: row.Facts}}
	for _, m := range row.Extra {
		units = append(units, job.Unit{Taken: m.File, At: m.File, Facts: m.Facts})
	}
	inputs := units
	if row.Event == file.Removed {
		inputs = nil
	}
	hands := m.e.hands(row.ID, row.Watch, m.set, row.Rule, nil)
	problems = hands.TakeBack(list, inputs, true)
	work.Stuck(units, list)
	work.Restored(units)
	return units, work.NotUndone(list), problems
}

// Facts returns the facts of a placement's source as they are now, if it was taken back
// from another disk, which has given it a new number.
func (m recoverer) Facts(p job.Placement) file.Facts {
	now := work.LookAt(p.Source, p.Facts.Dir)
	if now.Exists && now.Dir == p.Facts.Dir && now.Size == p.Facts.Size && now.Mod == p.Facts.Mod {
		return now
	}
	return p.Facts
}

// Drop notes that a move which was cut short will not be made.
func (m recoverer) Drop(p job.Placement) {
	p.State = job.Dropped
	m.e.ledger.RecordPlacement(p)
}

// Settle brings one move that a crash cut short to a clean point.
func (m recoverer) Settle(p job.Placement) (at string, still bool, rest *job.Rest) {
	return byhand.SettleMove(m.e.ledger, &m.e.desk.Placer, m.e.state, p)
}
