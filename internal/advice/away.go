package advice

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"stilltide/internal/core/rule"
	"stilltide/internal/work"
)

// awayDoubts doubts what a rule sends to other machines.
func awayDoubts(r *rule.Rule, warn warning) {
	if !r.Travels() {
		return
	}
	for _, p := range r.Bring {
		one := *r
		one.Bring = []rule.Path{p}
		if _, err := work.Brought(&one); err != nil {
			warn(p.Pos, "bring-absent", err.Error(), "make it, or correct its path")
		}
	}
	for i := range r.Steps {
		s := &r.Steps[i]
		var sent []string
		for _, name := range slices.Sorted(maps.Keys(s.Env)) {
			if s.Env[name] != "" { // without a value the helper's own is asked for
				sent = append(sent, name)
			}
		}
		if len(sent) > 0 && s.Runs() {
			warn(s.Keys["env"], "env-travels",
				fmt.Sprintf("the values of %s travel to other machines with each command",
					strings.Join(sent, ", ")), "put secrets into the environment of the helpers instead")
		}
	}
}
