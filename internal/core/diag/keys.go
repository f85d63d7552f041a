package diag

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/rule"
)

// Meant finds the key that a key which is not there can be taken for, "" if there is none, and what to
// say. what is the mapping, as messages call it; names are the keys that it may have, sorted, and keys
// those that it has.
func Meant(what, key string, names, keys []string, pairs []*ast.MappingValueNode) (near, hint string) {
	if hint = insteadOf(what, key, pairs); hint != "" {
		return "", hint
	}
	verbs := rule.VerbNames()
	isStep := !slices.ContainsFunc(verbs, func(v string) bool { return !slices.Contains(names, v) })
	hasVerb := slices.ContainsFunc(keys, func(k string) bool { return slices.Contains(verbs, k) })
	if all := allNearest(key, names); len(all) > 0 {
		near, hint = all[0], "did you mean "+strings.Join(all, " or ")+"?"
		twice := slices.Contains(keys, near) || isStep && hasVerb && slices.Contains(verbs, near)
		if len(all) > 1 || twice {
			near = ""
		}
		return near, hint
	}
	if isStep && !hasVerb {
		names = slices.Sorted(slices.Values(verbs)) // it is the verb that is missing
	}
	return "", "the keys here are " + strings.Join(names, ", ")
}
