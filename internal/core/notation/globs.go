package notation

import (
	"strings"

	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

// watchGlob reads a watch that holds a pattern; false if it is a plain path.
func (d *decoder) watchGlob(r *rule.Rule, w rule.Path) bool {
	first := strings.IndexAny(w.S, "*?[{<")
	if first < 0 {
		return false
	}
	cut := strings.LastIndexByte(w.S[:first], '/') + 1
	root := rule.Path{Text: rule.Text{S: strings.TrimSuffix(w.S[:cut], "/"), Pos: w.Pos}, Base: w.Base}
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
		levels = rule.AllLevels
	}
	r.Globs = append(r.Globs, rule.Glob{Root: root.Absolute(), Pattern: p, Levels: levels})
	r.Folders = append(r.Folders, root.Absolute())
	return true
}
