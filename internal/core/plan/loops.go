package plan

import (
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// Shadowed returns the earlier rule that takes every file that a rule could
// take, nil if there is none that surely does: what it puts there itself it does not take again.
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
	if first != nil && s.reaches(first, r) {
		return nil
	}
	return first
}

// reaches reports whether a rule could take what another one places, or what others make of that.
func (s *Set) reaches(from, to *rule.Rule) bool {
	seen := map[*rule.Rule]bool{}
	for queue := []*rule.Rule{from}; len(queue) > 0; queue = queue[1:] {
		for _, next := range s.leadsTo(queue[0]) {
			if next == to {
				return true
			}
			if !seen[next] {
				seen[next] = true
				queue = append(queue, next)
			}
		}
	}
	return false
}

// upwards calls f for each rule that watches a folder or one above it; level
// 0 is the folder itself.
func (s *Set) upwards(folder string, f func(r *rule.Rule, level int)) {
	for level := 0; ; level++ {
		for _, r := range s.watch[folder] {
			f(r, level)
		}
		up := filepath.Dir(folder)
		if up == folder || s.apart[folder] {
			return
		}
		folder = up
	}
}

// covers reports whether a rule surely takes all that a later one could.
func covers(a, b *rule.Rule) bool {
	if !a.Enabled || a.Share || a.Existing == rule.ExistingLeave || b.Hidden && !a.Hidden || len(a.Lets) > 0 ||
		!sameConditions(a, b) {
		return false
	}
	if a.Folded() && !b.Folded() {
		return swallows(a, b)
	}
	if a.Unit != b.Unit {
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
			if level, below := levelBelow(folder, wide); below {
				covered = covered || level+b.Levels() <= a.Levels()
			}
		}
		if !covered {
			return false
		}
	}
	return a.Matcher.Covers(b.Matcher)
}

// levelBelow is how many levels a folder lies below another; 0 for the folder itself.
func levelBelow(folder, wide string) (level int, below bool) {
	rel, err := filepath.Rel(wide, folder)
	if err != nil || rel == ".." || strings.HasPrefix(rel, "../") {
		return 0, false
	}
	if rel == "." {
		return 0, true
	}
	return 1 + strings.Count(rel, string(filepath.Separator)), true
}

// sameConditions reports whether each condition of a on the file itself is one of b, too.
func sameConditions(a, b *rule.Rule) bool {
	within := func(some, of []rule.Text) bool {
		return len(of) == 0 || len(some) > 0 && !slices.ContainsFunc(some, func(one rule.Text) bool {
			return !slices.ContainsFunc(of, func(t rule.Text) bool { return t.S == one.S })
		})
	}
	return (!a.Size.Set() || a.Size.Text == b.Size.Text) && (!a.Age.Set() || a.Age.Text == b.Age.Text) &&
		(a.Where.Program == nil || a.Where.S == b.Where.S) && within(b.MediaType, a.MediaType) &&
		within(b.Category, a.Category)
}

// swallows reports whether all that a rule for files watches lies inside folders that an earlier
// rule takes whole: what lies in those is offered to no other rule.
func swallows(a, b *rule.Rule) bool {
	for _, folder := range b.Folders {
		inside := slices.ContainsFunc(a.Folders, func(wide string) bool {
			level, below := levelBelow(folder, wide)
			return below && level > 0
		})
		if !inside {
			return false
		}
	}
	return a.Matcher.Covers(nil) && !a.Size.Set() && !a.Age.Set() && a.Where.Program == nil
}

// Loops finds where rules lead back to one another through what they place: one
// loop for each group of rules that reach each other, the shortest through its first
// rule.
func (s *Set) Loops() [][]*rule.Rule {
	next := map[*rule.Rule][]*rule.Rule{}
	for _, from := range s.Rules() {
		if from.Enabled {
			next[from] = s.leadsTo(from)
		}
	}
	var loops [][]*rule.Rule
	for _, group := range mutual(s.Rules(), next) {
		if loop := shortest(group[0], next); loop != nil {
			loops = append(loops, loop)
		}
	}
	slices.SortFunc(loops, func(a, b []*rule.Rule) int { return a[0].Index - b[0].Index })
	return loops
}

// shortest is the shortest way from a rule back to it, nil if there is none.
func shortest(start *rule.Rule, next map[*rule.Rule][]*rule.Rule) []*rule.Rule {
	before := map[*rule.Rule]*rule.Rule{}
	for queue := []*rule.Rule{start}; len(queue) > 0; queue = queue[1:] {
		for _, to := range next[queue[0]] {
			if to == start {
				var way []*rule.Rule
				for at := queue[0]; at != start; at = before[at] {
					way = append(way, at)
				}
				way = append(way, start)
				slices.Reverse(way)
				return way
			}
			if before[to] == nil {
				before[to] = queue[0]
				queue = append(queue, to)
			}
		}
	}
	return nil
}

// mutual lists the groups of rules that reach each other, each in its order, by
// Tarjan's algorithm for strongly connected components.
func mutual(rules []*rule.Rule, next map[*rule.Rule][]*rule.Rule) [][]*rule.Rule {
	var groups [][]*rule.Rule
	var open []*rule.Rule
	number, low, isOpen := map[*rule.Rule]int{}, map[*rule.Rule]int{}, map[*rule.Rule]bool{}
	var visit func(r *rule.Rule)
	visit = func(r *rule.Rule) {
		number[r] = len(number) + 1
		low[r] = number[r]
		open, isOpen[r] = append(open, r), true
		for _, to := range next[r] {
			if number[to] == 0 {
				visit(to)
				low[r] = min(low[r], low[to])
			} else if isOpen[to] {
				low[r] = min(low[r], number[to])
			}
		}
		if low[r] < number[r] {
			return
		}
		at := slices.Index(open, r)
		group := slices.Clone(open[at:])
		open = open[:at]
		for _, member := range group {
			isOpen[member] = false
		}
		slices.SortFunc(group, func(a, b *rule.Rule) int { return a.Index - b.Index })
		groups = append(groups, group)
	}
	for _, r := range rules {
		if number[r] == 0 {
			visit(r)
		}
	}
	return groups
}

// leadsTo lists the other rules that could take what a rule places, in their order.
func (s *Set) leadsTo(from *rule.Rule) []*rule.Rule {
	found := map[*rule.Rule]bool{}
	for _, d := range leading(from) {
		s.upwards(from.Spelled(d.fixed), func(to *rule.Rule, level int) {
			if to != from && level+d.levels <= levels(to) && !(d.keepsName && from.Matcher.Apart(to.Matcher)) {
				found[to] = true
			}
		})
		for _, to := range s.settings {
			if to != from && to.HasAgainOn(from.Spelled(d.fixed)) {
				found[to] = true
			}
		}
	}
	return slices.SortedFunc(maps.Keys(found), func(a, b *rule.Rule) int { return a.Index - b.Index })
}

// SetThemselves lists the rules that put files where their own settings lie (again_on): what
// they do may have all of it done again.
func (s *Set) SetThemselves() (rules []*rule.Rule) {
	for _, r := range s.settings {
		if slices.ContainsFunc(leading(r), func(d way) bool { return r.HasAgainOn(r.Spelled(d.fixed)) }) {
			rules = append(rules, r)
		}
	}
	return rules
}

// FixedDestination is the folder that a step's destination spells out.
func FixedDestination(s *rule.Step) string {
	p, t := s.Destination()
	return fixedPart(*p, t)
}

// way is where a rule puts files: at least so many levels below a folder.
type way struct {
	fixed     string
	levels    int
	keepsName bool // the file has the name there under which it was taken
}

// leading lists where a rule puts its input after success, and what its steps make.
func leading(r *rule.Rule) []way {
	var list []way
	renamed := false
	for i := range r.Steps {
		s := &r.Steps[i]
		renamed = renamed || s.Kind().Takes != rule.TakesNothing && s.Name != nil
		if p, t := s.Destination(); t != nil && !s.Runs() {
			own := s.Kind().Puts == rule.PutsFile && len(s.From) == 0
			list = append(list, way{fixedPart(*p, t), levelsOf(t), own && s.Name == nil && !renamed})
		}
	}
	if r.Processed != nil {
		list = append(list, way{FixedFolder(r.Processed), levelsOf(r.Processed.Folder), r.Processed.Name == nil &&
			!renamed})
	}
	return list
}

// levelsOf is how many levels a destination lies at least below its fixed part.
func levelsOf(t *fill.Template) int {
	if t == nil || len(t.Refs()) == 0 || t.Uses("folder", "rel_folder", "rel", "file", "watch") {
		return 0
	}
	_, rest := t.Cut(t.String())
	return 1 + strings.Count(strings.Trim(filepath.Clean(rest), "/"), "/")
}

// StaysPut lists the destinations that always are the folder that a file is in
// already: processed and failed, and those of moves.
func (s *Set) StaysPut() []*rule.Place {
	var list []*rule.Place
	for _, r := range s.Rules() {
		places := r.Places()
		for i := range r.Steps {
			if step := &r.Steps[i]; step.TakesInput() && step.To != nil {
				places = append(places, &rule.Place{To: *step.To, Folder: step.Folder, Name: step.Name})
			}
		}
		for _, p := range places {
			if p.Name == nil && s.staysPut(r, p) {
				list = append(list, p)
			}
		}
	}
	return list
}

func (s *Set) staysPut(r *rule.Rule, p *rule.Place) bool {
	if len(p.Folder.Refs()) > 0 {
		clean := strings.TrimSuffix(p.Folder.String(), "/")
		return clean == "{folder}" || clean == "{watch}/{rel_folder}" || clean == "{watch}" && r.Levels() == 0
	}
	fixed := r.Spelled(FixedFolder(p))
	return r.Levels() == 0 && len(r.Folders) == 1 && len(r.Globs) == 0 && r.Folders[0] == fixed
}

func (s *Set) findChains() {
	s.chained, s.places = map[string]bool{}, map[string]bool{}
	s.holding = map[string][]string{}
	for watch := range s.watch {
		for at := watch; ; at = filepath.Dir(at) {
			s.holding[at] = append(s.holding[at], watch)
			if at == filepath.Dir(at) {
				break
			}
		}
	}
	for _, r := range s.Rules() {
		for _, fixed := range Destinations(r) {
			fixed = r.Spelled(fixed)
			s.places[fixed] = true
			for _, watch := range s.holding[fixed] {
				s.chained[watch] = true
			}
			for at := fixed; at != filepath.Dir(at); at = filepath.Dir(at) {
				if s.watch[at] != nil {
					s.chained[at] = true
				}
			}
		}
	}
}

// Destinations lists the fixed parts of all folders where a rule puts files.
func Destinations(r *rule.Rule) []string {
	var list []string
	for _, p := range r.Places() {
		list = append(list, FixedFolder(p))
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		if p, t := s.Destination(); t != nil {
			fixed := fixedPart(*p, t)
			if s.Runs() && len(t.Refs()) == 0 { // stdout names a file
				fixed = filepath.Dir(fixed)
			}
			list = append(list, fixed)
		}
		if s.Kind().InPlace {
			list = append(list, r.Folders...)
		}
	}
	return list
}
