package engine

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// recover takes up the jobs of an earlier run, however that ended. A job
// whose placement was under way is finished; one whose attempt was cut short
// is tried again, as far as its rule allows; a queued one stays queued.
func (e *Engine) recover(now time.Time) error {
	if err := emptyFolder(filepath.Join(e.state, "scratch")); err != nil {
		return err
	}
	jobs, err := e.ledger.Jobs(ledger.Filter{Open: true, Oldest: true})
	if err != nil {
		return err
	}
	for _, row := range jobs {
		tries, err := e.tries(row)
		if err != nil {
			return err
		}
		placements, err := e.ledger.Placements(row.ID)
		if err != nil {
			return err
		}
		e.resume(row, tries, placements, now)
	}
	return nil
}

func (e *Engine) tries(row ledger.Job) ([]plan.Try, error) {
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

func (e *Engine) resume(row ledger.Job, tries []plan.Try, placements []ledger.Placement, now time.Time) {
	f := e.flow
	was := row.State
	if was != ledger.Running {
		if was != ledger.Retrying {
			row.State = ledger.Queued
		}
		f.restore(row, was, tries, now)
		return
	}
	if n := len(placements); n > 0 && placements[n-1].State != ledger.Dropped {
		e.resumePlacement(row, tries, placements[n-1], now)
		return
	}
	cut := "the watcher ended in the middle of this attempt"
	tries = append(tries, plan.Try{Started: row.Started, Reason: cut})
	r := f.set.Rule(row.Rule)
	if r != nil && len(r.Steps) > 0 && (row.Attempts-row.Earlier > r.Retry.Times || !r.Retry.AfterCrash) {
		j := f.adopt(row, was, tries)
		j.cause = cut
		f.end(j, ledger.Failed, now)
		return
	}
	row.State = ledger.Queued
	f.restore(row, was, tries, now)
}

// resumePlacement looks where a file is whose move was intended, and perhaps
// done, when the watcher ended.
func (e *Engine) resumePlacement(row ledger.Job, tries []plan.Try, p ledger.Placement, now time.Time) {
	j := e.flow.adopt(row, row.State, tries)
	j.cause = row.Reason
	part := place.PartName(e.state, row.ID)
	source, target := filepath.Dir(p.Source), filepath.Dir(p.Target)
	os.Remove(filepath.Join(target, part)) // a copy that was not complete
	hidden := filepath.Join(source, part)
	landed := e.landed(p)
	if facts, err := watchfs.Stat(hidden); err == nil && facts.Exists {
		if landed != "" && facts.Same(p.Facts) {
			os.Remove(hidden) // the copy is complete: this was the last act of the move
		} else {
			os.Rename(hidden, p.Source)
		}
	}
	facts, err := watchfs.Stat(p.Source)
	switch {
	case err == nil && facts.Exists && facts.Same(p.Facts) && landed == "":
		e.flow.end(j, p.Leads, now)
	case landed != "":
		if facts.Exists && facts.Same(p.Facts) {
			os.Remove(p.Source) // both names, one content: the move was between its two halves
		}
		p.State, p.Target = ledger.Done, landed
		e.ledger.RecordPlacement(p)
		e.flow.finish(j, p.Leads, j.cause, landed, now)
	default:
		p.State = ledger.Dropped
		e.ledger.RecordPlacement(p)
		e.flow.finish(j, p.Leads, j.cause, "", now)
	}
}

// landed gives the target where the file of a placement is now, "" if at none.
func (e *Engine) landed(p ledger.Placement) string {
	folder, name := filepath.Split(p.Target)
	for n := 1; n < 10000; n++ {
		path := filepath.Join(folder, place.Numbered(name, n))
		facts, err := watchfs.Stat(path)
		if err != nil || !facts.Exists {
			return ""
		}
		sameFile := facts.Dev == p.Facts.Dev && facts.Ino == p.Facts.Ino
		copied := facts.Dev != p.Facts.Dev && facts.Size == p.Facts.Size && facts.Mod.Equal(p.Facts.Mod)
		if copied {
			// A complete copy has the source's content, if that is still there to compare.
			if source, err := watchfs.Stat(p.Source); err == nil && source.Exists {
				copied, err = place.SameContent(p.Source, path, p.Facts.Size)
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
