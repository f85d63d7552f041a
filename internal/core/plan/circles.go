package plan

import (
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/rule"
)

// Shadowed gives the earlier rule that takes every file that a rule could
// take, nil if there is none that surely does.
func (s *Set) Shadowed(r *rule.Rule) *rule.Rule {
	if !r.Enabled || len(r.Folders) == 0 {
		return nil
	}
	var first *rule.Rule // it must watch each of the folders, or one above; the first one tells who may
	s.upwards(r.Folders[0], func(earlier *rule.Rule, _ int) {
		if earlier.Index < r.Index && (first == nil || earlier.Index < first.Index) && covers(earlier, r) {
			first = earlier
		}
	})
	return first
}

// upwards calls f for each rule that watches a folder or one above it; level
// 0 is the folder itself.
func (s *Set) upwards(folder string, f func(r *rule.Rule, level int)) {
	for level := 0; ; level++ {
		for _, r := range s.watch[folder] {
			f(r, level)
		}
		up := filepath.Dir(folder)
		if up == folder {
			return
		}
		folder = up
	}
}

// covers tells whether a rule surely takes all that a later one could.
func covers(a, b *rule.Rule) bool {
	if !a.Enabled || a.Share || a.Take != b.Take || a.Size.Set() || a.Age.Set() || len(a.Kind) > 0 || a.Where.Program != nil || a.Existing == rule.ExistingLeave || b.Hidden && !a.Hidden {
		return false
	}
	for _, e := range b.Events {
		if !a.Reacts(file.Event(e)) {
			return false
		}
	}
	for _, folder := range b.Folders {
		covered := false
		for _, wide := range a.Folders {
			if rel, err := filepath.Rel(wide, folder); err == nil && !strings.HasPrefix(rel, "..") {
				level := 0
				if rel != "." {
					level = 1 + strings.Count(rel, string(filepath.Separator))
				}
				covered = covered || level+b.Levels() <= a.Levels()
			}
		}
		if !covered {
			return false
		}
	}
	return widerPatterns(a, b)
}

// widerPatterns tells whether each pattern of b stands in a, or a takes every name.
func widerPatterns(a, b *rule.Rule) bool {
	own := map[string]bool{}
	for _, m := range a.Match {
		if strings.HasPrefix(m.S, "!") {
			return false
		}
		own[m.S] = true
	}
	if len(own) == 0 || own["*"] {
		return true
	}
	if len(b.Match) == 0 {
		return false
	}
	for _, m := range b.Match {
		if !strings.HasPrefix(m.S, "!") && !own[m.S] {
			return false
		}
	}
	return true
}

// Circles lists the circles of rules whose destinations lie where the next
// one watches, each once, beginning with its first rule.
func (s *Set) Circles() [][]*rule.Rule {
	next := map[*rule.Rule][]*rule.Rule{}
	for _, from := range s.Rules() {
		if from.Enabled {
			next[from] = s.leadsTo(from)
		}
	}
	var circles [][]*rule.Rule
	var walk func(start *rule.Rule, path []*rule.Rule)
	walk = func(start *rule.Rule, path []*rule.Rule) {
		for _, to := range next[path[len(path)-1]] {
			switch {
			case to == start:
				circles = append(circles, append([]*rule.Rule(nil), path...))
			case to.Index > start.Index && !contains(path, to) && len(path) < 20:
				walk(start, append(path, to))
			}
		}
	}
	for _, r := range s.Rules() {
		walk(r, []*rule.Rule{r})
	}
	return circles
}

func contains(list []*rule.Rule, r *rule.Rule) bool {
	for _, one := range list {
		if one == r {
			return true
		}
	}
	return false
}

// leadsTo lists the other rules where a rule puts files, in their order.
func (s *Set) leadsTo(from *rule.Rule) []*rule.Rule {
	var list []*rule.Rule
	for _, fixed := range leading(from) {
		s.upwards(from.Spelled(fixed), func(to *rule.Rule, level int) {
			if to != from && level <= levels(to) && !contains(list, to) {
				list = append(list, to)
			}
		})
	}
	slices.SortFunc(list, func(a, b *rule.Rule) int { return a.Index - b.Index })
	return list
}

// leading lists the folders where a rule puts its input after success, and
// what its steps make.
func leading(r *rule.Rule) []string {
	var list []string
	if r.Processed != nil {
		list = append(list, FixedFolder(r.Processed))
	}
	for i := range r.Steps {
		if p, t := r.Steps[i].Destination(); t != nil && !r.Steps[i].Runs() {
			list = append(list, fixedPart(*p, t))
		}
	}
	return list
}
