package notation

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
)

// categories reads those of the rules file.
func (d *decoder) categories(f *rule.File) {
	f.Sorts = &rule.Categories{As: map[string]string{}}
	for _, name := range slices.Sorted(maps.Keys(f.Categories)) {
		own, at := f.Categories[name], rule.Pos{}
		if len(own.Types) > 0 {
			at = own.Types[0].Pos
		}
		if !ruleName(name) {
			d.add(diag.SeverityError, at, "category", fmt.Sprintf("%q cannot name a category", name),
				"use letters, digits, -, _ and ., beginning with a letter or digit")
		}
		if len(own.Types) == 0 && !own.As.Set() {
			d.add(diag.SeverityError, at, "category", fmt.Sprintf("the category %s says nothing", name),
				"add types: with media types and endings, or as: with another name")
		}
		if _, known := rule.CategoryTypes[name]; !known && name != rule.OtherCategory && len(own.Types) == 0 {
			d.add(diag.SeverityError, own.As.Pos, "category",
				fmt.Sprintf("there is no category named %s, so it needs types:", name), "the categories are "+
					strings.Join(d.categoryNames(f), ", "))
		}
		var types []string
		for _, t := range own.Types {
			if _, err := path.Match(t.S, "image/png"); err != nil || !strings.Contains(t.S, "/") &&
				!strings.HasPrefix(t.S, ".") {
				d.add(diag.SeverityError, t.Pos, "category", fmt.Sprintf("%q is neither a media type nor an ending",
					t.S), "write image/png, image/* or .dxf")
			}
			types = append(types, strings.ToLower(t.S))
		}
		f.Sorts.Own = append(f.Sorts.Own, rule.OwnCategory{Name: name, Types: types})
		if own.As.Set() {
			f.Sorts.As[name] = own.As.S
		}
	}
}

func (d *decoder) categoryNames(f *rule.File) []string {
	names := append(slices.Collect(maps.Keys(rule.CategoryTypes)), rule.OtherCategory)
	for name := range f.Categories {
		names = append(names, name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// knownCategories checks the categories that a rule asks for.
func (d *decoder) knownCategories(f *rule.File, r *rule.Rule) {
	names := d.categoryNames(f)
	for _, t := range r.Category {
		if slices.Contains(names, t.S) {
			continue
		}
		hint := "the categories are " + strings.Join(names, ", ")
		if near := diag.Nearest(t.S, names); near != "" {
			hint = "did you mean " + near + "?"
		}
		d.add(diag.SeverityError, t.Pos, "category", fmt.Sprintf("there is no category named %s", t.S), hint)
	}
	r.Sorts = f.Sorts
}
