package rule

import (
	"slices"

	"stilltide/internal/core/pattern"
)

// Glob is a glob of folders in `watch`: the folder that its fixed part names,
// and the pattern that the folders below must fit.
type Glob struct {
	Root    string
	Pattern *pattern.Pattern
	Levels  int // how deep below Root a folder can fit
}

// Glob returns the glob that begins at a folder, nil if the folder itself is watched.
func (r *Rule) Glob(root string) *Glob {
	for i := range r.Globs {
		if r.Globs[i].Root == root {
			return &r.Globs[i]
		}
	}
	return nil
}

// Captures lists the words that are captured whichever way a file comes: by
// all plain patterns of match, or by every entry of watch.
func (r *Rule) Captures() []string {
	shared, _ := r.Matcher.Shared()
	if len(r.Globs) == 0 || len(r.Globs) < len(r.Watch) {
		return shared
	}
	count := map[string]int{}
	for _, g := range r.Globs {
		for _, n := range g.Pattern.Names() {
			count[n]++
		}
	}
	for _, n := range r.Globs[0].Pattern.Names() {
		if count[n] == len(r.Globs) && !slices.Contains(shared, n) {
			shared = append(shared, n)
		}
	}
	return shared
}
