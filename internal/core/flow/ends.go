package flow

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
)

// end sends the input where it belongs, or ends the job where it is.
func (f *Flow) end(j *Job, state job.State, now time.Time) {
	target := j.rule.Processed
	if state == job.Failed {
		target = j.rule.Failed
	}
	at := j.where(j.row.File, j.row.Facts).At
	if j.row.Event == file.Removed {
		f.finish(j, state, j.cause, "", now)
		return
	}
	if target == nil || at == "" {
		f.finish(j, state, j.cause, at, now)
		return
	}
	e, err := f.placing(j, state, target, now)
	switch {
	case err == nil && len(e.Moves) == 0 && e.Landed == "":
		f.PlacedEnd(PlacingEnd{ID: j.row.ID, Leads: state}, now)
	case err == nil:
		if len(j.rule.Steps) > 0 {
			f.record(j) // how the attempt ended and where it left the files, before those are placed
		}
		f.out.Places, j.sent = append(f.out.Places, e), true
		f.unreserve(j)
	case state == job.Failed:
		f.finish(j, state, join(j.cause, "it stays where it is, because "+err.Error()), at, now)
	default:
		j.cause = err.Error()
		f.end(j, job.Failed, now)
	}
}

// afterCommand looks what the commands of a job did with its file themselves, and
// says so. A file that they took away is nowhere.
func (f *Flow) afterCommand(j *Job) {
	was := j.where(j.row.File, j.row.Facts)
	if was.At == "" || j.row.Event == file.Removed || j.rule.Gather != nil {
		return
	}
	now, err := f.eyes.Stat(was.At) // most files are as they were, and that tells so
	if err == nil && now.Same(was.Facts) {
		return
	}
	now, err = f.eyes.Look(was.At)
	switch {
	case err != nil || now.Exists && now.Same(was.Facts):
	case now.Exists && now.Ino == was.Facts.Ino:
		j.say("its content was changed while the job ran")
	case now.Exists:
		j.say("it was replaced while the job ran")
	default:
		j.say("it was moved or removed while the job ran")
		was.At, j.gone = "", true
		if j.now == nil {
			j.now = map[string]job.Unit{}
		}
		j.now[j.row.File] = was
	}
}

// say adds to what a job's line says.
func (j *Job) say(text string) {
	if !strings.Contains(j.row.Result, text) {
		j.row.Result = join(j.row.Result, text)
	}
}

// placing plans the moves of a job's files. A marker goes where its file goes.
func (f *Flow) placing(j *Job, state job.State, target *rule.Place, now time.Time) (*Placing, error) {
	landed := j.setback().landed
	var main plan.Job
	if j.spot.Name == "" || state != job.Processed || len(j.row.Extra) > 0 {
		main = f.planned(j, now)
		main.At = j.where(j.row.File, j.row.Facts).At
	}
	e := &Placing{ID: j.row.ID, Watch: j.row.Watch, Leads: state, Alone: !j.extras && len(j.row.Extra) == 0}
	e.Moves = e.one[:0]
	add := func(path string, facts file.Facts, companion bool) error {
		return f.addMove(e, j, &main, target, landed, path, facts, companion)
	}
	if err := add(j.row.File, j.row.Facts, false); err != nil {
		return nil, err
	}
	for _, m := range j.row.Extra {
		if err := add(m.File, m.Facts, m.Companion); err != nil {
			return nil, err
		}
	}
	if state == job.Failed {
		failed := main
		e.Landed = landed[j.where(j.row.File, j.row.Facts).At]
		e.Note = &plan.Failure{Job: &failed, Taken: j.row.File, Attempts: j.tries, Reason: j.cause,
			State: f.set.File.StateFolder(), Rules: f.set.File.Path}
		if j.row.Last != nil {
			e.Output = j.row.Last.Output
		}
	}
	return e, nil
}

// addMove adds one file of a job to its placing; companion tells that it is a marker.
func (f *Flow) addMove(e *Placing, j *Job, main *plan.Job, target *rule.Place, landed map[string]string,
	path string,
	facts file.Facts, companion bool) error {
	u := j.where(path, facts)
	if _, done := landed[u.At]; done || u.At == "" {
		return nil
	}
	goes, its, of := path, facts, u // the file whose place decides
	if companion {
		goes, its = j.fileOf(path)
		of = j.where(goes, its)
	}
	spot, err := j.spot, error(nil)
	if spot.Name == "" || e.Leads != job.Processed || path != j.row.File || companion {
		p := *main
		if goes != j.row.File {
			p.File, p.At, p.Facts, p.Captures = goes, of.At, its, f.capturesOf(j.rule, goes)
			f.complete(j.rule, goes, &p.Facts)
		}
		spot, err = p.Destination(target)
	}
	if err != nil {
		return err
	}
	var marker *rule.Rule
	if companion { // it goes along as it is now
		marker, spot.Name = j.rule, f.markerName(j, spot, landed[of.At])
		if now, err := f.eyes.Look(path); err == nil && now.Exists {
			u.Facts = now
		}
	}
	to := spot.Path()
	watched := f.set.Watched(to)
	if watched {
		f.chained = true
		f.claim(j, to, u.Facts)
	}
	same := j.rule.SameName
	if e.Leads == job.Failed && same == rule.SameFail {
		same = rule.SameNumber
	}
	var own *wish
	if path == j.row.File && !companion {
		own = &j.end
	}
	e.Moves = append(e.Moves, Move{wish: own, To: spot, Same: same, Marker: marker, Of: of.At,
		First: f.before(j, to), Only: len(j.rule.Steps) == 0 && u.Facts.Inside == nil && j.row.Hash == "",
		Record: &job.Placement{ID: f.intent(j, path, e.Leads), Job: j.row.ID, Attempt: j.row.Attempts,
			Kind: job.Moved, Source: u.At, Target: to, Facts: u.Facts, After: u.Facts,
			State: job.Intended, FinalState: e.Leads, Chained: watched},
	})
	return nil
}

// markerName names a marker after the file that it goes along with; landed is where that has
// been placed already, "" if nowhere.
func (f *Flow) markerName(j *Job, spot plan.Spot, landed string) string {
	return filepath.Base(plan.MarkerOf(j.rule, cmp.Or(landed, spot.Path())))
}

// fileOf returns the file of a job whose marker is at a path.
func (j *Job) fileOf(marker string) (path string, taken file.Facts) {
	for _, m := range j.row.Extra {
		if !m.Companion && plan.MarkerOf(j.rule, m.File) == marker {
			return m.File, m.Facts
		}
	}
	return j.row.File, j.row.Facts
}

// intent returns the number of a placement: the same each time it is tried.
func (f *Flow) intent(j *Job, path string, leads job.State) int64 {
	for _, i := range j.intents {
		if i.path == path && i.leads == leads {
			return i.id
		}
	}
	id := f.store.NextPlacement()
	j.intents = append(j.intents, intent{path, leads, id})
	return id
}

// notPlaced goes on with a job of whose files none was placed.
func (f *Flow) notPlaced(j *Job, p PlacingEnd, now time.Time) {
	switch {
	case errors.Is(p.Err, job.ErrStopped): // its intention stands: the next start goes on with it
	case p.Final && p.Leads != job.Failed:
		why := p.Err.Error()
		if errors.Is(p.Err, job.ErrTaken) {
			why += " (same_name: fail)"
		}
		j.cause = join(j.cause, why)
		if len(j.rule.Steps) > 0 {
			f.unmake(j, now)
		} else {
			f.end(j, job.Failed, now)
		}
	case p.Final:
		f.finish(j, p.Leads, join(j.cause, "it stays: "+p.Err.Error()), j.where(j.row.File, j.row.Facts).At, now)
	case errors.Is(p.Err, job.ErrSkipped):
		f.finish(j, p.Leads, join(j.cause, "it stays: "+p.Err.Error()+" (same_name: skip)"),
			j.where(j.row.File, j.row.Facts).At, now)
	default:
		j.areBack(p.Back)
		f.postpone(j, p.Leads, p.Err, now)
	}
}

// PlacedEnd decides what follows a placing.
func (f *Flow) PlacedEnd(p PlacingEnd, now time.Time) {
	j := f.open[p.ID]
	if j == nil {
		return
	}
	if p.Err != nil {
		f.notPlaced(j, p, now)
		return
	}
	f.late.goOn(j)
	for _, m := range p.Moved {
		j.keepRest(m.Rest)
	}
	landed := j.setback().landed
	if len(p.Moved) == 1 && p.Moved[0].Err == nil && len(j.row.Extra)+len(landed) == 0 {
		j.intended = p.Moved[0].Intended
		f.finish(j, p.Leads, j.cause, p.Moved[0].Target, now)
		return
	}
	reason, fileNow := j.cause, map[string]string{}
	for source, at := range landed {
		fileNow[source] = at
	}
	j.intended = len(p.Moved) == 1 && p.Moved[0].Intended
	for _, m := range p.Moved {
		fileNow[m.Source] = m.Target
		if !errors.Is(m.Err, job.ErrChanged) {
			continue
		}
		mark(&j.again, m.Source)
		fileNow[m.Source] = m.Source
		if m.Source == j.row.File {
			reason = join(reason, "the file changed while its job ran, so it stays and counts as a new one")
		}
	}
	for i := range j.row.Extra {
		m := &j.row.Extra[i]
		m.FileNow = fileNow[j.where(m.File, m.Facts).At]
	}
	f.finish(j, p.Leads, reason, fileNow[j.where(j.row.File, j.row.Facts).At], now)
}

// areBack notes how files of the job look that were moved and are back.
func (j *Job) areBack(back map[string]file.Facts) {
	note := func(path string, taken file.Facts) {
		u := j.where(path, taken)
		if facts, ok := back[u.At]; ok {
			u.Facts = facts
			if j.now == nil {
				j.now = map[string]job.Unit{}
			}
			j.now[path] = u
		}
	}
	note(j.row.File, j.row.Facts)
	for _, m := range j.row.Extra {
		note(m.File, m.Facts)
	}
}

// unmake has what a job's steps placed taken back, because its end cannot be placed: what
// a failed job has made does not stay.
func (f *Flow) unmake(j *Job, now time.Time) {
	f.out.Starts = append(f.out.Starts, &Attempt{job: j, Number: j.row.Attempts, Plan: f.planned(j, now), Set: f.set,
		Chain: j.chain(), more: f.others(j), Unmakes: true})
}

// unmade ends a job whose steps' work was taken back.
func (f *Flow) unmade(j *Job, res AttemptEnd, now time.Time) {
	j.leave(res.Left)
	j.follow(res.Units)
	for i := range res.Units {
		putBackIn(&j.row, res.Units[i])
	}
	j.cause = join(j.cause, res.Reason)
	j.row.Result = ""
	f.end(j, job.Failed, now)
}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// notPlacedYet begins the reason of a job whose placement is tried again.
const notPlacedYet = "it cannot be placed yet"

// causeOf is a job's reason without what is said of its placement.
func causeOf(reason string) string {
	cause, _, _ := strings.Cut(reason, notPlacedYet)
	cause = strings.TrimSuffix(cause, "its steps succeeded, but ") // as ledgers of before have it
	return strings.TrimSuffix(cause, "; ")
}

// finish ends a job for good.
func (f *Flow) finish(j *Job, state job.State, reason, fileNow string, now time.Time) {
	j.row.Become(state)
	j.row.Reason, j.row.FileNow, j.row.Ended, j.row.Due = reason, fileNow, now, time.Time{}
	f.record(j)
	f.remember(j, j.row.File, j.row.Facts, j.row.Hash, fileNow)
	for _, m := range j.row.Extra {
		if !m.Companion {
			f.remember(j, m.File, m.Facts, "", m.FileNow)
		}
	}
	if j.held != nil {
		for _, path := range j.held.took {
			f.forget(path, false, now)
		}
	}
	f.rememberRests(j)
	f.out.Outcomes = append(f.out.Outcomes, Outcome{Job: &j.row}) // it does not change any more
	f.batches.ended(j, now)
	f.drop(j)
	f.noteOffers(j)
	f.release(j, now)
	if j.rule != nil && j.rule.Share && j.row.Event == file.Removed {
		f.gone.add(j.row.File, now) // the rules after it come next
	} else if j.rule != nil && j.rule.Share && fileNow == j.row.File {
		mark(&j.again, j.row.File)
	}
	if j.gone {
		f.WentAway(j.row.File, false, now)
	}
	for path := range j.again {
		if f.isOwnWork(j, path) {
			continue
		}
		if (state == job.Processed || state == job.Failed) && f.troubles[j.row.Rule] == "" &&
			f.book.Again(j.row.Rule, path, now) {
			f.trouble(j.row.Rule, fmt.Sprintf("it loops: %s changes each time its own job runs; stilltide resume "+
				"%s goes on (while_running: own_work takes such changes as the job's own)", path,
				fill.QuoteWord(j.row.Rule)))
		}
		f.Offer(path, j.row.Facts.Dir, settle.Nudged, now)
	}
}

// keepRest notes what could not be removed of a folder whose copy is on another disk. It
// counts as handled, so that it is not taken again.
func (j *Job) keepRest(rest *job.Rest) {
	if rest != nil {
		j.say(rest.String())
		j.suffer().rests = append(j.suffer().rests, rest.Path)
	}
}

// rememberRests has a job's rule know what stays behind.
func (f *Flow) rememberRests(j *Job) {
	for _, path := range j.setback().rests {
		if facts, err := f.eyes.Look(path); err == nil && facts.Exists {
			f.store.Remember(job.Known{Rule: j.row.Rule, File: path, Facts: facts, Job: j.row.ID})
		}
	}
}

// isOwnWork reports whether a file that changed while its job ran is as a step
// of that job left it.
func (f *Flow) isOwnWork(j *Job, path string) bool {
	u, ok := j.now[path]
	if !ok || u.At != path || j.rule.Share {
		return false
	}
	facts, err := f.eyes.Look(path)
	return err == nil && facts.Same(u.Facts) && facts.Writers != file.Some
}

// remember notes a file that stays, so that it is not taken again.
func (f *Flow) remember(j *Job, path string, facts file.Facts, hash, fileNow string) {
	// it went by itself, which is a removal
	if fileNow == path || j.gone && path == j.row.File && j.rule.Reacts(file.Removed) {
		f.store.Remember(job.Known{Rule: j.row.Rule, File: path, Facts: j.where(path, facts).Facts, Hash: hash,
			Job: j.row.ID})
	} else {
		f.store.Forget(j.row.Rule, path)
		if (fileNow != "" || j.row.Event != file.Removed) && !j.gone {
			f.forget(path, facts.Dir, j.row.Ended)
		}
	}
}

// forget has all rules forget a file that this ledger's own work took away: it did
// not go by itself.
func (f *Flow) forget(path string, dir bool, now time.Time) {
	if !f.store.KnowsFiles() {
		return
	}
	for _, c := range f.candidatesOf(path, dir, now) {
		f.store.Forget(c.Rule.Name.S, path)
	}
}

// noteOffers lists where the job's files are, if rules watch there.
func (f *Flow) noteOffers(j *Job) {
	if j.held == nil {
		return
	}
	note := func(path string) {
		if path != "" && f.set.Watched(path) {
			mark(&j.held.offers, path)
			if path != j.row.File {
				if facts, err := f.eyes.Look(path); err == nil {
					f.book.Placed(path, facts, j.row.Rule, j.chain())
				}
			}
		}
	}
	note(j.row.FileNow)
	for _, m := range j.row.Extra {
		note(m.FileNow)
	}
}
