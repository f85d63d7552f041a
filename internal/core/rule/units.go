package rule

import (
	"fmt"
	"path/filepath"
	"slices"

	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/pattern"
)

// units checks the keys that say what one job works on: take, gather, events.
func (d *decoder) units(r *Rule) {
	d.marker(r)
	if r.Gather != nil {
		d.gathering(r)
	}
	if r.Folded() {
		d.folded(r)
	}
	if r.Reacts(file.Removed) && (r.Folded() || r.Gather != nil) {
		d.add(SeverityError, r.Pos, "events", "removed is for single files, so it does not go with take: folders or gather:", "make another rule of it")
	}
	if len(r.Events) == 0 {
		d.add(SeverityError, r.Pos, "events", "this rule reacts to nothing: events is empty", "leave it out for added and changed")
	}
}

func (d *decoder) folded(r *Rule) {
	bad := func(message string) {
		d.add(SeverityError, r.Pos, "folders", message, "leave it out, or take files")
	}
	if r.Depth != 0 {
		bad("depth does not go with take: folders, whose units lie directly inside watch")
	}
	if r.Gather != nil {
		bad("gather does not go with take: folders")
	}
	if r.Running != RunAfter {
		bad("while_running does not go with take: folders")
	}
}

func (d *decoder) gathering(r *Rule) {
	g := r.Gather
	bad := func(at Pos, message, hint string) { d.add(SeverityError, at, "gather", message, hint) }
	switch {
	case g.Set() && (g.Quiet.Pos.Line > 0 || g.Most > 0):
		bad(g.Pos, "a gather is a burst (quiet, most) or a set (by, need), and this one is both", "keep the keys of one kind")
	case g.Set() && len(g.Need) == 0:
		bad(g.Pos, "a set needs to know when it is complete", `add need: ["*.csv", "*.json"], for instance`)
	case !g.Set() && len(g.Need) > 0:
		bad(g.Pos, "a set needs to know which files belong together", "add by: and a template such as {stem}")
	case !g.Set() && g.Quiet.Duration <= 0 && g.Most == 0:
		bad(g.Pos, "a burst needs to know when it ends", "add quiet: 5s, for instance")
	}
	if r.Running != RunAfter {
		bad(g.Pos, "while_running does not go with gather", "leave it out")
	}
	switch g.Then {
	case "":
		g.Then = "failed"
	case "failed", "go":
	default:
		bad(g.Pos, fmt.Sprintf("then cannot be %q", g.Then), "it is failed or go")
	}
	if g.Set() {
		g.Key = d.template(g.By, memberWords(r))
	}
	g.Needs = nil
	for _, text := range g.Need {
		p, err := pattern.Compile(text.S, pattern.Options{})
		if err != nil {
			e := err.(*pattern.Error)
			d.errorIn(text, e.Near, "pattern", e.Message, "")
			continue
		}
		g.Needs = append(g.Needs, gather.Need{Text: text.S, Fits: func(path string) bool {
			name := filepath.Base(path)
			return p.Match(name, name)
		}})
	}
}

// fileOnly are the placeholders of one file. A burst or set has many.
var fileOnly = []string{"file", "name", "stem", "ext", "dir", "rel", "reldir", "size", "kind", "type", "hash", "modified", "shot"}

// memberWords are the placeholders that are filled for each file.
func memberWords(r *Rule) []string {
	words := append(BuiltIn(), r.Captures()...)
	for _, l := range r.Lets {
		words = append(words, l.Word)
	}
	return words
}

// stepWords are the placeholders of the steps.
func stepWords(r *Rule) []string {
	words := memberWords(r)
	if r.Folded() {
		return slices.DeleteFunc(words, func(w string) bool { return w == "hash" })
	}
	if r.Gather == nil {
		return words
	}
	words = slices.DeleteFunc(words, func(w string) bool { return contains(fileOnly, w) })
	return append(words, "files", "list", "list0")
}
