package standing

import (
	"cmp"
	"fmt"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/take"
	"stilltide/internal/look"
)

// Rests says why the job of a rule and a file would not start now, and until when; "" if it would.
func (s Standing) Rests(name, file string, now time.Time) string {
	if folder, paused := s.pauses.Folder(file); paused {
		return "the folder " + plan.Display(folder) + " is paused" +
			cmp.Or(until(s.pauses[folder], now), ", until stilltide resume")
	}
	at, is := s.at[name]
	if !is {
		return ""
	}
	switch r := &s.Rules[at]; {
	case r.State == Disabled:
		return name + " is disabled in the rules file"
	case r.State == Paused:
		if !r.until.IsZero() {
			return name + " is paused until " + plan.Clock(r.until, now)
		}
		return name + " is paused, until stilltide resume"
	case r.State == Blocked:
		return name + " is blocked: " + r.why
	case r.Next != nil && r.Next.Sub(now) > time.Minute: // a line that is true each minute is a window
		return name + " waits for its schedule, until " + r.Next.Local().Format("Mon 2006-01-02 15:04")
	}
	return ""
}

// Resting lists the rules whose queued jobs are held: they are paused, or blocked; "" is
// all of them.
func Resting(a Asked) (map[string]bool, error) {
	paused, err := a.paused()
	rests := map[string]bool{}
	for name := range paused {
		rests[name] = true
	}
	for name := range a.Lacking {
		rests[name] = true
	}
	if a.Live != nil {
		for name, why := range a.Live.Troubles {
			rests[name] = rests[name] || why != ""
		}
	}
	return rests, err
}

// Waiting says what a file waits for, and until when: its job j, which is not over, or, if it
// is nil, its settling. "" if it waits for nothing that is known.
func (s Standing) Waiting(a Asked, path string, j *job.Job) string {
	if j == nil || j.State == job.Settling {
		return settling(a, path)
	}
	head, rests := fmt.Sprintf("job %d ", j.ID), s.Rests(j.Rule, "", a.Now)
	if folder, paused := s.pauses.Folder(j.File); paused && j.State != job.Running {
		rests = "the folder " + plan.Display(folder) + " is paused" + until(s.pauses[folder], a.Now) +
			"; stilltide resume --folder " + fill.QuoteWord(folder) + " lets it go on"
	}
	switch ends := a.ends(j); {
	case ends != "":
		return head + "is cancelled at the next start: " + ends
	case a.Live == nil && rests != "":
		return head + "is held: " + rests + "; and it waits for a watcher: stilltide watch"
	case a.Live == nil && (j.State != job.Retrying || !j.Due.After(a.Now)):
		return head + "waits for a watcher: stilltide watch"
	case j.State == job.Running && j.Last != nil && elsewhere(a.Live, s.Watcher.Pools, j) != "":
		return head + elsewhere(a.Live, s.Watcher.Pools, j) + fmt.Sprintf(", for %s (attempt %d)",
			plan.Span(a.Now.Sub(j.Last.Started)), j.Attempts)
	case j.State == job.Running && j.Last != nil:
		return head + fmt.Sprintf("works on it, for %s (attempt %d)", plan.Span(a.Now.Sub(j.Last.Started)), j.Attempts)
	case j.State == job.Running:
		return head + "works on it"
	case j.State == job.Retrying:
		return head + NextAttempt(j, a.Now) + ": " + j.Reason
	}
	if rests == "" {
		rests = s.away(ruleNamed(a.Rules, j.Rule))
	}
	if rests != "" {
		return head + "is held: " + rests
	}
	if j.State == job.Held {
		return head + "is held: a folder of " + j.Rule + " is not there"
	}
	return head + s.queue(a, j)
}

// NextAttempt says of a job that has had its attempts until when it waits for the next.
func NextAttempt(j *job.Job, now time.Time) string {
	return "waits for its next attempt, until " + plan.Clock(j.Due, now)
}

// ends says why the next start would cancel a job that waits; "" if it would not, or if that is not known.
func (a Asked) ends(j *job.Job) string {
	if a.Live != nil || a.Ledger == nil || a.Errors > 0 || j.State == job.Running {
		return ""
	}
	set := look.NewSet(a.Rules)
	if set.Rule(j.Rule) == nil {
		return take.NoRule
	}
	if still, err := take.Still(set, a.Ledger, *j); err != nil || still {
		return ""
	}
	return take.RuleChanged
}

// queue says what a queued job waits for.
func (s Standing) queue(a Asked, j *job.Job) string {
	running := 0
	for _, r := range s.Rules {
		running += r.Running
	}
	for _, r := range a.Rules.All() {
		if r.Name.S != j.Rule {
			continue
		}
		switch {
		case r.SerialBy.Set():
			return "waits for a worker, or for a job with the same serial_by"
		case r.Queue.Set():
			return fmt.Sprintf("waits for a worker of the queue %s", r.Queue.S)
		}
	}
	return fmt.Sprintf("waits for a worker: %s of %d", plan.Plural(running, "job")+" at work", a.Rules.WorkerCount())
}

// settling says why a file has not settled, as the watcher has it.
func settling(a Asked, path string) string {
	if a.Live == nil {
		return ""
	}
	for _, f := range a.Live.Files {
		if f.File == path {
			return fmt.Sprintf("settling for %s: %s", plan.Span(a.Now.Sub(f.Since)), f.Why)
		}
	}
	return ""
}
