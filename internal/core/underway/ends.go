package underway

import (
	"cmp"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/turn"
)

// End sends the input where it belongs, or ends the job where it is.
func (js *Jobs) End(j *Job, state job.State, now time.Time) {
	target := j.Rule.Processed
	if state == job.Failed {
		target = j.Rule.Failed
	}
	at := j.where(j.Row.File, j.Row.Facts).At
	if j.Row.Event == file.Removed {
		js.Finish(j, state, j.Cause, "", now)
		return
	}
	if target == nil || at == "" {
		js.Finish(j, state, j.Cause, at, now)
		return
	}
	if err := js.outOfSight(j, false); err != nil {
		js.postpone(j, state, err, now)
		return
	}
	e, err := js.placing(j, state, target, now)
	switch {
	case err == nil && len(e.Moves) == 0 && e.Landed == "":
		js.PlacedEnd(turn.PlacingEnd{ID: j.Row.ID, Leads: state}, now)
	case err == nil:
		if len(j.Rule.Steps) > 0 {
			js.Record(j) // how the attempt ended and where it left the files, before those are placed
		}
		js.Out.Places, j.sent = append(js.Out.Places, e), true
		js.unreserve(j)
	case state == job.Failed:
		js.Finish(j, state, turn.Join(j.Cause, "it stays where it is, because "+err.Error()), at, now)
	default:
		j.Cause = err.Error()
		js.End(j, job.Failed, now)
	}
}

// afterCommand looks what the commands of a job did with its file themselves, and
// says so. A file that they took away is nowhere.
func (js *Jobs) afterCommand(j *Job) {
	was := j.where(j.Row.File, j.Row.Facts)
	if was.At == "" || j.Row.Event == file.Removed || j.Rule.Gather != nil {
		return
	}
	now, err := js.Eyes.Stat(was.At) // most files are as they were, and that tells so
	if err == nil && now.Same(was.Facts) {
		return
	}
	now, err = js.Eyes.Look(was.At)
	switch {
	case err != nil || now.Exists && now.Same(was.Facts):
	case now.Exists && now.Ino == was.Facts.Ino:
		j.say("its content was changed while the job ran")
		j.changed = true
	case now.Exists:
		j.say("it was replaced while the job ran")
	case js.outOfSight(j, true) != nil:
	default:
		j.say("it was moved or removed while the job ran")
		was.At, j.gone = "", true
		if j.now == nil {
			j.now = map[string]job.Unit{}
		}
		j.now[j.Row.File] = was
	}
}

// say adds to what a job's line says.
func (j *Job) say(text string) {
	if !strings.Contains(j.Row.Result, text) {
		j.Row.Result = turn.Join(j.Row.Result, text)
	}
}

// placing plans the moves of a job's files. A marker goes where its file goes.
func (js *Jobs) placing(j *Job, state job.State, target *rule.Place, now time.Time) (*turn.Placing, error) {
	landed := j.Setback().landed
	var main plan.Job
	if j.Spot.Name == "" || state != job.Processed || len(j.Row.Extra) > 0 {
		main = js.planned(j, now)
		main.At = j.where(j.Row.File, j.Row.Facts).At
	}
	e := &turn.Placing{ID: j.Row.ID, Watch: j.Row.Watch, Leads: state, Alone: !j.extras && len(j.Row.Extra) == 0}
	e.Moves = e.One[:0]
	add := func(path string, facts file.Facts, companion bool) error {
		return js.addMove(e, j, &main, target, landed, path, facts, companion)
	}
	if err := add(j.Row.File, j.Row.Facts, false); err != nil {
		return nil, err
	}
	for _, m := range j.Row.Extra {
		if err := add(m.File, m.Facts, m.Companion); err != nil {
			return nil, err
		}
	}
	at := j.where(j.Row.File, j.Row.Facts).At
	if state == job.Failed && landed[at] != at { // one that stays gets no note beside it
		failed := main
		e.Landed = landed[at]
		e.Note = &plan.Failure{Job: &failed, Taken: j.Row.File, Attempts: j.tries, Reason: j.Cause,
			State: js.Set.File.StateFolder(), Rules: js.Set.File.Path}
		if j.Row.Last != nil {
			e.Output = j.Row.Last.Output
		}
	}
	return e, nil
}

// addMove adds one file of a job to its placing; companion tells that it is a marker.
func (js *Jobs) addMove(e *turn.Placing, j *Job, main *plan.Job, target *rule.Place, landed map[string]string,
	path string,
	facts file.Facts, companion bool) error {
	u := j.where(path, facts)
	if _, done := landed[u.At]; done || u.At == "" {
		return nil
	}
	if u.At != path {
		js.claimAt(j, u.At, u.Facts)
	}
	goes, its, of := path, facts, u // the file whose place decides
	if companion {
		goes, its = j.fileOf(path)
		of = j.where(goes, its)
	}
	spot, err := j.Spot, error(nil)
	if spot.Name == "" || e.Leads != job.Processed || path != j.Row.File || companion {
		p := *main
		if goes != j.Row.File {
			p.File, p.At, p.Facts, p.Captures = goes, of.At, its, js.capturesOf(j.Rule, goes)
			js.Complete(j.Rule, goes, &p.Facts)
		}
		spot, err = p.Destination(target)
	}
	if err != nil {
		return err
	}
	var marker *rule.Rule
	if companion { // it goes along as it is now
		marker, spot.Name = j.Rule, js.markerName(j, spot, landed[of.At])
		if now, err := js.Eyes.Look(path); err == nil && now.Exists {
			u.Facts = now
		}
	}
	to := spot.Path()
	watched := js.Set.Watched(to)
	if watched {
		js.Chained = true
		js.Claim(j, to, u.Facts)
	}
	same := j.Rule.SameName
	if e.Leads == job.Failed && same == rule.SameFail {
		same = rule.SameNumber
	}
	var own *turn.Wish
	if path == j.Row.File && !companion {
		own = &j.end
	}
	e.Moves = append(e.Moves, turn.Move{Wish: own, To: spot, Same: same, Marker: marker, Of: of.At,
		First: js.Before(j, to), Only: len(j.Rule.Steps) == 0 && u.Facts.Inside == nil && j.Row.Hash == "",
		Record: &job.Placement{ID: js.intent(j, path, e.Leads), Job: j.Row.ID, Attempt: j.Row.Attempts,
			Kind: job.Moved, Source: u.At, Target: to, Facts: u.Facts, After: u.Facts,
			State: job.Intended, FinalState: e.Leads, Chained: watched},
	})
	return nil
}

// markerName names a marker after the file that it goes along with; landed is where that has
// been placed already, "" if nowhere.
func (js *Jobs) markerName(j *Job, spot plan.Spot, landed string) string {
	return filepath.Base(plan.MarkerOf(j.Rule, cmp.Or(landed, spot.Path())))
}

// fileOf returns the file of a job whose marker is at a path.
func (j *Job) fileOf(marker string) (path string, taken file.Facts) {
	for _, m := range j.Row.Extra {
		if !m.Companion && plan.MarkerOf(j.Rule, m.File) == marker {
			return m.File, m.Facts
		}
	}
	return j.Row.File, j.Row.Facts
}

// intent returns the number of a placement: the same each time it is tried.
func (js *Jobs) intent(j *Job, path string, leads job.State) int64 {
	for _, i := range j.intents {
		if i.path == path && i.leads == leads {
			return i.id
		}
	}
	id := js.Store.NextPlacement()
	j.intents = append(j.intents, intent{path, leads, id})
	return id
}

// notPlaced goes on with a job of whose files none was placed.
func (js *Jobs) notPlaced(j *Job, p turn.PlacingEnd, now time.Time) {
	switch {
	case errors.Is(p.Err, job.ErrStopped): // its intention stands: the next start goes on with it
	case p.Final && p.Leads != job.Failed:
		why := p.Err.Error()
		if errors.Is(p.Err, job.ErrTaken) {
			why += " (same_name: fail)"
		}
		j.Cause = turn.Join(j.Cause, why)
		if len(j.Rule.Steps) > 0 {
			js.unmake(j, now)
		} else {
			js.End(j, job.Failed, now)
		}
	case p.Final:
		js.Finish(j, p.Leads, turn.Join(j.Cause, "it stays: "+p.Err.Error()), j.where(j.Row.File, j.Row.Facts).At, now)
	case errors.Is(p.Err, job.ErrSkipped):
		js.Finish(j, p.Leads, turn.Join(j.Cause, "it stays: "+p.Err.Error()+" (same_name: skip)"),
			j.where(j.Row.File, j.Row.Facts).At, now)
	default:
		j.lookNow(p.Now)
		js.postpone(j, p.Leads, p.Err, now)
	}
}

// PlacedEnd decides what follows a placing.
func (js *Jobs) PlacedEnd(p turn.PlacingEnd, now time.Time) {
	j := js.ByID[p.ID]
	if j == nil {
		return
	}
	if p.Err != nil {
		js.notPlaced(j, p, now)
		return
	}
	js.Late.goOn(j)
	j.lookNow(p.Now)
	for _, m := range p.Moved {
		j.keepRest(m.Rest)
	}
	landed := j.Setback().landed
	if len(p.Moved) == 1 && p.Moved[0].Err == nil && len(j.Row.Extra)+len(landed) == 0 {
		j.intended = p.Moved[0].Intended
		js.Finish(j, p.Leads, j.Cause, p.Moved[0].Target, now)
		return
	}
	reason, fileNow := j.Cause, map[string]string{}
	for source, at := range landed {
		fileNow[source] = at
	}
	j.intended = len(p.Moved) == 1 && p.Moved[0].Intended
	for _, m := range p.Moved {
		fileNow[m.Source] = m.Target
		if !errors.Is(m.Err, job.ErrChanged) {
			continue
		}
		Mark(&j.Again, m.Source)
		fileNow[m.Source] = m.Source
		if m.Source == j.where(j.Row.File, j.Row.Facts).At {
			reason = turn.Join(reason, "the file changed while its job ran, so it stays and counts as a new one")
		}
	}
	for i := range j.Row.Extra {
		m := &j.Row.Extra[i]
		m.FileNow = fileNow[j.where(m.File, m.Facts).At]
	}
	js.Finish(j, p.Leads, reason, fileNow[j.where(j.Row.File, j.Row.Facts).At], now)
}

// lookNow notes how files of the job look that were moved, or were and are back.
func (j *Job) lookNow(now map[string]file.Facts) {
	note := func(path string, taken file.Facts) {
		u := j.where(path, taken)
		if facts, ok := now[u.At]; ok {
			u.Facts = facts
			if j.now == nil {
				j.now = map[string]job.Unit{}
			}
			j.now[path] = u
		}
	}
	note(j.Row.File, j.Row.Facts)
	for _, m := range j.Row.Extra {
		note(m.File, m.Facts)
	}
}

// unmake has what a job's steps placed taken back, because its end cannot be placed: what
// a failed job has made does not stay.
func (js *Jobs) unmake(j *Job, now time.Time) {
	js.Out.Starts = append(js.Out.Starts, &turn.Attempt{Number: j.Row.Attempts, Plan: js.planned(j, now), Set: js.Set,
		Chain: j.chain(), More: js.others(j), Unmakes: true})
}

// unmade ends a job whose steps' work was taken back.
func (js *Jobs) unmade(j *Job, res turn.AttemptEnd, now time.Time) {
	j.leave(res.Left)
	j.follow(res.Units)
	for i := range res.Units {
		putBackIn(&j.Row, res.Units[i])
	}
	j.Cause = turn.Join(j.Cause, res.Reason)
	j.Row.Result = ""
	js.End(j, job.Failed, now)
}

// notPlacedYet begins the reason of a job whose placement is tried again.
const notPlacedYet = "it cannot be placed yet"

// causeOf is a job's reason without what is said of its placement.
func causeOf(reason string) string {
	cause, _, _ := strings.Cut(reason, notPlacedYet)
	cause = strings.TrimSuffix(cause, "its steps succeeded, but ") // as ledgers of before have it
	return strings.TrimSuffix(cause, "; ")
}

// Finish ends a job for good.
func (js *Jobs) Finish(j *Job, state job.State, reason, fileNow string, now time.Time) {
	if j.Row.Event == file.Removed || j.Renamed && fileNow == j.Row.File {
		fileNow = "" // that it went is known, and not told again
	}
	j.Row.Become(state)
	j.Row.Reason, j.Row.FileNow, j.Row.Ended, j.Row.Due = reason, fileNow, now, time.Time{}
	js.Record(j)
	j.gone = j.gone || state == job.Vanished && js.knew(j, j.Rule)
	j.missed = state == job.Vanished && !j.gone && js.isMissed(j, now)
	js.remember(j, j.Row.File, j.Row.Facts, j.Row.Hash, fileNow)
	for _, m := range j.Row.Extra {
		if !m.Companion {
			js.remember(j, m.File, m.Facts, "", m.FileNow)
		}
	}
	if j.held != nil {
		for _, path := range j.held.took {
			js.forget(path, false, now)
		}
	}
	js.rememberRests(j)
	js.Out.Outcomes = append(js.Out.Outcomes, turn.Outcome{Job: &j.Row}) // it does not change any more
	js.Batches.ended(j, now)
	js.drop(j)
	js.noteOffers(j)
	js.suspect(j)
	js.release(j, now)
	js.askOthers(j, now)
	if j.Rule != nil && j.Rule.Share && j.Row.Event == file.Removed {
		js.ways.Went(j.Row.File, now) // the rules after it come next
	} else if j.Rule != nil && j.Rule.Share || j.Outdated {
		for _, path := range j.Row.Staying() {
			Mark(&j.Again, path)
		}
	}
	if j.gone || j.missed {
		js.ways.WentAway(j.Row.File, false, now)
	}
	for path := range j.Again {
		if js.isOwnWork(j, path) && !j.Outdated {
			continue
		}
		js.stopLoop(j, path, state, now)
		js.ways.Offer(path, j.Row.Facts.Dir, settle.Nudged, now)
	}
	if j.changed && !j.Again[j.Row.File] {
		js.stopLoop(j, j.Row.File, state, now) // no event says so, or not yet: a sweep finds it
	}
}

// stopLoop blocks a rule whose job changes its own file again and again.
func (js *Jobs) stopLoop(j *Job, path string, state job.State, now time.Time) {
	name, ran := j.Row.Rule, (state == job.Processed || state == job.Failed) && !j.Outdated
	if ran && js.InTrouble[name] == "" && js.Book.Again(name, path, now) {
		js.Trouble(name, loop.Blocks(path, fill.QuoteWord(name)))
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
func (js *Jobs) rememberRests(j *Job) {
	for _, path := range j.Setback().rests {
		if facts, err := js.Eyes.Look(path); err == nil && facts.Exists {
			js.Store.Remember(job.Known{Rule: j.Row.Rule, File: path, Facts: facts, Job: j.Row.ID})
		}
	}
}

// isOwnWork reports whether a file that changed while its job ran is as a step of that job left it.
func (js *Jobs) isOwnWork(j *Job, path string) bool {
	u, ok := j.now[path]
	if !ok || u.At != path || j.Rule == nil || j.Rule.Share {
		return false
	}
	facts, err := js.Eyes.Look(path)
	return err == nil && facts.Same(u.Facts) && facts.Writers != file.Some
}

// knew reports whether a rule is to be told that a job's file went, which it had handled before.
func (js *Jobs) knew(j *Job, r *rule.Rule) bool {
	if r == nil || j.Row.Event == file.Removed || !r.Reacts(file.Removed) {
		return false
	}
	_, known, err := js.Store.Known(r.Name.S, j.Row.File)
	return known && err == nil
}

// isMissed reports whether any rule is to be told that a job's file went.
func (js *Jobs) isMissed(j *Job, now time.Time) bool {
	return js.Store.KnowsFiles() && slices.ContainsFunc(js.ways.CandidatesOf(j.Row.File, j.Row.Facts.Dir, now),
		func(c plan.Candidate) bool { return c.Unit == j.Row.File && js.knew(j, c.Rule) })
}

// remember notes a file that stays, so that it is not taken again.
func (js *Jobs) remember(j *Job, path string, facts file.Facts, hash, fileNow string) {
	if j.Renamed && path == j.Row.File || j.Outdated && fileNow == path {
		js.Store.Forget(j.Row.Rule, path) // it did not go; or it is to be taken anew, after a crash, too
		return
	}
	// it went by itself, which is a removal
	if fileNow == path || j.gone && path == j.Row.File && j.Rule.Reacts(file.Removed) {
		js.Store.Remember(job.Known{Rule: j.Row.Rule, File: path, Facts: j.where(path, facts).Facts, Hash: hash,
			Job: j.Row.ID})
	} else {
		js.Store.Forget(j.Row.Rule, path)
		if (fileNow != "" || j.Row.Event != file.Removed) && !j.gone && !j.missed {
			js.forget(path, facts.Dir, j.Row.Ended)
		}
	}
}

// forget has all rules forget a file that this ledger's own work took away: it did not go by itself.
func (js *Jobs) forget(path string, dir bool, now time.Time) {
	if !js.Store.KnowsFiles() {
		return
	}
	for _, c := range js.ways.CandidatesOf(path, dir, now) {
		js.Store.Forget(c.Rule.Name.S, path)
	}
}

// noteOffers lists where the job's files are, if rules watch there.
func (js *Jobs) noteOffers(j *Job) {
	if j.held == nil {
		return
	}
	note := func(path string) {
		if path != "" && js.Set.Watched(path) {
			Mark(&j.held.Offers, path)
			if path != j.Row.File {
				if facts, err := js.Eyes.Look(path); err == nil {
					js.Book.Placed(path, facts, j.Row.Rule, j.chain(), j.Row.Depth)
				}
			}
		}
	}
	note(j.Row.FileNow)
	for _, m := range j.Row.Extra {
		note(m.FileNow)
	}
}
