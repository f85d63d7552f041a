package rule

import (
	"strings"

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

// watchGlob reads a watch that holds a pattern; false if it is a plain path.
func (d *decoder) watchGlob(r *Rule, w Path) bool {
	first := strings.IndexAny(w.S, "*?[{<")
	if first < 0 {
		return false
	}
	cut := strings.LastIndexByte(w.S[:first], '/') + 1
	root := Path{Text: Text{S: strings.TrimSuffix(w.S[:cut], "/"), Pos: w.Pos}, Base: w.Base}
	if cut == 1 {
		root.S = "/"
	}
	rest := strings.TrimSuffix(w.S[cut:], "/")
	p, err := pattern.Compile(rest, pattern.Options{})
	if err != nil {
		e := err.(*pattern.Error)
		d.errorIn(w.Text, e.Near, "pattern", e.Message, "")
		return true
	}
	levels := 1 + strings.Count(rest, "/")
	if strings.Contains(rest, "**") {
		levels = AllLevels
	}
	r.Globs = append(r.Globs, Glob{Root: root.Absolute(), Pattern: p, Levels: levels})
	r.Folders = append(r.Folders, root.Absolute())
	return true
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
		if count[n] == len(r.Globs) && !contains(shared, n) {
			shared = append(shared, n)
		}
	}
	return shared
}
