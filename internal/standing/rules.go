package standing

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/watcher"
	"stilltide/internal/watchfs"
)

// State says how a rule stands.
type State string

const (
	Watching State = "watching"
	Paused   State = "paused"
	Absent   State = "absent"   // none of its folders is there
	Blocked  State = "blocked"  // it needs your attention
	Disabled State = "disabled" // by the rules file
	Stopped  State = "stopped"  // no watcher works for it
)

// Rule is how one rule stands. WaitedS is how long the last file waited from being taken to
// its first attempt, in seconds.
type Rule struct {
	Rule      string     `json:"rule" jsonschema:"its name"`
	State     State      `json:"state" jsonschema:"watching, paused, absent, blocked, disabled or stopped"`
	Folders   []string   `json:"folders" jsonschema:"the folders it watches"`
	Settling  int        `json:"settling" jsonschema:"files that have not settled"`
	Held      int        `json:"held" jsonschema:"jobs that wait because the rule is paused, blocked, absent or before its time"`
	Queued    int        `json:"queued" jsonschema:"jobs that wait for a worker"`
	Running   int        `json:"running" jsonschema:"jobs that run"`
	Retrying  int        `json:"retrying" jsonschema:"jobs that wait for their next attempt"`
	Hindered  int        `json:"hindered" jsonschema:"jobs that wait for room or for a disk"`
	Processed int        `json:"processed" jsonschema:"jobs that ended well, over the whole life of the ledger"`
	Failed    int        `json:"failed" jsonschema:"and that failed"`
	Skipped   int        `json:"skipped" jsonschema:"and that were skipped"`
	LastFile  string     `json:"last_file" jsonschema:"the file of the job that ended last"`
	LastEnded *time.Time `json:"last_ended" jsonschema:"and when it ended"`
	WaitedS   float64    `json:"last_waited_s" jsonschema:"and how long it had waited from being taken to its first attempt"`
	Absent    int        `json:"absent_folders" jsonschema:"how many of its folders are not there"`
	Next      *time.Time `json:"next,omitempty" jsonschema:"when its schedule is due next"`
	Notes     []string   `json:"notes,omitempty" jsonschema:"what is wrong with it, a sentence each"`

	why   string    // it is blocked
	until time.Time // it is paused; zero for until somebody says resume
}

// rules reports how each rule stands, from the ledger and what a running watcher knows.
func rules(a Asked, paused job.Pauses) ([]Rule, error) {
	tally := map[string]map[job.State]int{}
	if a.Ledger != nil {
		var err error
		if tally, err = a.Ledger.Tally(); err != nil {
			return nil, err
		}
	}
	machine, watched := look.NewAsked(), map[string]bool{}
	if a.Live != nil {
		for _, name := range a.Live.Names {
			watched[name] = true
		}
	}
	var report []Rule
	for _, r := range a.Rules.All() {
		n := tally[r.Name.S]
		s := Rule{
			Rule: r.Name.S, State: Stopped, Folders: r.Folders, Settling: n[job.Settling],
			Held: n[job.Held], Queued: n[job.Queued],
			Running: n[job.Running], Retrying: n[job.Retrying], Processed: n[job.Processed],
			Failed: n[job.Failed], Skipped: n[job.Skipped],
		}
		if a.Live == nil { // nothing runs: what was cut short waits for the next start
			s.Queued, s.Running = s.Queued+s.Running, 0
		}
		if a.Ledger != nil && anyEnded(n) {
			if err := s.last(a.Ledger); err != nil {
				return nil, err
			}
		}
		ends, rests := paused.Rule(r.Name.S)
		switch {
		case !r.Enabled:
			s.State = Disabled
		case a.Live == nil:
			s.unwatched(machine, a.Lacking[r.Name.S])
		case !watched[r.Name.S]:
			s.Notes = append(s.Notes, "the watcher does not know this rule: it goes on with the rules from before")
		default:
			s.watched(r, a.Live)
		}
		if s.State == Blocked {
			s.Held, s.Queued = s.Held+s.Queued, 0
		}
		if rests && r.Enabled {
			s.until = ends
			if s.State == Watching || s.State == Stopped || s.State == Absent {
				s.State = Paused
			}
			s.Held, s.Queued = s.Held+s.Queued, 0
		}
		if r.Schedule.Line != nil && r.Enabled {
			next := r.Schedule.Line.Next(a.Now)
			s.Next = &next
		}
		report = append(report, s)
	}
	return report, nil
}

// anyEnded reports whether a job has ended: of thousands of rules many have done nothing yet.
func anyEnded(tally map[job.State]int) bool {
	for state, n := range tally {
		if n > 0 && state.Final() {
			return true
		}
	}
	return false
}

func (s *Rule) last(l *ledger.Ledger) error {
	j, ok, err := l.LastEnded(s.Rule)
	if err != nil || !ok {
		return err
	}
	s.LastFile, s.LastEnded = j.File, &j.Ended
	if !j.Started.IsZero() {
		s.WaitedS = j.Started.Sub(j.Taken).Seconds()
	}
	return nil
}

// block notes that the rule needs attention.
func (s *Rule) block(why string) {
	s.State, s.why = Blocked, why
	s.Notes = append(s.Notes, why)
}

// unwatched looks at a rule's folders itself.
func (s *Rule) unwatched(machine look.Asked, lacking string) {
	if lacking != "" {
		s.block(lacking)
	}
	for _, path := range s.Folders {
		info, err := machine.Stat(path)
		switch {
		case errors.As(err, new(plan.NoAnswer)):
			s.Notes = append(s.Notes, plan.Display(path)+" does not answer")
		case err != nil || !info.IsDir():
			s.missing(path)
		}
	}
}

func (s *Rule) missing(path string) {
	s.Absent++
	s.Notes = append(s.Notes, fmt.Sprintf("the folder %s is not there; waiting for it", plan.Display(path)))
}

// watched sets the state from what the watcher knows of the rule and its folders.
func (s *Rule) watched(r *rule.Rule, w *watcher.Live) {
	s.State = Watching
	for _, path := range r.Folders {
		known := w.Folders[path]
		switch {
		case known.Trouble == watchfs.ErrSilent.Error():
			s.block(plan.Display(path) + " does not answer; it is looked through when it does")
		case known.Absent && known.Trouble != "": // for a reason of its own
			s.Absent++
			s.Notes = append(s.Notes, fmt.Sprintf("%s: %s", plan.Display(path), known.Trouble))
		case known.Absent:
			s.missing(path)
		case known.Trouble != "":
			s.block(fmt.Sprintf("%s cannot be watched: %s", plan.Display(path), known.Trouble))
		}
	}
	s.polled(r, w)
	s.Settling += w.Settling[s.Rule]
	if h := w.Hindered[s.Rule]; h.Jobs > 0 {
		s.Hindered = h.Jobs
		s.Notes = append(s.Notes, fmt.Sprintf("%s for disk space, a disk or a folder, and will be retried: %s",
			Wait(h.Jobs, "job"), h.Why))
	}
	if why := w.Troubles[s.Rule]; why != "" {
		s.block(why)
	}
	if s.State == Watching && s.Absent > 0 && s.Absent == len(r.Folders) {
		s.State = Absent
	}
}

// polled notes the folders below the rule's that are polled.
func (s *Rule) polled(r *rule.Rule, w *watcher.Live) {
	n, one, why := 0, "", ""
	for path, f := range w.Folders {
		if f.Polled == "" {
			continue
		}
		for _, own := range r.Folders {
			if path == own || strings.HasPrefix(path, own+"/") {
				n, why = n+1, f.Polled
				if one == "" || path < one {
					one = path
				}
				break
			}
		}
	}
	switch {
	case n == 1:
		s.Notes = append(s.Notes, fmt.Sprintf("%s is polled: %s", one, why))
	case n > 1:
		s.Notes = append(s.Notes, fmt.Sprintf("%s and %d other folders are polled: %s", one, n-1, why))
	}
}

// States says of each state of a rule what it is, what leads there and what ends it.
// docs/states.md is made from it.
var States = []struct {
	State               State
	Means, Begins, Ends string
}{
	{Watching, "it takes files", "`stilltide watch` runs, and a folder of the rule is there",
		"any of the others"},
	{Paused, "it takes files, and starts nothing",
		"`stilltide pause`; it survives a restart, and holds without a watcher, too", "`stilltide resume`"},
	{Absent, "none of its folders is there; it waits for them",
		"a card is taken out, a share is not mounted, a folder is removed or renamed", "the folder is back"},
	{Blocked, "it needs your attention",
		"a loop, a folder that cannot be watched, many files that went at once, a program that is not there",
		"`stilltide resume RULE`, or its cause is gone"},
	{Disabled, "it takes nothing", "`enabled: false` in the rules file", "`enabled: true`"},
	{Stopped, "nothing is done", "no watcher runs", "`stilltide watch`"},
}
