package notation

import (
	"fmt"
	"path/filepath"
	"strings"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
)

// againOn checks the files whose change has everything handled again.
func (d *decoder) againOn(r *rule.Rule) {
	r.AgainOn = d.putAll(r.AgainOn)
	for _, p := range r.AgainOn {
		if _, err := filepath.Match(p.Absolute(), ""); err != nil || strings.ContainsAny(filepath.Dir(p.Absolute()),
			"*?[") {
			d.add(diag.SeverityError, p.Pos, "again_on",
				fmt.Sprintf("%s is neither a path nor a glob of names in one folder",
					p.S), "write the folder out, as in settings/*.json")
		}
	}
	switch at := r.Pos; {
	case len(r.AgainOn) == 0:
	case r.Moves():
		d.add(diag.SeverityError, r.AgainOn[0].Pos, "again_on",
			"again_on is for files that stay, and this rule's go elsewhere",
			"remove again_on, or what moves the file")
	case r.Gather != nil || r.Folded():
		d.add(diag.SeverityError, at, "again_on", "again_on is for single files",
			"remove batch:, group: or unit: folder")
	case r.Again == rule.AgainNever:
		d.add(diag.SeverityError, at, "again_on", "again: never and again_on mean the opposite",
			"remove one of the two")
	}
}
