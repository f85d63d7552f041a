package notation

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

// fixedVars reads the variables of the file and of this machine, which win.
func (d *decoder) fixedVars(f *rule.File, load rule.Load) {
	d.words = map[string]string{}
	d.takeVars(f.Vars)
	path := rule.LocalName(f.Path)
	if load == nil {
		return
	}
	sources, err := load(path)
	if err != nil {
		return // there is none
	}
	for _, src := range sources {
		f.Included = append(f.Included, src.Path)
		inner := newDecoder(src.Path, f.Machine, src.Text)
		var local struct {
			Version int       `key:"version"`
			Vars    rule.Vars `key:"vars"`
		}
		if root := inner.tree(src.Text); root != nil {
			inner.into(root, reflectOf(&local), "a machine's own file of variables")
			inner.words = d.words
			inner.takeVars(local.Vars)
		}
		d.diags = append(d.diags, inner.diags...)
	}
}

func (d *decoder) takeVars(vars rule.Vars) {
	for _, name := range slices.Sorted(maps.Keys(vars)) {
		t := vars[name]
		if !pattern.ValidName(name) || isBuiltIn(name) || name == "files" || name == "list" || name == "list0" {
			d.add(diag.SeverityError, t.Pos, "vars", fmt.Sprintf("%q cannot name a variable", name),
				"use a-z, 0-9 and _, beginning with a letter, and no word that is there already")
			continue
		}
		d.words[name] = rule.AtHome(t.S, d.on.Home)
	}
}

// put puts the file's variables into a path that is no template.
func (d *decoder) put(p rule.Path) rule.Path {
	for name, value := range d.words {
		p.S = strings.ReplaceAll(p.S, "{"+name+"}", value)
	}
	return p
}

// putAll puts them into the folders that a rule watches.
func (d *decoder) putAll(paths []rule.Path) []rule.Path {
	if len(d.words) == 0 {
		return paths
	}
	filled := make([]rule.Path, len(paths))
	for i, p := range paths {
		filled[i] = d.put(p)
	}
	return filled
}
