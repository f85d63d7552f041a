package advice

import (
	"path/filepath"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/take"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
)

// renewed are the rules that the next look has handle all again, each with the file of its again_on that has changed.
type renewed map[*rule.Rule]string

// renewedOf asks what the watcher asks about the files of again_on. l may be nil. What cannot be read counts as it was:
// the watcher handles nothing again for it either.
func renewedOf(set *plan.Set, l *ledger.Ledger) renewed {
	if l == nil {
		return nil
	}
	from, again := settings{l, set, look.NewAsked()}, renewed{}
	for _, r := range set.Rules() {
		for _, p := range r.AgainOn {
			for _, path := range from.files(r, p.Absolute()) {
				if _, handle := take.Setting(from, r.Name.S, path); handle && r.Enabled {
					again[r] = path
				}
			}
		}
	}
	return again
}

// of is the changed file for which a rule that has handled a file handles it again, "" if it does not.
func (again renewed) of(l *ledger.Ledger, c plan.Candidate) string {
	if again[c.Rule] == "" {
		return ""
	}
	m, known, err := take.MemoryOf(l)(c)
	if err != nil || !known || m.Job == 0 {
		return ""
	}
	return again[c.Rule]
}

// over makes a memory one in which what is handled again was not handled.
func (again renewed) over(memory func(plan.Candidate) (take.Memory, bool, error)) func(plan.Candidate) (take.Memory, bool,
	error) {
	if len(again) == 0 {
		return memory
	}
	return func(c plan.Candidate) (take.Memory, bool, error) {
		m, known, err := memory(c)
		if again[c.Rule] != "" && m.Job != 0 {
			return take.Memory{}, false, err
		}
		return m, known, err
	}
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
