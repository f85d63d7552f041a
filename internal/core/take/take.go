// Package take decides which rule takes a file. It is the only place where that is
// decided: the watcher acts on the verdict, and why, preview, try and the examples
// of check show the same one.
//
// The rules whose name conditions are met are asked in order. Each answers from the
// file's facts and from what it remembers about the path; the first that takes the
// file gets it. Facts that cost something, about the file or from memory, are
// requested only when an answer depends on them. An error while reading them is an
// error of the decision: a file that may have been handled before is never taken
// for a new one.
package take

import (
	"fmt"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Memory is what a rule remembers of a path.
type Memory struct {
	Facts file.Facts
	Job   int64  // the job that handled the file; 0 if the rule has only seen it and left it alone
	Hash  string // of its content then, SHA-256 in hexadecimal; "" if no decision needed it
}

// Offer is a settled file.
type Offer struct {
	Facts  file.Facts
	ByHand bool // a sweep by hand takes what was left alone (existing: leave), too
	Tell   bool // the verdict lists what each rule answered
	Now    time.Time
}

// Candidates lists the rules that could take a file or a folder, or the folder that
// it lies in, by its name alone. made tells whether files of a folder were put there
// by rules of their own: such a folder is a place of theirs and no unit; nil for no.
func Candidates(set *plan.Set, path string, dir bool, made func(unit string) (bool, error)) ([]plan.Candidate,
	error) {
	var units []plan.Candidate
	for _, c := range set.Units(path, dir) {
		if made != nil {
			is, err := made(c.Unit)
			if err != nil {
				return nil, fmt.Errorf("who made %s cannot be read: %w", c.Unit, err)
			}
			if is {
				continue
			}
		}
		units = append(units, c)
	}
	if len(units) > 0 || dir {
		return units, nil
	}
	return set.Candidates(path), nil
}

// Sources tell what the offer does not say. Each may be nil: nothing is remembered
// then, nothing is known of the inside, the file came from nowhere.
type Sources struct {
	Memory func(c plan.Candidate) (Memory, bool, error)
	// adds what the rule needs to know of the content and the tags
	Inside func(c plan.Candidate, f *file.Facts) error
	// where a file that has come was before, if the rule knows it under another path that it left
	Renamed func(c plan.Candidate, f file.Facts) (old string, ok bool)
	Passed  func(c plan.Candidate, f file.Facts) []string // those it went through in this very sweep
	// the rules that the file went through before it came here
	Chain func(c plan.Candidate, f file.Facts) ([]string, error)
}

// Answer is what a rule makes of an offer.
type Answer int

const (
	Takes     Answer = iota // the rule takes the file
	Unfit                   // a condition on the file does not fit
	Young                   // only its age does not fit yet
	Handled                 // the rule has handled the file as it is, and nobody else gets it
	Shared                  // the same, and later rules may take it, too
	Left                    // the rule has seen the file as it is and left it alone
	Loop                    // the file went through this rule before (loops: stop)
	Deaf                    // the rule does not react to this event
	NextSweep               // the rule placed it in this very sweep, and loops: allow lets the next one take it
)

// Reply is one rule's answer.
type Reply struct {
	Candidate plan.Candidate
	Answer    Answer
	Event     file.Event // what the file is to this rule: added or changed
	Job       int64      // Handled, Shared: the job that did
	Unless    string     // Takes: see Verdict
}

// Verdict is the decision on an offer.
type Verdict struct {
	Taker   *plan.Candidate // nil if no rule takes the file
	Event   file.Event      // what it is to the taker
	Facts   file.Facts      // with what was found out on the way
	OldFile string          // where it was before, if it was renamed
	Unless  string          // the job is skipped if the content has this hash
	Chain   []string        // the rules that the file went through before
	Older   time.Time       // when it is old enough for a rule that only waits for that; zero if none does
	Claimed bool            // a rule has it, or had its reasons to leave it alone
	Replies []Reply         // of the rules that were asked, in their order
	// Remember lists the rules that note the file as seen, with the job that
	// handled it before, so that they can tell a change or a removal later.
	Remember []Reply
}

// Decide asks the rules in their order.
func Decide(candidates []plan.Candidate, o Offer, from Sources) (Verdict, error) {
	var v Verdict
	err := v.Decide(candidates, &o, &from)
	return v, err
}

// Decide asks the rules in their order, for those who decide on many files with one
// verdict: it is made anew each time.
func (v *Verdict) Decide(candidates []plan.Candidate, o *Offer, from *Sources) error {
	*v = Verdict{Facts: o.Facts}
	for i := range candidates {
		reply, err := v.ask(&candidates[i], o, from)
		if err != nil {
			return err
		}
		if o.Tell {
			v.Replies = append(v.Replies, reply.of(candidates[i]))
		}
		switch reply.answer {
		case Takes:
			v.Taker, v.Event, v.OldFile, v.Claimed = &candidates[i], reply.event, reply.old, true
			v.Unless = reply.unless
			return v.others(candidates[i+1:], o, from)
		case Handled:
			v.Claimed = true
			return nil
		case Shared, Left, NextSweep:
			v.Claimed = true
		case Loop, Deaf:
			v.Claimed = true
			v.Remember = append(v.Remember, reply.of(candidates[i]))
		}
	}
	return nil
}

// answer is a reply without the rule that gave it.
type answer struct {
	answer Answer
	event  file.Event
	job    int64
	old    string // renamed: where it was
	unless string
}

func (a answer) of(c plan.Candidate) Reply {
	return Reply{Candidate: c, Answer: a.answer, Event: a.event, Job: a.job, Unless: a.unless}
}

// ask has one rule answer.
func (v *Verdict) ask(c *plan.Candidate, o *Offer, from *Sources) (answer, error) {
	reply := answer{event: file.Added}
	memory, known, err := recall(c, from)
	if err != nil {
		return reply, err
	}
	if known {
		reply.event, reply.job = eventOf(c, o, memory), memory.Job
	}
	if !known && from.Renamed != nil && c.Rule.Reacts(file.Renamed) {
		if old, is := from.Renamed(*c, o.Facts); is {
			reply.event, reply.old = file.Renamed, old
		}
	}
	if known && memory.Facts.Same(o.Facts) {
		if is, done := remembered(c, o, memory); done {
			reply.answer = is
			return reply, nil
		}
	}
	if err := v.lookInside(c, from); err != nil {
		return reply, err
	}
	fits, older := c.Fits(v.Facts, reply.event, o.Now)
	switch {
	case !older.IsZero():
		reply.answer = Young
		if v.Older.IsZero() || older.Before(v.Older) {
			v.Older = older
		}
		return reply, nil
	case !fits:
		reply.answer = Unfit
		return reply, nil
	}
	if o.ByHand && from.Passed != nil && loop.Stops(c.Rule.Name.S, from.Passed(*c, v.Facts)) {
		reply.answer = Loop
		if c.Rule.Loops == rule.LoopsAllow {
			reply.answer = NextSweep
		}
		return reply, nil
	}
	chain, err := chainOf(c, v.Facts, from)
	switch {
	case err != nil:
		return reply, err
	case c.Rule.Loops == rule.LoopsStop && loop.Stops(c.Rule.Name.S, chain):
		reply.answer = Loop
		return reply, nil
	case !c.Rule.Reacts(reply.event):
		reply.answer = Deaf
		return reply, nil
	}
	v.Chain = chain
	if c.Rule.Again != rule.AgainAlways {
		reply.unless = memory.Hash
	}
	return reply, nil
}

func (v *Verdict) lookInside(c *plan.Candidate, from *Sources) error {
	if from.Inside == nil {
		return nil
	}
	return from.Inside(*c, &v.Facts)
}

// remembered is the answer for a file that a rule remembers as it is; done is false if it
// decides on it all the same.
func remembered(c *plan.Candidate, o *Offer, memory Memory) (is Answer, done bool) {
	switch {
	case memory.Job != 0 && c.Rule.Share:
		return Shared, true
	case memory.Job != 0:
		return Handled, true
	case !isLeft(c, o, memory):
		return Left, true
	}
	return is, false
}

// eventOf is what has become of a file that a rule remembers otherwise: one that was left is taken by hand as if it had
// come now.
func eventOf(c *plan.Candidate, o *Offer, memory Memory) file.Event {
	if isLeft(c, o, memory) {
		return file.Added
	}
	return file.Changed
}

// isLeft reports whether a file was left where it was before the rule came, and may be taken by hand now.
func isLeft(c *plan.Candidate, o *Offer, memory Memory) bool {
	return memory.Job == 0 && o.ByHand && c.Rule.Existing == rule.ExistingLeave
}

// others has the rules after the taker note the file that only react when it goes:
// they never take it, and must know that it was there.
func (v *Verdict) others(candidates []plan.Candidate, o *Offer, from *Sources) error {
	for i := range candidates {
		c := &candidates[i]
		if c.Rule.Reacts(file.Added) || !c.Rule.Reacts(file.Removed) && !c.Rule.Reacts(file.Renamed) {
			continue
		}
		memory, known, err := recall(c, from)
		if err != nil {
			return err
		}
		if known && memory.Facts.Same(o.Facts) {
			continue
		}
		if err := v.lookInside(c, from); err != nil {
			return err
		}
		if fits, _ := c.Fits(v.Facts, file.Added, o.Now); fits {
			v.Remember = append(v.Remember, Reply{Candidate: *c, Answer: Deaf, Event: file.Added, Job: memory.Job})
		}
	}
	return nil
}

func recall(c *plan.Candidate, from *Sources) (Memory, bool, error) {
	if from.Memory == nil {
		return Memory{}, false, nil
	}
	memory, known, err := from.Memory(*c)
	if err != nil {
		return memory, false, fmt.Errorf("what the rule %s remembers of %s cannot be read: %w", c.Rule.Name.S,
			c.Unit, err)
	}
	return memory, known, nil
}

func chainOf(c *plan.Candidate, f file.Facts, from *Sources) ([]string, error) {
	if from.Chain == nil {
		return nil, nil
	}
	chain, err := from.Chain(*c, f)
	if err != nil {
		return nil, fmt.Errorf("which rules %s went through before cannot be read: %w", c.Unit, err)
	}
	return chain, nil
}

// Gone returns the rules that get the removal of a file they know, in their order:
// up to the first that does not share it. forget are the rules that have no use
// for it and only forget the file.
func Gone(candidates []plan.Candidate, from Sources) (told []Reply, forget []plan.Candidate, err error) {
	for _, c := range candidates {
		memory, known, err := recall(&c, &from)
		if err != nil {
			return nil, nil, err
		}
		closed := len(told) > 0 && !told[len(told)-1].Candidate.Rule.Share
		switch {
		case !known:
		case closed || !c.Rule.Reacts(file.Removed):
			forget = append(forget, c)
		default:
			told = append(told, Reply{Candidate: c, Answer: Takes, Event: file.Removed, Job: memory.Job})
		}
	}
	return told, forget, nil
}
