// Package sift tells, while a folder is swept, of which of its files nothing is to be decided:
// those that rules know, and that are as the rules know them.
//
// A tree that has been handled is full of them, and a sweep of it should cost little more than
// listing it. So what is remembered is read in the order in which folders are listed, a stretch
// at a time, beside the flow. What a file that is known means is asked of the same function that
// the flow asks (take.Decide); a file for which that needs anything else is told to the flow.
// So are the files whose results are lost, where rules make those again (Lost).
package sift

import (
	"errors"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/watchfs"
)

// Memory is what the rules remember. The ledger is one.
type Memory interface {
	KnowsFiles() bool
	KnownAmong(rule, from, to string, about int) ([]job.Known, error)
	KnownBelow(rule, folder string) (n int, all bool)
	KnownEdits(rule string) int
}

// Sifter sifts the sweeps of all watched folders. Use New.
type Sifter struct {
	memory Memory
	byHand bool // see take.Offer
	set    atomic.Pointer[plan.Set]

	mu     sync.Mutex
	passes map[string]*pass // by root: the last one
}

// New returns a sifter that lets everything through.
func New(m Memory, byHand bool) *Sifter {
	return &Sifter{memory: m, byHand: byHand, passes: map[string]*pass{}}
}

// Use sets the rules, nil for sweeps that tell all: those in which files are handled whatever
// is known of them.
func (s *Sifter) Use(set *plan.Set) {
	if set != nil && set.TakesFolders() {
		set = nil // what a file is depends on all that lies beside it
	}
	s.set.Store(set)
}

// Begin begins the sweep of a root.
func (s *Sifter) Begin(root string) watchfs.Sieve {
	set := s.set.Load()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.passes, root)
	if set == nil || !s.memory.KnowsFiles() {
		return nil
	}
	p := &pass{sifter: s, set: set, seen: map[string]int{}, edits: map[string]int{}}
	s.passes[root] = p
	return p
}

// SawAll reports whether the last sweep of a root saw every file that a rule remembers below it.
func (s *Sifter) SawAll(root, rule string) bool {
	s.mu.Lock()
	p := s.passes[root]
	s.mu.Unlock()
	if p == nil {
		return false
	}
	n, all := s.memory.KnownBelow(rule, root)
	p.mu.Lock()
	defer p.mu.Unlock()
	before, is := p.edits[rule]
	return is && all && n == p.seen[rule] && before == s.memory.KnownEdits(rule)
}

// pass is the sweep of one root.
type pass struct {
	sifter *Sifter
	set    *plan.Set

	mu    sync.Mutex
	seen  map[string]int // by rule: files that it remembers, and that are there
	edits map[string]int // by rule: how often what it remembers had changed when that was first read
}

// reads notes that what a rule remembers is about to be read.
func (p *pass) reads(rule string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, before := p.edits[rule]; !before {
		p.edits[rule] = p.sifter.memory.KnownEdits(rule)
	}
}

// Quiet marks the files of which nothing is to be decided: it goes by stretches of files with no
// folder between them, so that nothing is read of what lies below.
func (p *pass) Quiet(d *os.File, entries []watchfs.Entry, quiet []bool, answered func()) {
	if p.sifter.set.Load() != p.set {
		return // the rules have changed meanwhile, or everything is to be told
	}
	k := newKnown(p, answered)
	for from := 0; from < len(entries); from++ {
		to := from
		for to < len(entries) && !entries[to].Dir() {
			to++
		}
		if to > from {
			k.stretch(d, entries[from:to], quiet[from:to])
		}
		from = to
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for rule, n := range k.seen {
		p.seen[rule] += n
	}
}

// known is what the rules remember of a stretch of files.
type known struct {
	pass     *pass
	answered func()
	from, to string
	files    int              // how many they are
	rows     map[string]*rows // by rule
	seen     map[string]int
	facts    file.Facts // of the file that is decided on
	more     bool       // a rule decides on it by more than what it remembers
	now      time.Time
	verdict  take.Verdict
	sources  take.Sources
}

// rows are those of one rule, and how far they have been gone through.
type rows struct {
	list []job.Known
	at   int
	err  error
}

// errMany says that what so many rules remember is not read ahead.
var errMany = errors.New("too many rules in one folder")

func newKnown(p *pass, answered func()) *known {
	k := &known{pass: p, answered: answered, seen: map[string]int{}, now: time.Now()}
	k.sources = take.Sources{Memory: k.recall, Inside: k.inside}
	return k
}

// inside notes that a decision would look into the file.
func (k *known) inside(plan.Candidate, *file.Facts) error {
	k.more = true
	return nil
}

func (k *known) stretch(d *os.File, entries []watchfs.Entry, quiet []bool) {
	folder := strings.TrimSuffix(d.Name(), "/") + "/"
	path := func(i int) string { return folder + entries[i].Name() }
	k.from, k.to, k.files, k.rows = path(0), path(len(entries)-1), len(entries), map[string]*rows{}
	for i := range entries {
		quiet[i] = k.isQuiet(d, entries[i].Name(), path(i))
	}
}

// isQuiet reports whether nothing is to be decided about a file.
func (k *known) isQuiet(d *os.File, name, path string) bool {
	set := k.pass.set
	candidates := set.Candidates(path)
	if len(candidates) == 0 || len(set.AgainOn(path)) > 0 {
		return false
	}
	var err error
	k.facts, err = watchfs.StatIn(d, name)
	if k.answered(); err != nil || !k.facts.Regular {
		return false
	}
	k.more = false
	offer := take.Offer{Facts: k.facts, ByHand: k.pass.sifter.byHand, Now: k.now}
	if err := k.verdict.Decide(candidates, &offer, &k.sources); err != nil {
		return false
	}
	v := &k.verdict
	return v.Claimed && !k.more && v.Taker == nil && len(v.Remember) == 0 && v.Older.IsZero()
}

// recall finds what a rule remembers of a file.
func (k *known) recall(c plan.Candidate) (take.Memory, bool, error) {
	row, is, err := k.find(c.Rule, c.Unit)
	if is {
		k.seen[c.Rule.Name.S]++
	}
	return take.Memory{Facts: row.Facts, Job: row.Job}, is, err
}

// maxRules is for how many rules what they remember is read ahead: more of them in one folder
// are asked by the flow.
const maxRules = 16

// find finds a file among the rows of a rule, which are read when they are first asked for.
// Files are asked for in the order of their paths.
func (k *known) find(r *rule.Rule, path string) (job.Known, bool, error) {
	got := k.rows[r.Name.S]
	if got == nil {
		if len(k.rows) == maxRules {
			return job.Known{}, false, errMany
		}
		got = &rows{}
		k.rows[r.Name.S] = got
		k.pass.reads(r.Name.S)
		got.list, got.err = k.pass.sifter.memory.KnownAmong(r.Name.S, k.from, k.to, k.files)
	}
	for got.at < len(got.list) && got.list[got.at].File < path {
		got.at++
	}
	if got.at == len(got.list) || got.list[got.at].File != path {
		return job.Known{}, false, got.err
	}
	return got.list[got.at], true, got.err
}
