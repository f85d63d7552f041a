package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"stilltide/internal/core/circle"
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/ledger"
	"stilltide/internal/watchfs"
)

// Reason is what one rule makes of a file.
type Reason struct {
	Rule       *rule.Rule
	Fits       bool
	Handled    int64 // the job that has handled the file as it is, 0 for none
	Conditions []plan.Condition
}

// Why is what all rules make of a file, and what would be done with it.
type Why struct {
	Path    string
	Facts   file.Facts
	Event   file.Event
	Reasons []Reason
	Taker   *rule.Rule // the rule that takes it, nil if none does
	Ready   bool
	NotYet  string // why it is not ready
	Writers []watchfs.Writer
	Steps   []string
	EndsIn  string // after success; "" if it stays
	Problem string // why the steps or the destination cannot be filled
	Jobs    []ledger.Job
}

// Explain asks every rule about a path, which need not exist. l may be nil.
func Explain(set *plan.Set, l *ledger.Ledger, path string, now time.Time) (Why, error) {
	w := Why{Path: path, Event: file.Added}
	facts, err := watchfs.LookAny(path)
	if err != nil {
		return w, err
	}
	w.Facts = facts
	if !facts.Exists {
		facts = file.Facts{Regular: true, Mod: file.At(now), Change: file.At(now), Writers: file.None}
	}
	for _, r := range set.Rules() {
		reason, event := explainRule(set, l, r, path, facts, now)
		if w.Taker == nil && reason.Fits && reason.Handled == 0 {
			w.Taker, w.Event = r, event
		}
		w.Reasons = append(w.Reasons, reason)
	}
	if w.Taker != nil {
		w.planned(set, path, facts, now)
	}
	if w.Facts.Exists {
		w.readiness(now)
	}
	if l != nil {
		w.Jobs, err = l.Jobs(ledger.Filter{File: path, Limit: 5})
	}
	return w, err
}

func explainRule(set *plan.Set, l *ledger.Ledger, r *rule.Rule, path string, facts file.Facts, now time.Time) (Reason, file.Event) {
	event := file.Added
	var known ledger.Known
	if l != nil {
		if k, ok, err := l.Known(r.Name.S, path); err == nil && ok && k.Job != 0 {
			known, event = k, file.Changed
		}
	}
	complete(set, r, path, &facts)
	reason := Reason{Rule: r}
	reason.Conditions, reason.Fits = set.Explain(r, path, facts, event, now)
	if known.Job != 0 && known.Facts.Same(facts) {
		reason.Handled = known.Job
	}
	if l != nil && r.Loops == rule.LoopsStop {
		if from, chain, ok, err := l.Origin(path, facts); err == nil && ok && (from == r.Name.S || circle.Stops(r.Name.S, splitChain(chain))) {
			reason.Conditions = append(reason.Conditions, plan.Condition{Key: "loops", Want: "a file that this rule did not place itself", Got: "it went through this rule before", Fits: false})
			reason.Fits = false
		}
	}
	return reason, event
}

// complete finds out what a rule needs to know of a file that is there.
func complete(set *plan.Set, r *rule.Rule, path string, facts *file.Facts) {
	needs := set.Needs(r)
	if needs == (plan.Needs{}) {
		return
	}
	says := facts.Says()
	if needs.Kind && says.Kind == "" {
		if says.Kind = watchfs.MediaTypeOfName(path); facts.Exists {
			says.Kind = watchfs.MediaType(path)
		}
	}
	if needs.Tags && says.Tags == nil {
		says.Tags = watchfs.Tags(path)
	}
	if needs.Shot && says.Shot.IsZero() {
		says.Shot, _ = watchfs.Shot(path)
	}
	facts.Inside = &says
}

// planned fills in what the taker would do.
func (w *Why) planned(set *plan.Set, path string, facts file.Facts, now time.Time) {
	candidates := set.Candidates(path)
	if facts.Dir {
		candidates = set.Folder(path)
	}
	for _, c := range candidates {
		if c.Rule != w.Taker {
			continue
		}
		complete(set, c.Rule, path, &facts)
		var err error
		if w.Steps, w.EndsIn, err = c.Steps(facts, w.Event, now, set.File.StateFolder()); err != nil {
			w.Problem = err.Error()
		}
		return
	}
}

// readiness asks the settling machine, as the watcher would at a first look.
func (w *Why) readiness(now time.Time) {
	var m settle.Machine
	policy := settle.Policy{}
	facts := w.Facts
	if w.Taker != nil {
		policy = plan.Policy(w.Taker)
		if marker := plan.MarkerOf(w.Taker, w.Path); marker != "" {
			f, err := watchfs.Stat(marker)
			facts.Marker = err == nil && f.Exists
		}
	}
	m.Event(w.Path, settle.Found, policy, now)
	m.Asks(now)
	d := m.Answer(w.Path, facts, now)
	w.Ready, w.NotYet = d.Verdict == settle.Ready, d.Why
	if facts.Writers == file.Some {
		w.Writers = watchfs.WhoWrites(w.Path)
	}
}

// Foreseen is what would happen with one file that is there now.
type Foreseen struct {
	File    string
	Rule    *rule.Rule // nil if none takes it
	Reason  string     // why none does
	Nobodys bool       // no rule takes it, now or before, though it is a real file
	Settled bool
	Steps   []string
	EndsIn  string // "" if it stays
	Clash   string // what is at that place already
}

// Preview tells of every file in the watched folders (or below paths, if any
// are named) what would be done with it. It touches nothing. tell is called
// for each file, in the order of the folders.
func Preview(set *plan.Set, l *ledger.Ledger, paths []string, now time.Time, tell func(Foreseen)) error {
	p := previewer{set: set, l: l, now: now, tell: tell, targets: map[string]string{}}
	if len(paths) > 0 {
		for _, path := range paths {
			if err := p.walk(path, rule.AllLevels); err != nil {
				return err
			}
		}
		return nil
	}
	seen := map[string]bool{}
	for _, r := range set.Rules() {
		for _, folder := range r.Folders {
			if depth, ok := set.Folders()[folder]; ok && !seen[folder] {
				seen[folder] = true
				if err := p.walk(folder, depth); err != nil && !os.IsNotExist(err) {
					return err
				}
			}
		}
	}
	return nil
}

type previewer struct {
	set     *plan.Set
	l       *ledger.Ledger
	now     time.Time
	tell    func(Foreseen)
	targets map[string]string // by place: the file that would end there
	done    map[string]bool
}

func (p *previewer) walk(path string, depth int) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		p.one(path, false)
		return nil
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return err
	}
	for _, e := range entries {
		name := filepath.Join(path, e.Name())
		if !e.IsDir() {
			p.one(name, false)
			continue
		}
		if p.one(name, true) || depth == 0 || name == p.set.File.StateFolder() {
			continue
		}
		if err := p.walk(name, depth-1); err != nil {
			return err
		}
	}
	return nil
}

// one tells of one file, or of one folder if it is a unit; false if it is not.
func (p *previewer) one(path string, dir bool) bool {
	if p.done[path] {
		return true
	}
	var candidates []plan.Candidate
	if dir {
		if candidates = p.set.Folder(path); len(candidates) == 0 {
			return false
		}
	} else {
		candidates = p.set.Candidates(path)
	}
	if p.done == nil {
		p.done = map[string]bool{}
	}
	p.done[path] = true
	f := Foreseen{File: path, Reason: "no rule's patterns fit its name", Nobodys: !p.set.Placed(path)}
	if len(candidates) > 0 {
		p.foresee(&f, candidates)
	} else if why := p.set.LeftAlone(path); why != "" {
		f.Reason, f.Nobodys = why, false
	}
	p.tell(f)
	return true
}

func (p *previewer) foresee(f *Foreseen, candidates []plan.Candidate) {
	facts, err := watchfs.LookAny(f.File)
	if err != nil {
		f.Reason = err.Error()
		return
	}
	f.Reason = "no rule's conditions fit it"
	for _, c := range candidates {
		event := file.Added
		if p.l != nil {
			known, ok, err := p.l.Known(c.Rule.Name.S, f.File)
			if err == nil && ok && known.Facts.Same(facts) {
				f.Reason = fmt.Sprintf("the rule %s has handled it already", c.Rule.Name.S)
				if known.Job == 0 {
					f.Reason = fmt.Sprintf("the rule %s leaves it alone", c.Rule.Name.S)
				}
				f.Nobodys = false
				return
			}
			if ok {
				event = file.Changed
			}
		}
		complete(p.set, c.Rule, f.File, &facts)
		if fits, _ := c.Fits(facts, event, p.now); !fits || !c.Rule.Reacts(event) {
			continue
		}
		f.Rule, f.Reason, f.Nobodys = c.Rule, "", false
		f.Settled = facts.Writers != file.Some
		f.Steps, f.EndsIn, err = c.Steps(facts, event, p.now, p.set.File.StateFolder())
		if err != nil {
			f.Clash = err.Error()
			return
		}
		p.clash(f)
		return
	}
}

// clash says what is at the file's place already, or would be by then.
func (p *previewer) clash(f *Foreseen) {
	if f.EndsIn == "" {
		return
	}
	if other, taken := p.targets[f.EndsIn]; taken {
		f.Clash = "the same place as " + filepath.Base(other) + "; it would be numbered, unless the content is the same"
	} else if _, err := os.Lstat(f.EndsIn); err == nil {
		f.Clash = "that name is there already; it would be numbered, unless the content is the same"
	}
	p.targets[f.EndsIn] = f.File
}

func splitChain(chain string) []string {
	j := job{row: ledger.Job{Chain: chain}}
	return j.chain()
}
