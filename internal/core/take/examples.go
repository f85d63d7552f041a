package take

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// TypeOf is the content type of an ending with its dot, such as .csv, as the machine has it.
type TypeOf func(ending string) string

// Example tries the rules, in their order, on an example of one of them, and
// says in a sentence each what is not as the example wants it.
func Example(s *plan.Set, r *rule.Rule, e *rule.Example, typeOf TypeOf, now time.Time) []string {
	if len(r.Folders) == 0 || !e.File.Set() {
		return nil
	}
	path := filepath.Join(r.Folders[0], e.File.S)
	facts, event := exampleFacts(r, e, path, typeOf, now)
	taker, err := exampleTaker(s, r, path, facts, event, now)
	if err != nil {
		return []string{err.Error()}
	}
	var wrong []string
	takes := taker != nil && taker.Rule == r
	if e.Taken != nil && *e.Taken != takes {
		who := "no rule takes it"
		if taker != nil {
			who = "the rule " + taker.Rule.Name.S + " takes it"
		}
		if *e.Taken {
			wrong = append(wrong, fmt.Sprintf("%s should be taken by this rule, and %s", e.File.S, who))
		} else {
			wrong = append(wrong, fmt.Sprintf("%s should not be taken by this rule, and it is", e.File.S))
		}
	}
	if e.FileAfter.Set() && takes {
		if got := exampleEnd(*taker, facts, event, now); got != wantedEnd(r, e.FileAfter.S) {
			wrong = append(wrong, fmt.Sprintf("%s should end in %s, and it would end in %s", e.File.S,
				e.FileAfter.S, got))
		}
	}
	return wrong
}

// exampleTaker is the rule that takes an example: the first, or the one whose example
// it is if those before it share.
func exampleTaker(s *plan.Set, r *rule.Rule, path string, facts file.Facts, event file.Event,
	now time.Time) (*plan.Candidate, error) {
	candidates, err := Candidates(s, path, facts.Dir, nil)
	if err != nil {
		return nil, err
	}
	// with other facts: it has changed
	known := func(plan.Candidate) (Memory, bool, error) { return Memory{}, event != file.Added, nil }
	if event == file.Removed {
		told, _, err := Gone(candidates, Sources{Memory: known})
		return takerOf(told, r), err
	}
	var taking []Reply
	for len(candidates) > 0 {
		v, err := Decide(candidates, Offer{Facts: facts, Tell: true, Now: now}, Sources{Memory: known})
		if err != nil || v.Taker == nil {
			return takerOf(taking, r), err
		}
		taking = append(taking, v.Replies[len(v.Replies)-1])
		if !v.Taker.Rule.Share {
			break
		}
		candidates = candidates[len(v.Replies):]
	}
	return takerOf(taking, r), nil
}

func takerOf(taking []Reply, r *rule.Rule) *plan.Candidate {
	for i := range taking {
		if taking[i].Candidate.Rule == r {
			return &taking[i].Candidate
		}
	}
	if len(taking) == 0 {
		return nil
	}
	return &taking[0].Candidate
}

func exampleFacts(r *rule.Rule, e *rule.Example, path string, typeOf TypeOf, now time.Time) (file.Facts, file.Event) {
	f := file.Facts{Exists: true, Regular: !r.Folded(), Dir: r.Folded(), Size: int64(e.Size), Mod: file.At(now),
		Change: file.At(now)}
	if !e.At.IsZero() {
		f.Mod = file.At(e.At)
	} else if e.Age.Pos.Line > 0 {
		f.Mod = file.At(now.Add(-e.Age.Duration))
	}
	says := file.Inside{Known: file.Needs{Kind: true}, Kind: e.MediaType.S}
	if says.Kind == "" {
		says.Kind, _, _ = strings.Cut(typeOf(strings.ToLower(filepath.Ext(path))), ";")
	}
	f.Inside = &says
	if e.Event == "" {
		return f, file.Added
	}
	return f, file.Event(e.Event)
}

// wantedEnd is where an example says that its file ends, relative to the rules file.
func wantedEnd(r *rule.Rule, text string) string {
	path := rule.AtHome(text, r.Home)
	if !filepath.IsAbs(path) {
		return filepath.Clean(path)
	}
	if rel, err := filepath.Rel(filepath.Dir(r.Pos.File), path); err == nil {
		return rel
	}
	return path
}

// exampleEnd is where the file ends, relative to the rules file; its own path
// if it stays.
func exampleEnd(c plan.Candidate, f file.Facts, event file.Event, now time.Time) string {
	_, ends, err := c.Targets(f, event, now, "")
	if err != nil {
		return "nothing, because " + err.Error()
	}
	if ends == "" {
		ends = c.Unit
	}
	if rel, err := filepath.Rel(filepath.Dir(c.Rule.Pos.File), ends); err == nil {
		return rel
	}
	return ends
}
