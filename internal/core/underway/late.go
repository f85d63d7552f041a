package underway

import (
	"fmt"
	"time"

	"stilltide/internal/core/due"
	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
)

// late are the placements that are tried again. There may be very many, all for one reason: their
// disk is full. So while none of a rule's succeeds, only some of them are tried each second.
type late struct {
	Jobs  due.Queue[*Job]
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

func (j *Job) place() place { return place{j.Row.Rule, j.Setback().leads} }

// goOn is told of a job that was placed.
func (l *late) goOn(j *Job) {
	if len(l.stuck) > 0 && j.hindered != nil {
		delete(l.stuck, j.place())
	}
}

// postpone keeps a job whose input could not be placed and tries the
// placement again, later and later; the command is not repeated.
func (js *Jobs) postpone(j *Job, leads job.State, err error, now time.Time) {
	s := j.suffer()
	first := s.wait == 0
	s.wait = min(max(2*s.wait, time.Second), time.Minute)
	s.leads, s.RetryAt, s.why = leads, now.Add(s.wait), err.Error()
	js.Late.Jobs.Set(j, s.RetryAt)
	if js.Late.stuck == nil {
		js.Late.stuck = map[place]*tries{}
	}
	if js.Late.stuck[j.place()] == nil {
		js.Late.stuck[j.place()] = &tries{}
	}
	if first {
		j.Row.Reason = turn.Join(j.Cause, fmt.Sprintf("%s: %v", notPlacedYet, err))
		js.Record(j)
		js.Out.Outcomes = append(js.Out.Outcomes, turn.Outcome{Job: j.asItIs(), Next: s.RetryAt, Waits: true})
	}
}

// PlaceLate tries those again that are due.
func (js *Jobs) PlaceLate(now time.Time) {
	for j, ok := js.Late.Jobs.Pop(now); ok; j, ok = js.Late.Jobs.Pop(now) {
		if t := js.Late.stuck[j.place()]; t != nil {
			if !t.end.After(now) {
				*t = tries{end: now.Add(time.Second)}
			}
			if t.n++; t.n > maxTries {
				j.suffer().RetryAt = t.end
				js.Late.Jobs.Set(j, t.end)
				continue
			}
		}
		js.End(j, j.Setback().leads, now)
	}
}

// Hurry has what waits for a disk be tried at once, where its watched folder is there again.
func (js *Jobs) Hurry(folder string) {
	for _, j := range js.ByID {
		switch {
		case j.Row.Watch != folder:
		case js.Late.Jobs.Has(j):
			delete(js.Late.stuck, j.place())
			js.Late.Jobs.Set(j, time.Time{})
		case j.Row.State == job.Retrying && j.hindered != nil && j.hindered.wait > 0:
			j.Row.Due = time.Time{}
			js.Record(j)
			js.Enqueue(j)
		}
	}
}
