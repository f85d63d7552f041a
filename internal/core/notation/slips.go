package notation

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"sync"

	"github.com/goccy/go-yaml/ast"

	"stilltide/internal/core/diag"
	"stilltide/internal/core/rule"
)

// asMeant returns the keys of a mapping as they are read, "" for those that are not. A key that
// is not there is an error; where one is near, it is read as that one, so that nothing is told to
// be missing that was only misspelled.
func (d *decoder) asMeant(n ast.Node, pairs []*ast.MappingValueNode, what string, fields map[string][]int) []string {
	keys := make([]string, len(pairs))
	for i, p := range pairs {
		if key := p.Key.GetToken().Value; fields[key] != nil {
			keys[i] = key
		}
	}
	for i, p := range pairs {
		if keys[i] != "" {
			continue
		}
		key := p.Key.GetToken().Value
		near, hint := diag.Meant(what, key, slices.Sorted(maps.Keys(fields)), keys, pairs)
		d.errorAt(p.Key, "unknown-key", fmt.Sprintf("%s has no key named %s", what, key), hint)
		if keys[i] = near; near == "" {
			d.unread[d.pos(n)] = true
		}
	}
	return keys
}

// stepKeys are the keys of a step, with those that some verb has of its own.
var stepKeys = sync.OnceValue(func() map[string][]int {
	keys := maps.Clone(rule.FieldsOf(reflect.TypeFor[rule.Step]()))
	for i := range rule.Verbs {
		maps.Copy(keys, rule.Verbs[i].OwnKeys())
	}
	return keys
})

// lacks notes that a mapping lacks a key, unless something in it was not read: that may be the key.
func (d *decoder) lacks(at rule.Pos, message, hint string) {
	if !d.unread[at] {
		d.add(diag.SeverityError, at, "missing", message, hint)
	}
}
