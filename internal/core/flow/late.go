package flow

import (
	"fmt"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/job"
)

// late are the placements that are tried again. There may be very many, all for one reason: their
// disk is full. So while none of a rule's succeeds, only some of them are tried each second.
type late struct {
	jobs  due.Queue[*Job]
	stuck map[place]*tries // of which nothing was placed since the last that failed
}

// place is where the jobs of a rule go that end in one way.
type place struct {
	rule  string
	leads job.State
}

// tries are those of a second.
type tries struct {
	end time.Time // of the second
	n   int
}

// maxTries bounds the placements of a second that are tried where none succeeds.
const maxTries = 8

func (j *Job) place() place { return place{j.row.Rule, j.setback().leads} }

// goOn is told of a job that was placed.
func (l *late) goOn(j *Job) {
	if len(l.stuck) > 0 && j.hindered != nil {
		delete(l.stuck, j.place())
	}
}

// postpone keeps a job whose input could not be placed and tries the
// placement again, later and later; the command is not repeated.
func (f *Flow) postpone(j *Job, leads job.State, err error, now time.Time) {
	s := j.suffer()
	first := s.wait == 0
	s.wait = min(max(2*s.wait, time.Second), time.Minute)
	s.leads, s.retryAt, s.why = leads, now.Add(s.wait), err.Error()
	f.late.jobs.Set(j, s.retryAt)
	if f.late.stuck == nil {
		f.late.stuck = map[place]*tries{}
	}
	if f.late.stuck[j.place()] == nil {
		f.late.stuck[j.place()] = &tries{}
	}
	if first {
		j.row.Reason = join(j.cause, fmt.Sprintf("%s: %v", notPlacedYet, err))
		f.record(j)
		f.out.Outcomes = append(f.out.Outcomes, Outcome{Job: j.asItIs(), Next: s.retryAt, Waits: true})
	}
}

// placeLate tries those again that are due.
func (f *Flow) placeLate(now time.Time) {
	for j, ok := f.late.jobs.Pop(now); ok; j, ok = f.late.jobs.Pop(now) {
		if t := f.late.stuck[j.place()]; t != nil {
			if !t.end.After(now) {
				*t = tries{end: now.Add(time.Second)}
			}
			if t.n++; t.n > maxTries {
				j.suffer().retryAt = t.end
				f.late.jobs.Set(j, t.end)
				continue
			}
		}
		f.end(j, j.setback().leads, now)
	}
}
