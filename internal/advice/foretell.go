package advice

import (
	"maps"
	"slices"
	"sort"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/loop"
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
	chain []string  // rules that the file went through
	late  string    // why its job fails before it begins: it was not ready, or its group not complete, in time
	with  *decision // another file of its batch or group that fails, or stays: then this one does, too
	hash  string
	done  *work.Foretelling

	shared *offer // to the rules after this one, when its job is over
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
	p.enough = func(at string) bool { return at == path && t.Candidate.Rule.Gather == nil }
	if self.Facts.Ino != 0 {
		err := p.all()
		if err == nil && t.Candidate.Rule.Gather != nil {
			err = p.chain() // others may complete its group, and one of them may fail
		}
		if (err == nil || err == errEnough) && found != nil && found.Rule == t.Candidate.Rule {
			return *found
		}
	}
	d := &decision{Foreseen: Foreseen{File: path, Rule: t.Candidate.Rule}, reply: t, self: self}
	newPreviewer(set, l, now, func(Foreseen) {}).foretell(d)
	return d.Foreseen
}

// settles asks whether a file is ready as a sweep asks: for the first rule whose name fits it, and
// then for the one that takes it. isMarked reports whether a marker is there.
func settles(candidates []plan.Candidate, taker *rule.Rule, path string, facts file.Facts,
	isMarked func(marker string) bool, now time.Time) settle.Decision {
	for r := candidates[0].Rule; ; r = taker {
		if marker := plan.MarkerOf(r, path); marker != "" {
			facts.Marker = isMarked(marker)
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

// give has a rule take a file, if that is ready: now, or when its batch or group has ended. candidates are all
// rules whose names fit.
func (p *previewer) give(d *decision, candidates []plan.Candidate) {
	r := d.Rule
	if d.Stage > 0 {
		d.self.Facts.Change = file.At(p.now) // it has just been placed
	}
	if d.Job == nil {
		is := func(marker string) bool {
			t, there := p.scene.Look(marker)
			return there && marked(t.Facts)
		}
		switch s := settles(candidates, r, d.File, d.self.Facts, is, p.now); {
		case s.Verdict == settle.Give:
			d.late = plan.NotReady(s.Why)
		case s.Verdict != settle.Ready && !s.Quiet:
			d.NotYet = s.Why
		}
	}
	if r.Gather == nil || d.Job != nil || d.NotYet != "" || d.late != "" {
		p.end(d)
		return
	}
	p.join(d)
}

// join has a file wait for the others of its batch or group.
func (p *previewer) join(d *decision) {
	key, err := d.reply.Candidate.Set(d.self.Facts, d.reply.Event, p.now)
	if err != nil {
		d.NotYet = err.Error()
		p.end(d)
		return
	}
	p.joined[d.File] = d
	p.sets.Join(key, d.Rule.Gather.Spec(), gather.Member{Path: d.File, Facts: d.self.Facts, Chain: d.chain}, p.now)
}

// end foretells the files of a job, and tells of them. If one fails, or stays because its name is there, so do all.
func (p *previewer) end(files ...*decision) {
	mark := p.scene.Mark()
	p.foretellAll(files)
	at := slices.IndexFunc(files, func(d *decision) bool { return d.Fails != "" || d.done.Stays })
	if at >= 0 && len(files) > 1 {
		p.scene.TakeBack(mark)
		one := *files[at]
		for _, d := range files {
			d.with = &one
		}
		p.foretellAll(files)
	}
	p.scene.Keep()
	for _, d := range files {
		if d.NotYet == "" {
			p.follow(d)
		}
		p.tell(d.Foreseen)
	}
}

func (p *previewer) foretellAll(files []*decision) {
	for _, d := range files {
		p.foretell(d)
	}
}

// complete goes on with the batches and groups that have ended by a time.
func (p *previewer) complete(by time.Time) {
	for _, g := range p.sets.Due(by) {
		sort.Slice(g.Members, func(i, k int) bool { return g.Members[i].Path < g.Members[k].Path })
		var files []*decision
		for _, m := range g.Members {
			d := p.joined[m.Path]
			delete(p.joined, m.Path)
			if len(g.Missing) > 0 && d.Rule.Gather.Overdue == rule.GroupFails {
				d.late = plan.Incomplete(g)
			}
			files = append(files, d)
		}
		p.end(files...)
		for _, d := range files {
			if d.shared != nil {
				_ = p.ask(d.shared, nil) // what cannot be read is told of the file
			}
		}
	}
}

// never is later than any time at which a batch may end.
const never = 100 * 365 * 24 * time.Hour

// endSets ends the batches, and the groups that a sweep does not wait for. It reports whether there is more to
// foretell now; if not, it tells which files are left.
func (p *previewer) endSets() (more bool) {
	left := map[string]string{}
	for p.sets.Len() > len(left) { // a rule that shares its batch may have one after it
		p.sets.EndWaits(p.now)
		p.complete(p.now)
		clear(left)
		p.sets.Each(func(path string, _ gather.Key, _ time.Time, missing []string) {
			if len(missing) > 0 {
				left[path] = plan.Awaits(missing)
			}
		})
		for path := range left {
			p.sets.Leave(path)
		}
		p.complete(p.now.Add(never))
		for path := range left {
			p.join(p.joined[path])
		}
	}
	if len(p.next) > 0 {
		return true
	}
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
	f, self, c, mark := &d.Foreseen, d.self, d.reply.Candidate, p.scene.Mark()
	w := &work.Foretelling{Scene: p.scene, State: p.set.File.StateFolder(), Now: p.now, Ours: p.ours(c.Rule.Name.S),
		From: p.from(c.Rule.Name.S),
		At:   c.Unit, Self: self, Job: c.Begin(self.Facts, d.reply.Event, p.now, p.set.File.StateFolder())}
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
	d.goAlong(w)
	f.Steps, f.From, f.Thrown, f.Fails = w.Steps, shotSaid(c.Rule, self.Facts), w.Thrown, w.Wrong
	if w.Wrong != "" {
		p.scene.TakeBack(mark) // a failed attempt takes back what it placed
		p.fail(d, w)
	}
	f.Clashes, f.Open, f.Doubt, f.FileAfter = w.Notes, w.Open, w.Doubt, ""
	if w.At != c.Unit && !w.Open {
		f.FileAfter = w.At
	}
	if f.NotYet != "" {
		p.scene.TakeBack(mark)
	}
	d.hash, d.done = hash, w
}

// goAlong places the file after its steps, as far as the other files of its job let it.
func (d *decision) goAlong(w *work.Foretelling) {
	r := d.reply.Candidate.Rule
	switch {
	case w.Wrong != "":
	case d.with == nil:
		w.End(r.Processed, r.SameName)
	case d.with.Fails != "":
		w.Wrong = d.with.Fails
	case d.with.File == d.File:
		w.Notes = d.with.Clashes
	default:
		w.Notes = append(w.Notes, plan.Display(d.with.File)+" of the same job stays, so this one does, too")
	}
}

// fail foretells where the file of a job goes that fails.
func (p *previewer) fail(d *decision, w *work.Foretelling) {
	r, path := d.reply.Candidate.Rule, d.reply.Candidate.Unit
	w.Self, w.Open, w.Placed, w.Notes = d.self, false, nil, nil
	if w.Thrown == "deleted" { // that cannot be taken back
		w.At = ""
		p.scene.Remove(path)
	} else {
		w.At, d.Thrown = path, ""
	}
	w.Job.At, w.Wrong = "", ""
	same := r.SameName
	if same == rule.SameFail {
		same = rule.SameNumber
	}
	w.End(r.Failed, same)
	w.Stays = false
}

// follow notes what a foretold job leaves: what stays is remembered, what it placed
// where rules watch is offered to them.
func (p *previewer) follow(d *decision) {
	f, w, name, path := &d.Foreseen, d.done, d.reply.Candidate.Rule.Name.S, d.reply.Candidate.Unit
	if d.hash != "" && !f.Skipped && f.Fails == "" {
		p.contents.seen[name+"\x00"+d.hash] = true
	}
	if w.At == path {
		p.handled[name+"\x00"+path] = take.Memory{Facts: w.Self.Facts, Job: 1}
	}
	if f.Stage >= loop.MaxPasses {
		return
	}
	first := f.First
	if first == nil {
		first = f
	}
	if w.At == path && f.Job != nil { // when that is over, all rules are asked
		p.next = append(p.next, offered{path, first, f.Stage + 1})
	}
	for _, at := range w.Placed {
		if t, there := p.scene.Look(at); there {
			p.offerNext(at, t, chainOf(d.chain, d.reply.Candidate.Rule), first, f.Stage+1)
		}
	}
}

// from finds the file from which a rule made what has a name.
func (p *previewer) from(name string) func(path string) string {
	return func(path string) string {
		if p.l == nil {
			return ""
		}
		return byhand.MadeFrom(p.l, name, path)
	}
}
