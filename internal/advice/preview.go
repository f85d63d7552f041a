package advice

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/job"
	"stilltide/internal/core/loop"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/scene"
	_ "stilltide/internal/verbs" // what steps do
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

// Foreseen is what would happen with one file that is there now, or that a step would
// place where a rule takes it.
type Foreseen struct {
	File      string
	Stage     int        // 0 for a file that is there now, 1 for what its job would place, and so on
	Rule      *rule.Rule // nil if none takes it
	Reason    string     // why none does
	Unmatched bool       // no rule takes it, now or before, though it is a real file
	NotYet    string     // why it is not ready: until then it would stay as it is
	Steps     []string
	From      []string  // where words come from that may be one thing or another
	FileAfter string    // "" if it stays, is discarded, or only a run can tell
	Thrown    string    // "to the trash" or "deleted", if a step discards it
	Open      bool      // only a run can tell where it ends
	Doubt     bool      // it is assumed that commands make what later steps use
	Skipped   bool      // its content was handled before: no step is taken
	Fails     string    // why it would fail before anything is run, or in placing
	Clashes   []string  // what is at its places already
	Job       *job.Job  // that has the file, and is not over; nil if one would begin
	First     *Foreseen // the file that is there now and that this would come of; nil if it is there itself
}

// Preview reports every file in the watched folders (or below paths, if any
// are named) what would be done with it, in the order of a sweep, and of what that
// would place where rules take it. It touches nothing: it plays the rules in a picture of
// the folders, asking what the watcher asks. tell is called for each file.
func Preview(set *plan.Set, l *ledger.Ledger, paths []string, now time.Time, tell func(Foreseen)) error {
	p := newPreviewer(set, l, now, tell)
	if len(paths) > 0 {
		machine := look.NewAsked()
		for _, path := range paths {
			if _, err := machine.Stat(path); errors.As(err, new(plan.NoAnswer)) {
				return err
			}
			if err := p.walk(path, map[string]int{path: rule.AllLevels}); err != nil {
				return err
			}
		}
		return p.chain()
	}
	err := p.all()
	if err == nil || errors.As(err, new(plan.NoAnswer)) { // what was seen goes on all the same
		err = errors.Join(p.chain(), err)
	}
	return err
}

// PreviewSome is Preview for what lies in one folder; enough is asked after each file whether
// it ends there.
func PreviewSome(set *plan.Set, folder string, now time.Time, enough func() bool, tell func(Foreseen)) error {
	p := newPreviewer(set, nil, now, tell)
	p.enough = func(string) bool { return enough() }
	if err := p.walk(folder, map[string]int{folder: rule.AllLevels}); err != nil && err != errEnough {
		return err
	}
	for p.endSets() {
		p.next = nil // what would come of the files is not asked
	}
	return nil
}

func newPreviewer(set *plan.Set, l *ledger.Ledger, now time.Time, tell func(Foreseen)) *previewer {
	return &previewer{set: set, l: l, again: renewedOf(set, l), open: hasOpen(l), now: now, tell: tell,
		scene: scene.New(), done: map[string]bool{}, handled: map[string]take.Memory{}, chains: map[string][]string{},
		joined: map[string]*decision{}, contents: contents{seen: map[string]bool{}}}
}

// all looks through the watched folders in the order of a sweep.
func (p *previewer) all() error {
	folders, machine := p.set.Folders(), look.NewAsked()
	if err := p.queued(); err != nil {
		return err
	}
	var silent error
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		if _, err := machine.Stat(folder); errors.As(err, new(plan.NoAnswer)) {
			silent = err // the others are told of all the same
			continue
		}
		if err := p.walk(folder, folders); err != nil && !os.IsNotExist(err) {
			return err
		}
	}
	return silent
}

// queuedPage is how many jobs are read at once.
const queuedPage = 1000

// queued looks at the files of jobs that wait in the ledger: those begin before a sweep has found anything.
func (p *previewer) queued() error {
	for after := int64(0); p.open; {
		jobs, err := p.l.OpenJobs("", []job.State{job.Queued, job.Retrying}, after, queuedPage)
		if err != nil || len(jobs) == 0 {
			return err
		}
		for _, j := range jobs {
			after = j.ID
			if p.set.Root(j.File) == "" || j.Due.After(p.now) {
				continue
			}
			_ = p.one(j.File, j.Facts.Dir)
			if p.enough != nil && p.enough(j.File) {
				return errEnough
			}
		}
	}
	return nil
}

type previewer struct {
	set      *plan.Set
	l        *ledger.Ledger
	again    *renewed
	late     []string // what is handled again when all else was offered
	renewing bool     // that is looked at now
	open     bool     // it has jobs that are not over
	now      time.Time
	tell     func(Foreseen)
	scene    *scene.Scene
	done     map[string]bool
	handled  map[string]take.Memory // by rule and path: what would have been handled and stays
	contents
	chains map[string][]string // by path: the rules that what is placed there went through
	next   []offered
	sets   gather.Machine
	joined map[string]*decision   // by path: files that wait in a group for others
	enough func(path string) bool // whether it ends behind a file; nil for never
}

// errEnough ends a preview early.
var errEnough = errors.New("enough has been foretold")

// offered is a file that a foretold job placed where rules watch.
type offered struct {
	path  string
	first *Foreseen
	stage int
}

// walk looks through a folder in the order of a sweep: what lies in it, then what lies in its
// folders, as far as they are within the depth of one of those that are wanted.
func (p *previewer) walk(path string, wanted map[string]int) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		if info, err := os.Stat(path); err != nil || !info.IsDir() {
			return p.one(path, false)
		}
	}
	var below []string
	enough := false
	err = watchfs.EachEntry(path, func(e watchfs.Entry) {
		name := filepath.Join(path, e.Name())
		if enough {
			return
		}
		if !e.Dir() {
			_ = p.one(name, false)
		} else if taken := p.unit(name); !taken && watchfs.Within(name, wanted) && name != p.set.File.StateFolder() {
			below = append(below, name)
		}
		enough = p.enough != nil && p.enough(name)
	})
	if enough {
		return errEnough
	}
	for _, name := range below {
		if err == nil {
			err = p.walk(name, wanted)
		}
	}
	return err
}

// unit reports a folder if it is one that a rule takes whole.
func (p *previewer) unit(path string) bool {
	if p.done[path] || len(p.set.Units(path, true)) == 0 {
		return p.done[path]
	}
	return p.one(path, true) == nil && p.done[path]
}

// one reports one file, or of one folder if it is a unit.
func (p *previewer) one(path string, dir bool) error {
	if p.done[path] {
		return nil
	}
	self, there := p.scene.Look(path)
	if !there {
		return nil // a job before would have taken it
	}
	return p.tellOf(path, self, dir, nil, 0)
}

// tellOf has the rules decide on a file of the scene, and tells what they would do.
func (p *previewer) tellOf(path string, self scene.Thing, dir bool, first *Foreseen, stage int) error {
	f := Foreseen{File: path, First: first, Stage: stage, Unmatched: !p.set.Placed(path)}
	from, made := p.sources(self)
	candidates, err := take.Candidates(p.set, path, dir, made)
	if err == nil && dir && len(candidates) == 0 {
		return nil // the files of a folder that rules have filled are looked at one by one
	}
	p.done[path] = true
	if len(candidates) > 0 && candidates[0].Unit != path {
		return nil // it goes with the folder that it lies in
	}
	o := &offer{f: f, self: self, from: from, all: candidates,
		decided: decided{replies: map[*rule.Rule]take.Reply{}, facts: self.Facts}}
	if err == nil && p.open && stage == 0 {
		o.f.Job, err = openJob(p.set, p.l, path)
		candidates, o.from.Memory = candidatesOf(candidates, o.f.Job), anew(from.Memory, o.f.Job)
	}
	if o.left = candidates; o.f.Job == nil || err != nil || len(candidates) == 0 {
		return p.ask(o, err)
	}
	o.left = candidates[:1]
	if err := p.ask(o, nil); err != nil {
		return err
	}
	if _, there := p.scene.Look(path); there && !o.f.Job.Due.After(p.now) { // the job leaves it to the others
		o.left = append(o.left, candidates[1:]...)
		return p.ask(o, nil)
	}
	return nil
}

// offer is a file that is offered to the rules.
type offer struct {
	f         Foreseen // what is to be told of it
	self      scene.Thing
	from      take.Sources
	all, left []plan.Candidate // whose names fit, and those of them that were not asked yet
	decided
}

// ask asks the rules that were not asked yet: the first that takes the file, and those behind one that shares it.
func (p *previewer) ask(o *offer, err error) error {
	for err == nil && len(o.left) > 0 {
		var v take.Verdict
		if v, err = take.Decide(o.left, take.Offer{Facts: o.facts, ByHand: true, Tell: true, Now: p.now},
			o.from); err != nil {
			break
		}
		for _, r := range v.Replies {
			o.replies[r.Candidate.Rule] = r
		}
		o.facts, o.claimed = v.Facts, o.claimed || v.Claimed
		if v.Taker == nil {
			break
		}
		next := o.f
		next.Rule, next.Unmatched, next.Job = v.Taker.Rule, false, ofRule(o.f.Job, v.Taker.Rule)
		o.self.Facts = v.Facts
		reply := v.Replies[len(v.Replies)-1]
		o.taking, o.left = append(o.taking, reply), o.left[len(v.Replies):]
		d := &decision{Foreseen: next, reply: reply, self: o.self, chain: v.Chain}
		if v.Taker.Rule.Share {
			d.shared = o
		}
		p.give(d, o.all)
		if d.shared == nil || d.done == nil || d.NotYet != "" {
			return nil // no other rule is asked, or not before its batch or group is over
		}
		d.shared = nil
	}
	return p.refuse(o, err)
}

// refuse tells of a file that no rule takes.
func (p *previewer) refuse(o *offer, err error) error {
	f := &o.f
	switch {
	case err == nil && p.putOff(o):
		return nil
	case err != nil:
		f.Reason = err.Error()
	case len(o.taking) > 0 || f.Stage > 0:
		return nil
	case len(o.replies) == 0:
		f.Reason = "no rule's pattern fits its name"
		if !p.set.Watched(f.File) {
			f.Reason = "no rule watches its folder"
		}
		if rules := p.set.AgainOn(f.File); len(rules) > 0 {
			f.Reason = fmt.Sprintf("when it changes, the rule %s handles all again", rules[0].Name.S)
			f.Unmatched = false
		}
		if why := p.set.LeftAlone(f.File); why != "" {
			f.Reason, f.Unmatched = why, false
		} else if r := p.disabled(f.File, o.facts); r != nil {
			f.Reason = fmt.Sprintf("the rule %s is disabled", r.Name.S)
		}
	default:
		f.Reason, f.Unmatched = o.why(p.set), f.Unmatched && !o.claimed
	}
	p.tell(*f)
	return err
}

// disabled is the first rule that would take a file if it were not off in the rules file.
func (p *previewer) disabled(path string, facts file.Facts) *rule.Rule {
	for _, r := range p.set.Rules() {
		if r.Enabled {
			continue
		}
		conditions, _ := p.set.Explain(r, path, facts, file.Added, p.now)
		if !slices.ContainsFunc(conditions, func(c plan.Condition) bool { return !c.Fits && c.Key != "enabled" }) {
			return r
		}
	}
	return nil
}

// sources are what a decision asks, in the scene: the ledger's memory, and what was
// foretold before.
func (p *previewer) sources(self scene.Thing) (take.Sources, func(unit string) (bool, error)) {
	from, filled := askLedger(p.set, p.l)
	memory, chain := from.Memory, from.Chain
	if p.renewing {
		memory = p.again.over(memory, self.Facts)
	}
	from.Memory = func(c plan.Candidate) (take.Memory, bool, error) {
		if m, ok := p.handled[c.Rule.Name.S+"\x00"+c.Unit]; ok {
			return m, true, nil
		}
		if memory == nil {
			return take.Memory{}, false, nil
		}
		return memory(c)
	}
	from.Passed = func(c plan.Candidate, _ file.Facts) []string { return p.chains[c.Unit] }
	from.Chain = func(c plan.Candidate, f file.Facts) ([]string, error) {
		if known, ok := p.chains[c.Unit]; ok {
			return known, nil
		}
		if chain == nil {
			return nil, nil
		}
		return chain(c, f)
	}
	from.Inside = func(c plan.Candidate, f *file.Facts) error {
		at := self.Source
		if at == "" {
			at = c.Unit
		}
		look.CompleteAs(p.set, c.Rule, at, c.Unit, f)
		return nil
	}
	return from, func(unit string) (bool, error) {
		for path := range p.scene.Now {
			if strings.HasPrefix(path, unit+string(filepath.Separator)) && !p.scene.Now[path].Gone &&
				p.scene.Now[path].Rule != "" {
				return true, nil
			}
		}
		if filled == nil {
			return false, nil
		}
		return filled(unit)
	}
}

// why says in a few words why no rule takes a file.
func (d decided) why(set *plan.Set) string {
	for _, r := range set.Rules() {
		reply, asked := d.replies[r]
		if !asked {
			continue
		}
		switch reply.Answer {
		case take.Handled, take.Shared:
			return fmt.Sprintf("the rule %s has handled it already", r.Name.S)
		case take.Left:
			return fmt.Sprintf("the rule %s leaves it alone", r.Name.S)
		case take.Loop:
			return fmt.Sprintf("it went through the rule %s before", r.Name.S)
		case take.NextSweep:
			return fmt.Sprintf("the rule %s takes it at the next sweep", r.Name.S)
		case take.Deaf:
			return fmt.Sprintf("the rule %s does not react to files that are %s", r.Name.S, reply.Event)
		}
	}
	return "no rule's conditions fit it"
}

// ours reports whether what has a name was placed by a rule itself, and is still that.
func (p *previewer) ours(name string) func(path string, t scene.Thing) bool {
	return func(path string, t scene.Thing) bool {
		if t.Rule != "" || p.l == nil {
			return t.Rule == name
		}
		placed, ok, err := p.l.PlacedBy(name, path)
		return err == nil && ok && placed.After.Size == t.Facts.Size && placed.After.Mod == t.Facts.Mod
	}
}

// offerNext offers what was placed to the rules that watch there; of a folder that no
// rule takes whole, what lies in it.
func (p *previewer) offerNext(path string, t scene.Thing, chain []string, first *Foreseen, stage int) {
	if p.set.Watched(path) {
		p.chains[path] = chain
		p.next = append(p.next, offered{path, first, stage})
	}
	if !t.Facts.Dir || t.Source == "" {
		return
	}
	_ = watchfs.EachEntry(t.Source, func(e watchfs.Entry) {
		inner := filepath.Join(path, e.Name())
		if below, there := p.scene.Look(inner); there && (below.Facts.Regular || below.Facts.Dir) {
			p.offerNext(inner, below, chain, first, stage)
		}
	})
}

// chain goes on with what was placed, stage by stage, and ends with the groups that nothing else joins.
func (p *previewer) chain() error {
	p.renew()
	for len(p.next) > 0 || p.endSets() {
		o := p.next[0]
		p.next = p.next[1:]
		self, there := p.scene.Look(o.path)
		if !there {
			continue
		}
		if err := p.tellOf(o.path, self, self.Facts.Dir, o.first, o.stage); err != nil {
			return err
		}
	}
	return nil
}

// steps foretells the steps; said is what is to be said before them.
func (p *previewer) steps(w *work.Foretelling, said string) {
	if said != "" {
		w.Steps = append(w.Steps, said)
	}
	if err := w.Job.Ready(); err != nil {
		w.Wrong = err.Error()
	}
	for i := range w.Job.Rule.Steps {
		if w.Wrong == "" {
			w.Step(&w.Job.Rule.Steps[i])
		}
	}
}

// shotSaid says where the {shot} of a rule comes from, nil if it has none.
func shotSaid(r *rule.Rule, f file.Facts) []string {
	switch shot := f.Says().Shot; {
	case !r.Uses("shot"):
		return nil
	case shot.IsZero():
		return []string{"{shot}: " + f.Mod.Time().Format(time.DateTime) +
			", when it was modified: it does not say when it was taken"}
	default:
		return []string{"{shot}: " + shot.Format(time.DateTime) + ", as the file itself says"}
	}
}

// chainOf is the chain of what a job of a rule places.
func chainOf(chain []string, r *rule.Rule) []string { return loop.Through(chain, r.Name.S) }
