// Package standing says how it all stands: whether a watcher runs, whether anything is wrong,
// and how each rule is. What status, the live view, the report and the ends of watch and sweep
// say of that, and its JSON, comes from here, so that they cannot differ.
package standing

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/notify"
	"stilltide/internal/watcher"
)

// Standing is how it all stands at one moment.
type Standing struct {
	Watcher Watcher
	Rules   []Rule

	pauses job.Pauses
	at     map[string]int // by name: where the rule stands among the rules
}

// Watcher is the whole, without what is only about one rule.
type Watcher struct {
	Runs        bool           `json:"watcher" jsonschema:"whether one answers"`
	PID         int            `json:"pid,omitempty" jsonschema:"its process"`
	Since       *time.Time     `json:"since" jsonschema:"when it was started"`
	Version     string         `json:"version,omitempty" jsonschema:"its program's version"`
	Headline    string         `json:"headline" jsonschema:"one sentence: is it alive, and is anything wrong?"`
	Wrong       []string       `json:"wrong" jsonschema:"what is wrong, the most pressing first"`
	RulesFile   string         `json:"rules_file" jsonschema:"the rules file"`
	Errors      int            `json:"errors" jsonschema:"in the rules file as it is now"`
	Rejected    string         `json:"rejected,omitempty" jsonschema:"why the watcher does not use the changed rules"`
	Blocked     string         `json:"blocked,omitempty" jsonschema:"why nothing starts"`
	Failures    int            `json:"failures" jsonschema:"failed jobs that nobody has dealt with: not retried, undone or dismissed, and their file is still there; 500 at most"`
	FailedSince *time.Time     `json:"failed_since" jsonschema:"when the oldest of them failed"`
	FailedRules []string       `json:"failed_rules" jsonschema:"of which rules"`
	Undelivered map[string]int `json:"undelivered" jsonschema:"notices that could not be delivered, by channel"`
	Paused      []string       `json:"paused" jsonschema:"the paused rules"`
	// PausedFolders are those that are paused whatever rules watch them.
	PausedFolders []string `json:"paused_folders,omitempty" jsonschema:"the paused folders"`
	Pools         []Pool   `json:"pools,omitempty" jsonschema:"the pools of other machines that rules name"`

	alive string
}

// Asked is what a standing is made from.
type Asked struct {
	Rules  *rule.File
	Errors int            // in the rules file as it is now
	Ledger *ledger.Ledger // nil if there is none yet
	Live   *watcher.Live  // what a running watcher knows, nil if none runs
	// by rule, without a watcher: what is not there that its commands need
	Lacking map[string]string
	Now     time.Time
}

// OfRules finds out how the rules stand, and what is paused: all that a file may wait for.
func OfRules(a Asked) (s Standing, err error) {
	s.Watcher = Watcher{RulesFile: a.Rules.Path, Errors: a.Errors, Wrong: []string{},
		FailedRules: []string{}, Paused: []string{}}
	if s.pauses, err = a.paused(); err == nil {
		s.Rules, err = rules(a, s.pauses)
	}
	s.at = make(map[string]int, len(s.Rules))
	for i, r := range s.Rules {
		s.at[r.Rule] = i
	}
	s.Watcher.Pools = pools(a)
	return s, err
}

// Collect finds out how it all stands.
func Collect(a Asked) (Standing, error) {
	s, err := OfRules(a)
	if err != nil {
		return s, err
	}
	paused := s.pauses
	w := &s.Watcher
	undelivered := a.Now
	if a.Live != nil { // it may be on its way
		undelivered = a.Now.Add(-undeliveredAfter)
	}
	w.Undelivered = notify.Undelivered(a.Rules.StateFolder(), undelivered)
	for _, r := range s.Rules {
		if _, rests := paused.Rule(r.Rule); rests && r.State != Disabled {
			w.Paused = append(w.Paused, r.Rule)
		}
	}
	if err := w.failures(a); err != nil {
		return s, err
	}
	w.introduce(a, s.Rules)
	w.PausedFolders = paused.Folders()
	_, all := paused[""]
	w.judge(a, s.Rules, all)
	for _, folder := range w.PausedFolders {
		w.Wrong = append(w.Wrong, "the folder "+plan.Display(folder)+" is paused"+until(paused[folder], a.Now))
	}
	w.conclude()
	return s, nil
}

// undeliveredAfter is how long a notice may be on its way before it counts as undelivered.
const undeliveredAfter = 5 * time.Second

// paused is what is paused.
func (a Asked) paused() (job.Pauses, error) {
	switch {
	case a.Live != nil && a.Live.Pauses != nil:
		return a.Live.Pauses, nil
	case a.Live != nil || a.Ledger == nil:
		return job.Pauses{}, nil
	}
	return a.Ledger.Paused()
}

// maxFailures bounds the failures that are looked at.
const maxFailures = 200

// failures counts the failed jobs that nobody has dealt with: not retried, not undone, not
// dismissed, and their file still lies where it was put.
func (w *Watcher) failures(a Asked) error {
	if a.Ledger == nil {
		return nil
	}
	list, err := a.Ledger.Jobs(job.Filter{States: []job.State{job.Failed}, Undismissed: true,
		Limit: maxFailures})
	if err == nil {
		err = a.Ledger.NowIn(list)
	}
	machine := look.NewAsked()
	for _, j := range list {
		if j.FileNow == "" {
			continue
		}
		if there, err := machine.There(j.FileNow); err == nil && !there {
			continue
		}
		w.Failures++
		if ended := j.Ended; w.FailedSince == nil || ended.Before(*w.FailedSince) {
			w.FailedSince = &ended
		}
		if !slices.Contains(w.FailedRules, j.Rule) {
			w.FailedRules = append(w.FailedRules, j.Rule)
		}
	}
	slices.Sort(w.FailedRules)
	return err
}

// introduce says whether a watcher runs.
func (w *Watcher) introduce(a Asked, rules []Rule) {
	if l := a.Live; l != nil {
		w.Runs, w.PID, w.Since, w.Version, w.Blocked = true, l.PID, &l.Started, l.Version, l.Trouble
		w.Rejected = l.Rejected
		w.alive = fmt.Sprintf("Watching since %s (process %d)", plan.Clock(l.Started, a.Now), l.PID)
		return
	}
	open := 0
	for _, r := range rules {
		open += r.Queued + r.Running + r.Retrying + r.Held
	}
	w.alive = "No watcher runs"
	if open > 0 {
		w.alive += fmt.Sprintf(", and %s for one", Wait(open, "job"))
	}
	w.alive += " (stilltide watch starts it)"
}

// judge lists what is wrong, the most pressing first.
func (w *Watcher) judge(a Asked, rules []Rule, all bool) {
	say := func(format string, args ...any) { w.Wrong = append(w.Wrong, fmt.Sprintf(format, args...)) }
	name := filepath.Base(w.RulesFile)
	switch {
	case w.Errors > 0 && w.Runs:
		say("%s in %s: the rules from before stay in use", plan.Plural(w.Errors, "error"), name)
	case w.Errors > 0:
		say("%s in %s", plan.Plural(w.Errors, "error"), name)
	case w.Rejected != "":
		say("%s", w.Rejected)
	}
	if w.Blocked != "" {
		say("%s; nothing starts until it can be", w.Blocked)
	}
	var blocked, absent []string
	hindered := 0
	for _, r := range rules {
		if hindered += r.Hindered; r.State == Blocked {
			blocked = append(blocked, r.Rule)
		}
		if r.State == Absent || r.Absent > 0 && r.State != Disabled {
			absent = append(absent, r.Rule)
		}
	}
	if len(blocked) > 0 {
		say("%s blocked: %s", plan.Plural(len(blocked), "rule"), some(blocked))
	}
	if hindered > 0 {
		say("%s for disk space, a disk or a folder", Wait(hindered, "job"))
	}
	if w.Failures > 0 {
		many := plan.Plural(w.Failures, "job")
		if w.Failures == maxFailures {
			many += " and more"
		}
		say("%s failed since %s: %s", many, plan.Clock(*w.FailedSince, a.Now), some(w.FailedRules))
	}
	if len(w.Undelivered) > 0 {
		n := 0
		var channels []string
		for channel, waiting := range w.Undelivered {
			n, channels = n+waiting, append(channels, channel)
		}
		slices.Sort(channels)
		say("%s not delivered: %s", plan.Plural(n, "notice"), some(channels))
	}
	w.judgePools(a, rules)
	w.Wrong = append(w.Wrong, resting(rules, w.Paused, all)...)
	if len(absent) > 0 {
		are := "a folder of %s is not there"
		if len(absent) > 1 {
			are = "folders of %s are not there"
		}
		say(are, some(absent))
	}
}

// conclude says all of it in one sentence.
func (w *Watcher) conclude() {
	parts := append([]string{w.alive}, w.Wrong...)
	if w.Well() {
		parts = append(parts, "all is well")
	}
	w.Headline = strings.Join(parts, "; ") + "."
}

// until says when a pause ends by itself, "" if it does not.
func until(at, now time.Time) string {
	if at.IsZero() {
		return ""
	}
	return " until " + plan.Clock(at, now)
}

// Well reports whether a watcher runs and nothing is wrong.
func (w *Watcher) Well() bool { return w.Runs && len(w.Wrong) == 0 }

// Trouble reports whether no watcher runs, or something keeps rules from their work.
func (s Standing) Trouble() bool {
	return !s.Watcher.Runs || s.Watcher.Blocked != "" ||
		slices.ContainsFunc(s.Rules, func(r Rule) bool { return r.State == Blocked })
}

// some names a few of many.
func some(names []string) string {
	const few = 3
	if len(names) > few {
		return fmt.Sprintf("%s and %s more", strings.Join(names[:few-1], ", "), plan.Number(len(names)-few+1))
	}
	return strings.Join(names, ", ")
}

// resting says which rules are paused, and how much they hold.
func resting(rules []Rule, paused []string, all bool) []string {
	held := 0
	var names []string
	for _, r := range rules {
		if slices.Contains(paused, r.Rule) {
			held, names = held+r.Held, append(names, r.Rule)
		}
	}
	if len(names) == 0 {
		return nil
	}
	who := some(names) + " is paused"
	switch {
	case all:
		who = "all rules are paused"
	case len(names) > 1:
		who = some(names) + " are paused"
	}
	if held > 0 {
		who = plan.Plural(held, "file") + " held: " + who
	}
	return []string{who}
}

// Left says what of the rules' work waits when nothing runs any more: what is held, and why.
// The watcher's own words are the same.
func Left(f *rule.File, l watcher.Left, now time.Time) []string {
	var rules []Rule
	var paused, texts []string
	for _, r := range f.All() {
		held := l.Held[r.Name.S]
		if _, rests := l.Paused.Rule(r.Name.S); rests && r.Enabled {
			paused = append(paused, r.Name.S)
			rules = append(rules, Rule{Rule: r.Name.S, Held: held})
			continue
		}
		if l.Blocked[r.Name.S] {
			texts = append(texts, fmt.Sprintf("%s held: %s is blocked", plan.Plural(held, "file"), r.Name.S))
			continue
		}
		if why := l.Away[r.Name.S]; held > 0 && why != "" {
			texts = append(texts, fmt.Sprintf("%s held: %s", plan.Plural(held, "file"), why))
		} else if held > 0 && r.Schedule.Line != nil {
			texts = append(texts, fmt.Sprintf("%s held: %s starts them on %s", plan.Plural(held, "file"), r.Name.S,
				r.Schedule.Line.Next(now).Format("Mon 2006-01-02 15:04")))
		} else if held > 0 {
			texts = append(texts, fmt.Sprintf("%s held: a folder of %s is not there, or paused",
				plan.Plural(held, "file"), r.Name.S))
		}
	}
	_, all := l.Paused[""]
	for _, folder := range l.Paused.Folders() {
		texts = append(texts, "the folder "+plan.Display(folder)+" is paused"+until(l.Paused[folder], now))
	}
	return append(resting(rules, paused, all), texts...)
}

// Wait counts things that wait.
func Wait(n int, word string) string {
	if n == 1 {
		return "1 " + word + " waits"
	}
	return plan.Number(n) + " " + word + "s wait"
}
