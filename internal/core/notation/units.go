package notation

import (
	"cmp"
	"path/filepath"
	"slices"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/file"
	"stilltide/internal/core/gather"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

// units checks the keys that say what one job works on: unit, batch, group, events.
func (d *decoder) units(r *rule.Rule) {
	d.marker(r)
	d.gathering(r)
	if r.Folded() {
		d.folded(r)
	}
	if r.Reacts(file.Renamed) && (r.Gather != nil || r.Folded()) {
		d.add(diag.SeverityError, r.Pos, "events",
			"renamed is for single files, so it does not go with unit: folder, batch or group",
			"make another rule of it")
	}
	if r.Reacts(file.Removed) && r.Gather != nil {
		d.add(diag.SeverityError, r.Pos, "events",
			"removed is for single files and folders, so it does not go with batch or group",
			"make another rule of it")
	}
	if len(r.Events) == 0 {
		d.add(diag.SeverityError, r.Pos, "events", "this rule reacts to nothing: events is empty",
			"leave it out for added and changed")
	}
}

func (d *decoder) folded(r *rule.Rule) {
	bad := func(message string) {
		d.add(diag.SeverityError, r.Pos, "folders", message, "leave it out, or write unit: file")
	}
	if r.Depth != 0 {
		bad("depth does not go with unit: folder, whose folders lie directly inside watch")
	}
	if r.Gather != nil {
		bad("batch and group do not go with unit: folder")
	}
	if r.Running != rule.RunFinishFirst {
		bad("while_running does not go with unit: folder")
	}
}

func (d *decoder) gathering(r *rule.Rule) {
	r.Gather = nil
	bad := func(at rule.Pos, code, message, hint string) { d.add(diag.SeverityError, at, code, message, hint) }
	switch b, g := r.Batch, r.Group; {
	case b != nil && g != nil:
		bad(g.Pos, "group", "a rule has batch or group, and this one has both", "keep one of them")
		return
	case g != nil:
		if len(g.Need) == 0 {
			bad(g.Pos, "group", "a group needs to know when it is complete",
				`add need: ["*.csv", "*.json"], for instance`)
		}
		if !g.By.Set() {
			bad(g.Pos, "group", "a group needs to know which files belong together",
				"add by: and a template such as {stem}")
			return
		}
		r.Gather = &rule.Gather{By: g.By, Need: g.Need, MaxWait: g.MaxWait, Overdue: cmp.Or(g.Overdue, rule.GroupFails),
			Pos: g.Pos}
	case b != nil:
		if b.Quiet.Duration <= 0 && b.MaxFiles == 0 {
			bad(b.Pos, "batch", "a batch needs to know when it ends", "add quiet: 5s, for instance")
		}
		r.Gather = &rule.Gather{Quiet: b.Quiet, MaxFiles: b.MaxFiles, MaxWait: b.MaxWait, Pos: b.Pos}
	default:
		return
	}
	g := r.Gather
	if r.Running != rule.RunFinishFirst {
		bad(g.Pos, "while_running", "while_running does not go with batch or group", "leave it out")
	}
	if g.IsGroup() {
		g.Key = d.template(g.By, memberWords(r))
	}
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

// memberWords are the placeholders that are filled for each file.
func memberWords(r *rule.Rule) []string {
	words := append(rule.BuiltIn(), r.Captures()...)
	for _, l := range r.Lets {
		words = append(words, l.Word)
	}
	return words
}

// stepWords are the placeholders of the steps.
func stepWords(r *rule.Rule) []string {
	words := memberWords(r)
	if r.Folded() {
		return slices.DeleteFunc(words, func(w string) bool { return w == "hash" })
	}
	if r.Gather == nil {
		return words
	}
	words = slices.DeleteFunc(words, func(w string) bool { return slices.Contains(fileOnly, w) })
	return append(words, "files", "list", "list0")
}

// fileOnly are the placeholders of one file. A batch or group has many.
var fileOnly = []string{"file", "name", "stem", "ext", "folder", "rel", "rel_folder", "size", "media_type",
	"main_type", "category", "hash", "modified", "shot", "created", "old_file"}
