package engine

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/watchfs"
)

// RuleState says how a rule stands.
type RuleState string

const (
	RuleWatching RuleState = "watching"
	RulePaused   RuleState = "paused"
	RuleAbsent   RuleState = "absent"   // none of its folders is there
	RuleBlocked  RuleState = "blocked"  // it needs your attention
	RuleDisabled RuleState = "disabled" // by the rules file
	RuleStopped  RuleState = "stopped"  // no watcher runs
)

// RuleStatus is one rule in `status`. WaitedS is how long the last file waited
// from being taken to its first attempt, in seconds.
type RuleStatus struct {
	Rule      string     `json:"rule"`
	State     RuleState  `json:"state"`
	Folders   []string   `json:"folders"`
	Settling  int        `json:"settling"`
	Held      int        `json:"held"`
	Queued    int        `json:"queued"`
	Running   int        `json:"running"`
	Retrying  int        `json:"retrying"`
	Hindered  int        `json:"hindered"` // jobs that wait for room or for a disk
	Processed int        `json:"processed"`
	Failed    int        `json:"failed"`
	Skipped   int        `json:"skipped"`
	LastFile  string     `json:"last_file"`
	LastEnded *time.Time `json:"last_ended"`
	WaitedS   float64    `json:"last_waited_s"`
	Next      *time.Time `json:"next,omitempty"`  // when its schedule is due next
	Notes     []string   `json:"notes,omitempty"` // lost abilities, in sentences
}

// Status reports how each rule stands, from the ledger (nil if there is none
// yet) and what a running watcher knows (nil if none runs).
func Status(f *rule.File, l *ledger.Ledger, w *Live) ([]RuleStatus, error) {
	tally := map[string]map[ledger.State]int{}
	if l != nil {
		var err error
		if tally, err = l.Tally(); err != nil {
			return nil, err
		}
	}
	var report []RuleStatus
	for _, r := range f.All() {
		n := tally[r.Name.S]
		s := RuleStatus{
			Rule: r.Name.S, State: RuleStopped, Folders: r.Folders, Settling: n[ledger.Settling],
			Held: n[ledger.Held], Queued: n[ledger.Queued],
			Running: n[ledger.Running], Retrying: n[ledger.Retrying], Processed: n[ledger.Processed],
			Failed: n[ledger.Failed], Skipped: n[ledger.Skipped],
		}
		if w == nil { // nothing runs: what was cut short waits for the next start
			s.Queued, s.Running = s.Queued+s.Running, 0
		}
		if l != nil {
			if err := s.last(l); err != nil {
				return nil, err
			}
		}
		s.folders(r, w)
		if r.Schedule.Line != nil {
			next := r.Schedule.Line.Next(time.Now())
			s.Next = &next
		}
		report = append(report, s)
	}
	return report, nil
}

func waits(n int) string {
	if n == 1 {
		return "1 job waits"
	}
	return fmt.Sprintf("%d jobs wait", n)
}

func (s *RuleStatus) last(l *ledger.Ledger) error {
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

// folders sets the state from what is known of the watched folders.
func (s *RuleStatus) folders(r *rule.Rule, w *Live) {
	if !r.Enabled {
		s.State = RuleDisabled
		return
	}
	absent := 0
	for _, path := range r.Folders {
		gone, trouble := false, ""
		if w != nil {
			known := w.Folders[path]
			gone, trouble = known.Absent, known.Trouble
			if trouble == watchfs.ErrSilent.Error() {
				s.State = RuleBlocked
				s.Notes = append(s.Notes, path+" does not answer; it is looked through when it does")
				continue
			}
			if gone && trouble != "" { // absent for a reason of its own
				s.Notes, trouble = append(s.Notes, fmt.Sprintf("%s: %s", path, trouble)), ""
			}
		} else if info, err := os.Stat(path); err != nil || !info.IsDir() {
			gone = true
		}
		if gone {
			absent++
			s.Notes = append(s.Notes, fmt.Sprintf("the folder %s is not there; waiting for it", path))
		}
		if trouble != "" {
			s.State = RuleBlocked
			s.Notes = append(s.Notes, fmt.Sprintf("%s cannot be watched: %s", path, trouble))
		}
	}
	if w == nil || s.State == RuleBlocked {
		return
	}
	s.polled(r, w)
	s.Settling += w.Settling[s.Rule]
	if h := w.Hindered[s.Rule]; h.Jobs > 0 {
		s.Hindered = h.Jobs
		s.Notes = append(s.Notes, fmt.Sprintf("%s for disk space or for a disk, and will be retried: %s",
			waits(h.Jobs), h.Why))
	}
	if why := w.Troubles[s.Rule]; why != "" {
		s.State = RuleBlocked
		s.Notes = append(s.Notes, why)
		return
	}
	s.State = RuleWatching
	if slices.Contains(w.Paused, "") || slices.Contains(w.Paused, s.Rule) {
		s.State = RulePaused
		s.Held, s.Queued = s.Held+s.Queued, 0
		return
	}
	if absent == len(r.Folders) {
		s.State = RuleAbsent
	}
}

// polled notes the folders below the rule's that are polled.
func (s *RuleStatus) polled(r *rule.Rule, w *Live) {
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

// RuleStates says of each state of a rule what it is, what leads there and what ends it.
// docs/states.md is made from it.
var RuleStates = []struct {
	State               RuleState
	Means, Begins, Ends string
}{
	{RuleWatching, "it takes files", "`stilltide watch` runs, and a folder of the rule is there",
		"any of the others"},
	{RulePaused, "it takes files, and starts nothing", "`stilltide pause`; it survives a restart",
		"`stilltide resume`"},
	{RuleAbsent, "none of its folders is there; it waits for them",
		"a card is taken out, a share is not mounted, a folder is removed or renamed", "the folder is back"},
	{RuleBlocked, "it needs your attention",
		"a loop, a folder that cannot be watched, many files that went at once",
		"`stilltide resume RULE`, or its cause is gone"},
	{RuleDisabled, "it takes nothing", "`enabled: false` in the rules file", "`enabled: true`"},
	{RuleStopped, "nothing is done", "no watcher runs", "`stilltide watch`"},
}
