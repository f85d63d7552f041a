package underway

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

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

// keepNumber has a placement that is tried again be the one that was intended.
func (j *Job) keepNumber(p job.Placement) {
	note := func(path string, taken file.Facts) {
		if j.where(path, taken).At == p.Source {
			j.intents = append(j.intents, intent{path, p.FinalState, p.ID})
		}
	}
	note(j.Row.File, j.Row.Facts)
	for _, m := range j.Row.Extra {
		note(m.File, m.Facts)
	}
}

// resumeAt notes where the steps had left the file that a placement is about.
func (j *Job) resumeAt(p job.Placement) {
	note := func(path, at string) {
		if at == p.Source {
			j.now[path] = job.Unit{Taken: path, At: at, Facts: p.Facts}
		}
	}
	note(j.Row.File, j.Row.FileNow)
	for _, m := range j.Row.Extra {
		note(m.File, m.FileNow)
	}
}

// Recovered is what was found, and put right, of a job that a crash has cut short.
type Recovered struct {
	units    []job.Unit // where its files are, if something could not be undone
	left     []*job.Placement
	problems []string
	ends     []settled // the moves of its end
	drop     func(job.Placement)
}

// settled is a move that a crash has cut short, and what Recoverer.Settle says of it.
type settled struct {
	move  job.Placement
	at    string
	still bool
	rest  *job.Rest
}

// Recover brings what a job of an earlier run did to a clean point. It takes the time of a disk.
func Recover(row job.Job, placements []job.Placement, by Recoverer) Recovered {
	m := Recovered{drop: by.Drop}
	switch ends := lastRound(placements, row.Attempts); {
	case row.State != job.Running && !pending(row, placements):
	case row.State != job.Running || len(ends) == 0:
		m.units, m.left, m.problems = by.Unmake(row, placements)
	default:
		for _, p := range ends {
			p.Facts = by.Facts(p)
			at, still, rest := by.Settle(p)
			m.ends = append(m.ends, settled{p, at, still, rest})
		}
	}
	return m
}

// Resume takes up one job. sameBoot tells that the system has not started anew since,
// which would be another reason for the end.
func (js *Jobs) Resume(row job.Job, tries []plan.Try, m Recovered, sameBoot bool, now time.Time) {
	was := row.State
	switch {
	case was != job.Running:
		js.resumeWaiting(row, tries, m, now)
		return
	case len(m.ends) > 0:
		js.resumePlacing(row, tries, m, now)
		return
	}
	cut := "the watcher ended in the middle of this attempt"
	tries = append(tries, plan.Try{Started: row.Started, Reason: cut})
	r := js.Set.Rule(row.Rule)
	if len(m.problems) > 0 {
		cut += "; not undone: " + strings.Join(m.problems, "; ")
	}
	for i := range m.units {
		putBackIn(&row, m.units[i])
	}
	if at := m.units; r != nil && len(at) > 0 && at[0].At != row.File && row.Event != file.Removed {
		j := js.adopt(row, was, tries)
		j.Cause = cut
		j.follow(at)
		js.Record(j)
		js.End(j, job.Failed, now)
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
		j := js.adopt(row, was, tries)
		j.Cause = cut
		js.End(j, job.Failed, now)
		return
	}
	row.Become(job.Queued)
	if row.Event != file.Removed && !isRenamed(row) {
		row.FileNow = row.File
	}
	js.Restore(row, was, tries, now)
	if j := js.ByID[row.ID]; j != nil {
		js.leave(j, m.left)
	}
}

// resumeWaiting takes up a job that waited for its next attempt. What an attempt before had
// placed, and could not take back, is taken back now, or when the next one fails; that was said
// when the attempt ended.
func (js *Jobs) resumeWaiting(row job.Job, tries []plan.Try, m Recovered, now time.Time) {
	was := row.State
	for i := range m.units {
		putBackIn(&row, m.units[i])
	}
	if was != job.Retrying {
		row.Become(job.Queued)
	}
	js.Restore(row, was, tries, now)
	if j := js.ByID[row.ID]; j != nil {
		js.leave(j, m.left)
	}
}

// leave notes what could not be taken back of a job's attempts, and holds it.
func (js *Jobs) leave(j *Job, left []*job.Placement) {
	j.leave(left)
	for _, p := range left {
		js.claimAt(j, p.Target, p.After)
	}
}

// IsCutShort reports whether there may be something to recover of a job: where it was at work has
// to be seen.
func IsCutShort(row job.Job, placements []job.Placement) bool {
	return row.State == job.Running || pending(row, placements)
}

// pending reports whether something is still to be taken back that a job's attempts have
// placed, though none of them is under way.
func pending(row job.Job, placements []job.Placement) bool {
	return row.State == job.Retrying && slices.ContainsFunc(placements, func(p job.Placement) bool {
		return p.FinalState == "" && p.Attempt > row.Earlier && (p.State == job.Done || p.State == job.Undoing)
	})
}

// resumePlacing looks where the files are whose move was intended, and
// perhaps done, when the watcher ended. Those that still wait are placed anew.
func (js *Jobs) resumePlacing(row job.Job, tries []plan.Try, m Recovered, now time.Time) {
	j := js.adopt(row, row.State, tries)
	j.Cause = causeOf(row.Reason)
	landed := map[string]string{}
	j.suffer().landed, j.now = landed, map[string]job.Unit{}
	for _, s := range m.ends {
		j.resumeAt(s.move)
		j.keepRest(s.rest)
		if !s.still && s.at == "" {
			s.at = js.changedAt(j, s.move.Source)
		}
		switch {
		case s.still && j.Rule == nil:
			m.drop(s.move)
		case s.still:
			j.keepNumber(s.move)
		default:
			landed[s.move.Source] = s.at
		}
	}
	if j.Rule == nil {
		source := j.where(row.File, row.Facts).At
		at, there := landed[source]
		if !there {
			at = source
		}
		js.NotTaken(j, at, now)
		return
	}
	js.End(j, m.ends[0].move.FinalState, now)
}

// changedAt says where a file is whose move was cut short, and that is neither as it was nor moved: if
// it is there it was changed meanwhile. It stays, and is offered as a new one when the job is over.
func (js *Jobs) changedAt(j *Job, source string) string {
	if facts, err := js.Eyes.Look(source); err != nil || !facts.Exists {
		return ""
	}
	Mark(&j.Again, source)
	return source
}

// A job in whose attempts the watcher ends again and again may be what ends it. After
// aloneAfter such attempts it runs alone, so that nothing else is charged with it; at
// lastCrash it fails.
const (
	aloneAfter = 2
	lastCrash  = 4
)
