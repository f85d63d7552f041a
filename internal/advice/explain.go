// Package advice answers what people ask before anything happens: what would be done with
// the files that are there (preview), why a file is taken or not (why), and what of correct
// rules would fail on this machine (check). It asks the functions that decide and act, and
// touches nothing.
package advice

import (
	"errors"
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/scene"
	"stilltide/internal/watchfs"
	"stilltide/internal/writers"
)

// Reason is what one rule makes of a file.
type Reason struct {
	Rule       *rule.Rule
	Fits       bool
	Takes      bool  // the rule takes the file; several do if all but the last share it
	Handled    int64 // the job that has handled the file as it is, 0 for none
	Stale      bool  // and it did so before the rule's file was changed
	Conditions []plan.Condition
}

// Why is what all rules make of a file, and what would be done with it.
type Why struct {
	Path      string
	Facts     file.Facts
	Event     file.Event
	Reasons   []Reason
	Taker     *rule.Rule // the first rule that takes it, nil if none does
	Sets      *rule.Rule // a rule that handles all again when it changes
	Again     string     // why it takes again what it has handled, "" if it does not
	Ready     bool
	NotYet    string // why it is not ready
	Writers   []writers.Process
	Steps     []string
	From      []string // where words come from that may be one thing or another
	FileAfter string   // after success; "" if it stays
	Thrown    string   // "to the trash" or "deleted", if a step discards it
	Problem   string   // why it would fail
	Skipped   bool     // its content was handled before: no step is taken
	Clashes   []string // what is at its places already
	Jobs      []job.Job
	Open      *job.Job // of Jobs: one that is not over
	PutBy     *job.Job // of Jobs: the one whose input this is, and that put it where it is
	CameAs    string   // the path that the file had when that job took it
}

// Explain asks every rule about a path, which need not exist. l may be nil.
// removed asks as if the file were there no more.
func Explain(set *plan.Set, l *ledger.Ledger, path string, removed bool, now time.Time) (Why, error) {
	w := Why{Path: path, Event: file.Added}
	if _, err := look.NewAsked().Stat(path); errors.As(err, new(plan.NoAnswer)) {
		return w, err
	}
	facts, err := look.From(set, path)
	if err != nil {
		return w, err
	}
	w.Facts = facts
	if rules := set.AgainOn(path); len(rules) > 0 {
		w.Sets = rules[0]
	}
	if !facts.Exists {
		facts = file.Facts{Exists: true, Regular: true, Mod: file.At(now), Change: file.At(now), Writers: file.None}
	}
	d, err := decideAll(set, l, path, facts, removed, now)
	if err != nil {
		return w, err
	}
	for _, r := range set.Rules() {
		w.Reasons = append(w.Reasons, d.reason(set, r, path, w.Facts, now))
	}
	if len(d.taking) > 0 {
		first := d.taking[0]
		w.Taker, w.Event = first.Candidate.Rule, first.Event
		self := scene.Thing{Facts: d.facts, Source: path}
		f := foreseeOne(set, l, path, self, first, now)
		w.Steps, w.From, w.FileAfter, w.Thrown, w.Skipped = f.Steps, f.From, f.FileAfter, f.Thrown, f.Skipped
		w.Problem, w.Clashes, w.NotYet = f.Fails, f.Clashes, f.NotYet
		w.Again = d.again.why(first.Candidate)
	}
	if w.Facts.Exists && !removed {
		w.readiness(d, now)
	}
	if l != nil {
		err = w.history(l)
	}
	return w, err
}

// cameAs returns the path at which a job took the file that it has put at another, "" if it has not.
func cameAs(j *job.Job, at string) string {
	if j.FileNow == at && j.File != at {
		return j.File
	}
	for _, m := range j.Extra {
		if m.FileNow == at && m.File != at {
			return m.File
		}
	}
	return ""
}

// maxJobs bounds the earlier jobs that are told of.
const maxJobs = 5

// history finds the jobs of the file: what they took, and what they put there.
func (w *Why) history(l *ledger.Ledger) error {
	list, err := l.Jobs(job.Filter{File: w.Path, Limit: maxJobs})
	if err != nil {
		return err
	}
	if err := l.NowIn(list); err != nil {
		return err
	}
	w.Jobs = list
	for i := range list {
		j := &list[i]
		switch {
		case !j.State.Final() && slices.Contains(j.Files(), w.Path) && w.Open == nil:
			w.Open = j
		case w.PutBy == nil && cameAs(j, w.Path) != "":
			w.PutBy, w.CameAs = j, cameAs(j, w.Path)
		}
	}
	machine := look.NewAsked()
	for i := range w.Reasons {
		r := &w.Reasons[i]
		if r.Handled == 0 {
			continue
		}
		jobs, err := l.Jobs(job.Filter{ID: r.Handled})
		if err != nil {
			return err
		}
		info, err := machine.Stat(r.Rule.Pos.File)
		r.Stale = err == nil && len(jobs) == 1 && info.ModTime().After(jobs[0].Ended)
	}
	return nil
}

// decided is what the rules make of a file: all that take it, one after the other,
// and what each of those that were asked answered.
type decided struct {
	candidates []plan.Candidate // all whose names fit
	taking     []take.Reply
	replies    map[*rule.Rule]take.Reply
	facts      file.Facts // with what was found out on the way
	claimed    bool
	again      *renewed            // rules that handle all again
	filled     map[*rule.Rule]bool // rules for folders that leave this one, since rules fill it
}

// decideAll asks the rules as the watcher would, and goes on behind those that share.
func decideAll(set *plan.Set, l *ledger.Ledger, path string, facts file.Facts, removed bool,
	now time.Time) (decided, error) {
	d := decided{replies: map[*rule.Rule]take.Reply{}, facts: facts}
	d.again = renewedOf(set, l)
	from, made := askLedger(set, l)
	from.Memory = d.again.over(from.Memory, facts)
	candidates, err := take.Candidates(set, path, facts.Dir, made)
	if err != nil {
		return d, err
	}
	d.filled = map[*rule.Rule]bool{}
	for _, c := range set.Units(path, facts.Dir) {
		d.filled[c.Rule] = !slices.ContainsFunc(candidates,
			func(left plan.Candidate) bool { return left.Rule == c.Rule })
	}
	if removed {
		d.taking, _, err = take.Gone(candidates, from)
		for _, r := range d.taking {
			d.replies[r.Candidate.Rule] = r
		}
		return d, err
	}
	open, err := openJob(set, l, path)
	if err != nil {
		return d, err
	}
	d.candidates = candidates
	candidates, from.Memory = candidatesOf(candidates, open), anew(from.Memory, open)
	for len(candidates) > 0 {
		v, err := take.Decide(candidates, take.Offer{Facts: d.facts, ByHand: true, Tell: true, Now: now}, from)
		if err != nil {
			return d, err
		}
		for _, r := range v.Replies {
			d.replies[r.Candidate.Rule] = r
		}
		d.facts, d.claimed = v.Facts, d.claimed || v.Claimed
		if v.Taker == nil {
			break
		}
		d.taking = append(d.taking, v.Replies[len(v.Replies)-1])
		if !v.Taker.Rule.Share {
			break
		}
		candidates = candidates[len(v.Replies):]
	}
	return d, nil
}

// askLedger returns what a decision asks beyond the look at the file. l may be nil.
func askLedger(set *plan.Set, l *ledger.Ledger) (from take.Sources, made func(string) (bool, error)) {
	from.Inside = func(c plan.Candidate, f *file.Facts) error {
		look.Complete(set, c.Rule, c.Unit, f)
		return nil
	}
	if l == nil {
		return from, nil
	}
	from.Memory = take.MemoryOf(l)
	from.Chain = func(c plan.Candidate, f file.Facts) ([]string, error) {
		if !set.Chained(c.Root) {
			return nil, nil
		}
		return take.OriginOf(l, c, f)
	}
	return from, func(unit string) (bool, error) { return take.MadeByRules(set, l, unit) }
}

// reason reports what a rule makes of the file: its conditions, one by one, and the
// answer it gave if it was asked.
func (d decided) reason(set *plan.Set, r *rule.Rule, path string, facts file.Facts, now time.Time) Reason {
	event := file.Added
	reply, asked := d.replies[r]
	if asked {
		event = reply.Event
	}
	with := d.facts
	with.Exists = facts.Exists
	look.Complete(set, r, path, &with)
	reason := Reason{Rule: r}
	reason.Conditions, reason.Fits = set.Explain(r, path, with, event, now)
	if d.filled[r] {
		reason.Conditions = slices.DeleteFunc(reason.Conditions,
			func(c plan.Condition) bool { return c.Key == "unit" })
		reason.also("unit", "a folder that no rule fills", "rules put its files there")
	}
	if !asked {
		return reason
	}
	switch reply.Answer {
	case take.Handled, take.Shared:
		reason.Handled = reply.Job
	case take.Left:
		reason.also("existing", "a file that was added or changed since", "it was there before, or was left alone")
	case take.Loop:
		reason.also("loops", "a file that this rule did not place itself", "it went through this rule before")
	}
	reason.Takes = slices.ContainsFunc(d.taking, func(t take.Reply) bool { return t.Candidate.Rule == r })
	return reason
}

func (r *Reason) also(key, want, got string) {
	r.Conditions = append(r.Conditions, plan.Condition{Key: key, Want: want, Got: got, Fits: false})
	r.Fits = false
}

// readiness asks whether the file is ready, as a sweep would.
func (w *Why) readiness(d decided, now time.Time) {
	var is settle.Decision
	if w.Taker == nil {
		is = settle.InSweep(settle.Policy{}, w.Path, w.Facts, now)
	} else {
		is = settles(d.candidates, w.Taker, w.Path, w.Facts, func(marker string) bool {
			f, err := watchfs.Stat(marker)
			return err == nil && marked(f)
		}, now)
	}
	switch {
	case is.Verdict == settle.Give: // that is its problem
	case is.Verdict != settle.Ready:
		w.NotYet = is.Why
	}
	w.Ready = w.NotYet == ""
	if w.Facts.Writers == file.Some {
		w.Writers = writers.Of(w.Path)
	}
}
