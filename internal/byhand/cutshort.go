package byhand

import (
	"errors"
	"fmt"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
)

// CutShort is an undo or a retry that a crash has cut short.
type CutShort struct {
	Row    job.Job
	Paths  []string // of the files that it puts back
	Places []string // where they may be meanwhile
	Waits  error    // why it waits
	undo   bool
}

// Reach finds out whether it can be seen what a job did.
type Reach func(set *plan.Set, row job.Job, moves []job.Placement) error

// FinishCutShort goes on with the retries and undos that a crash has cut short. reach tells why the files of a
// job cannot be seen now; blame is told why one could not be finished. Those whose files cannot be seen are returned:
// nothing may take these before Finish.
func FinishCutShort(l Records, placer *place.Placer, set *plan.Set,
	reach Reach, blame func(rule, why string)) (waiting []CutShort, _ error) {
	list, err := cutShort(l)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		if c.Waits = c.Reached(l, set, reach); c.Waits != nil {
			waiting = append(waiting, c)
			blame(c.Row.Rule, fmt.Sprintf("the %s of job %d, which was cut short, goes on when the folder %s is there "+
				"again", c.what(), c.Row.ID, plan.Display(c.Row.Watch)))
			continue
		}
		if _, _, err := c.Finish(l, placer, set); err != nil {
			blame(c.Row.Rule, c.Says(err))
		}
	}
	return waiting, l.Flush()
}

// cutShort lists them, the retries first: an undo needs whole jobs.
func cutShort(l Records) (list []CutShort, _ error) {
	retries, err := l.PuttingBack()
	undos, undoErr := l.Reverting()
	if err = errors.Join(err, undoErr); err != nil {
		return nil, err
	}
	add := func(placements []job.Placement, undo bool) {
		known := map[int64]bool{}
		for _, p := range placements {
			if known[p.Job] {
				continue
			}
			known[p.Job] = true
			if c, err := newCutShort(l, p.Job, undo); err == nil {
				list = append(list, c)
			}
		}
	}
	add(retries, false)
	add(undos, true)
	return list, nil
}

func newCutShort(l Records, id int64, undo bool) (c CutShort, err error) {
	c.undo = undo
	if c.Row, err = JobByID(l, id); err != nil {
		return c, err
	}
	if c.Paths, c.Places, err = PutsBack(l, c.Row); !undo {
		c.Paths = c.Row.Files()
	}
	return c, err
}

// Says tells a person why it could not be finished.
func (c CutShort) Says(err error) string {
	return fmt.Sprintf("the %s of job %d could not be finished: %s", c.what(), c.Row.ID, err)
}

func (c CutShort) what() string {
	if c.undo {
		return "undoing"
	}
	return "retry"
}

// Reached returns an error while its files cannot be seen.
func (c CutShort) Reached(l Records, set *plan.Set, reach Reach) error {
	moves, err := l.Placements(c.Row.ID)
	if err == nil {
		err = reach(set, c.Row, moves)
	}
	if err == nil { // else even a look at its folder may never end
		err = place.CanComeBack(c.Row.Watch)
	}
	return err
}

// Finish goes on with it. opened tells that the job, as it is now, is open again.
func (c CutShort) Finish(l Records, placer *place.Placer, set *plan.Set) (row job.Job, opened bool, _ error) {
	row, err := JobByID(l, c.Row.ID)
	switch {
	case err != nil:
		return row, false, err
	case c.undo:
		sent := UndoJob(l, placer, set, row)
		if !sent.Done {
			err = errors.New(sent.Reason)
		}
		return row, false, err
	}
	return finishRetry(l, placer, row)
}

// finishRetry finishes a retry that has put back any file.
func finishRetry(l Records, placer *place.Placer, row job.Job) (_ job.Job, opened bool, _ error) {
	begun, err := settleEarlier(l, placer, &row)
	if err != nil || !begun || !row.State.Final() {
		return row, false, err
	}
	row, _, err = SendRound(l, placer, row)
	return row, err == nil, err
}

// finishRetries does that for a command, which says itself what is in the way of its own job.
func finishRetries(l *ledger.Ledger) error {
	list, err := l.PuttingBack()
	for _, p := range list {
		if row, err := JobByID(l, p.Job); err == nil {
			_, _, _ = finishRetry(l, &place.Placer{}, row)
		}
	}
	return errors.Join(err, l.Flush())
}
