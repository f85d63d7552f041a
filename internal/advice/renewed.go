package advice

import (
	"errors"
	"path/filepath"
	"slices"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
	"stilltide/internal/placing"
	"stilltide/internal/sift"
)

// renewed tells what the next look has handled again: of which rules all, and the files whose result is lost (repair).
// What cannot be read counts as it was: the watcher handles nothing again for it either.
type renewed struct {
	set     *plan.Set
	l       *ledger.Ledger
	changed map[*rule.Rule]string // by rule: the file of its again_on that has changed
	mounts  placing.Mounts
	machine look.Asked
	lost    map[ruleFolder]map[string]bool // the files whose result is lost, as far as they were asked for
}

// ruleFolder is a folder that a rule watches.
type ruleFolder struct {
	rule *rule.Rule
	root string
}

// renewedOf asks what the watcher asks about the files of again_on. l may be nil.
func renewedOf(set *plan.Set, l *ledger.Ledger) *renewed {
	again := &renewed{set: set, l: l, changed: map[*rule.Rule]string{}, lost: map[ruleFolder]map[string]bool{}}
	if l == nil {
		return again
	}
	again.machine = look.NewAsked()
	from := settings{l, set, again.machine}
	for _, r := range set.Rules() {
		for _, p := range r.AgainOn {
			for _, path := range from.files(r, p.Absolute()) {
				if _, handle := take.Setting(from, r.Name.S, path, false); handle && r.Enabled {
					again.changed[r] = path
				}
			}
		}
	}
	if points, err := l.Mounts(); err == nil {
		again.mounts.Begin(unwritten{}, set, points)
	}
	return again
}

// unwritten is a book of mount points in which nothing is written.
type unwritten struct{}

func (unwritten) RememberMount(string, string) {}

// why says why a rule that has handled a file handles it again, "" if it does not.
func (again *renewed) why(c plan.Candidate) string {
	if again.l == nil || again.changed[c.Rule] == "" && c.Rule.Repairs() == nil {
		return ""
	}
	m, known, err := take.MemoryOf(again.l)(c)
	if err != nil || !known {
		return ""
	}
	return again.since(c, m)
}

// since is why with what the rule remembers of the file.
func (again *renewed) since(c plan.Candidate, m take.Memory) string {
	switch path := again.changed[c.Rule]; {
	case m.Job == 0:
		return "" // it was only left alone
	case path != "":
		return plan.Display(path) + " has changed"
	case c.Rule.Repairs() != nil && again.hasLost(c, m.Job):
		return "its result is lost, or was changed by hand"
	}
	return ""
}

// hasLost reports whether the result of a file is made again. Most are as they were made, and that is seen at once.
func (again *renewed) hasLost(c plan.Candidate, job int64) bool {
	if !again.differs(job) {
		return false
	}
	key := ruleFolder{c.Rule, c.Root}
	if again.lost[key] == nil {
		again.lost[key] = map[string]bool{}
		list, all := sift.Lost(again.l, again.set, c.Rule, c.Root, again.mounts.Away)
		for _, lost := range list {
			again.lost[key][lost.Input] = !take.TooMany(len(list), all)
		}
	}
	return again.lost[key][c.Unit]
}

// differs reports whether anything that a job made is not as it was made.
func (again *renewed) differs(id int64) bool {
	list, err := again.l.Placements(id)
	return err == nil && slices.ContainsFunc(list, func(p job.Placement) bool {
		if p.Kind != job.Put || p.State != job.Done {
			return false
		}
		if _, err := again.machine.Stat(filepath.Dir(p.Target)); errors.As(err, new(plan.NoAnswer)) {
			return false
		}
		return sift.Differs(p.Target, p.After)
	})
}

// over makes the memory of a file that has not changed one in which what is handled again was not handled.
func (again *renewed) over(memory func(plan.Candidate) (take.Memory, bool, error),
	now file.Facts) func(plan.Candidate) (take.Memory, bool, error) {
	if memory == nil {
		return nil
	}
	return func(c plan.Candidate) (take.Memory, bool, error) {
		m, known, err := memory(c)
		if known && err == nil && m.Facts.Same(now) && again.since(c, m) != "" {
			return take.Memory{}, false, nil
		}
		return m, known, err
	}
}

// putOff puts a file off that rules have handled, if one of them handles it again: that comes when all that is new or
// has changed was offered.
func (p *previewer) putOff(o *offer) bool {
	if p.renewing || o.f.Stage > 0 {
		return false
	}
	for _, r := range o.replies {
		if (r.Answer == take.Handled || r.Answer == take.Shared) && p.again.why(r.Candidate) != "" {
			p.late = append(p.late, o.f.File)
			return true
		}
	}
	return false
}

// renew tells of the files that were put off.
func (p *previewer) renew() {
	p.renewing = true
	for _, path := range p.late {
		delete(p.done, path)
		self, there := p.scene.Look(path)
		if there {
			_ = p.tellOf(path, self, self.Facts.Dir, nil, 0) // what cannot be read is told of the file
		}
	}
	p.late = nil
}

// settings is what is asked about the files of again_on.
type settings struct {
	*ledger.Ledger
	set     *plan.Set
	machine look.Asked
}

// files lists those that a path or a glob of again_on means: what is there, and what was.
func (s settings) files(r *rule.Rule, glob string) []string {
	folder := filepath.Dir(glob)
	if _, err := s.machine.Stat(folder); err != nil {
		return nil // what is not there, or does not answer, has not changed
	}
	paths, _ := filepath.Glob(glob)
	for after := ""; ; {
		known, next, err := s.KnownFiles(job.SettingsOf(r.Name.S), folder, after)
		for _, path := range known {
			if r.HandlesAgainOn(path) {
				paths = append(paths, path)
			}
		}
		if after = next; err != nil || next == "" {
			return paths
		}
	}
}

// Look is part of what take.Setting asks.
func (s settings) Look(path string) (file.Facts, error) { return look.From(s.set, path) }

// Hash is part of what take.Setting asks.
func (s settings) Hash(path string, size int64) (string, error) { return content.Hash("", path, size) }
