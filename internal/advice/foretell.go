package advice

import (
	"maps"
	"slices"
	"sort"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/scene"
	"stilltide/internal/work"
)

// decision is that a rule takes a file of the scene.
type decision struct {
	Foreseen
	reply take.Reply
	self  scene.Thing
	chain []string // rules that the file went through
	late  string   // why its job fails before it begins: it was not ready, or its group not complete, in time
}

// foreseeOne foretells one file as a preview of all would: what is foretold of the files
// before it counts. A file that is not there, or lies elsewhere, is foretold by itself.
func foreseeOne(set *plan.Set, l *ledger.Ledger, path string, self scene.Thing, t take.Reply,
	now time.Time) Foreseen {
	var found *Foreseen
	p := newPreviewer(set, l, now, func(f Foreseen) {
		if f.File == path && f.Stage == 0 && found == nil {
			found = &f
		}
	})
	p.enough = func(at string) bool { return at == path && !isGroup(t.Candidate.Rule) }
	if self.Facts.Ino != 0 {
		err := p.all()
		if err == nil && isGroup(t.Candidate.Rule) {
			err = p.chain() // of the others, too, it depends whether its group is complete
		}
		if (err == nil || err == errEnough) && found != nil && found.Rule == t.Candidate.Rule {
			return *found
		}
	}
	d := &decision{Foreseen: Foreseen{File: path, Rule: t.Candidate.Rule}, reply: t, self: self}
	newPreviewer(set, l, now, func(Foreseen) {}).foretell(d)
	return d.Foreseen
}

func isGroup(r *rule.Rule) bool { return r.Gather != nil && r.Gather.IsGroup() }

// settles asks whether a file is ready as a sweep asks: for the first rule whose name fits it, and
// then for the one that takes it. marked reports whether a marker is there.
func settles(candidates []plan.Candidate, taker *rule.Rule, path string, facts file.Facts,
	marked func(marker string) bool, now time.Time) settle.Decision {
	for r := candidates[0].Rule; ; r = taker {
		if marker := plan.MarkerOf(r, path); marker != "" {
			facts.Marker = marked(marker)
		}
		d := settle.InSweep(plan.Policy(r), path, facts, now)
		waits := (d.Verdict == settle.Wait || d.Verdict == settle.Late) && !d.Quiet
		if waits || r == taker || plan.SameWait(taker, r) {
			return d
		}
	}
}

// marked reports whether a marker is there, and whole: one that is still being written says nothing yet.
func marked(f file.Facts) bool { return f.Exists && f.Writers != file.Some }

// give has a rule take a file, if that is ready: now, or when its group is complete. candidates are all
// rules whose names fit.
func (p *previewer) give(d *decision, candidates []plan.Candidate) {
	r, facts := d.Rule, d.self.Facts
	if d.Stage > 0 {
		facts.Change = file.At(p.now) // it has just been placed
	}
	if d.Job == nil {
		is := func(marker string) bool {
			t, there := p.scene.Look(marker)
			return there && marked(t.Facts)
		}
		switch s := settles(candidates, r, d.File, facts, is, p.now); {
		case s.Verdict == settle.Give:
			d.late = plan.NotReady(s.Why)
		case s.Verdict != settle.Ready && !s.Quiet:
			d.NotYet = s.Why
		}
	}
	if !isGroup(r) || d.Job != nil || d.NotYet != "" || d.late != "" {
		p.end(d)
		return
	}
	key, err := d.reply.Candidate.Set(d.self.Facts, d.reply.Event, p.now)
	if err != nil {
		d.NotYet = err.Error()
		p.end(d)
		return
	}
	p.joined[d.File] = d
	p.sets.Join(key, r.Gather.Spec(), gather.Member{Path: d.File, Facts: facts, Chain: d.chain}, p.now)
	p.complete()
}

// end foretells and tells.
func (p *previewer) end(d *decision) {
	p.foretell(d)
	p.tell(d.Foreseen)
}

// complete goes on with the groups that have ended.
func (p *previewer) complete() {
	for _, g := range p.sets.Due(p.now) {
		sort.Slice(g.Members, func(i, k int) bool { return g.Members[i].Path < g.Members[k].Path })
		for _, m := range g.Members {
			d := p.joined[m.Path]
			delete(p.joined, m.Path)
			if len(g.Missing) > 0 && d.Rule.Gather.Overdue == rule.GroupFails {
				d.late = plan.Incomplete(g)
			}
			p.end(d)
		}
	}
}

// endSets ends the groups that a sweep does not wait for, and tells which files are left. It reports whether
// there is more to foretell now.
func (p *previewer) endSets() (more bool) {
	if p.sets.EndWaits(p.now) {
		p.complete()
	}
	if len(p.next) > 0 {
		return true
	}
	left := map[string]string{}
	p.sets.Each(func(path string, _ gather.Key, _ time.Time, missing []string) { left[path] = plan.Awaits(missing) })
	p.sets = gather.Machine{}
	for _, path := range slices.Sorted(maps.Keys(left)) {
		d := p.joined[path]
		d.NotYet = left[path]
		p.end(d)
	}
	clear(p.joined)
	return false
}

// foretell has one rule take one file in the scene, and finds out what comes of it.
func (p *previewer) foretell(d *decision) {
	f, self, c := &d.Foreseen, d.self, d.reply.Candidate
	p.scene.Begin()
	w := &work.Foretelling{Scene: p.scene, State: p.set.File.StateFolder(), Now: p.now, Ours: p.ours(c.Rule.Name.S),
		At: c.Unit, Self: self, Job: c.Begin(self.Facts, d.reply.Event, p.now, p.set.File.StateFolder())}
	if f.Job != nil {
		w.Job.ID = f.Job.ID
	}
	w.Job.Exists = func(path string) (bool, error) { _, ok := p.scene.Look(path); return ok, nil }
	skipped, hash, said := p.handledBefore(w, d.reply.Unless)
	switch f.Skipped = skipped; {
	case d.late != "":
		w.Wrong = d.late
	case skipped:
		w.Steps = []string{"skip it: the same content was handled before"}
	default:
		p.steps(w, said)
	}
	if w.Wrong == "" {
		w.End(c.Rule.Processed, c.Rule.SameName)
	}
	f.Steps, f.From, f.Thrown = w.Steps, shotSaid(c.Rule, self.Facts), w.Thrown
	if w.Wrong != "" {
		p.scene.TakeBack() // a failed attempt takes back what it placed
		f.Fails = w.Wrong
		w.Self, w.Open, w.Placed, w.Notes = self, false, nil, nil
		if w.Thrown == "deleted" { // that cannot be taken back
			w.At = ""
			p.scene.Remove(c.Unit)
		} else {
			w.At, f.Thrown = c.Unit, ""
		}
		w.Job.At = ""
		w.Wrong = ""
		same := c.Rule.SameName
		if same == rule.SameFail {
			same = rule.SameNumber
		}
		w.End(c.Rule.Failed, same)
	}
	f.Clashes = w.Notes
	f.Open, f.Doubt = w.Open, w.Doubt
	if w.At != c.Unit && !w.Open {
		f.FileAfter = w.At
	}
	if f.NotYet != "" {
		p.scene.TakeBack()
		return
	}
	if hash != "" && !f.Skipped && f.Fails == "" {
		p.contents.seen[c.Rule.Name.S+"\x00"+hash] = true
	}
	p.follow(f, c, w, d.chain)
}
