//go:build linux

package laws

import (
	"slices"
	"testing"
	"time"

	"stilltide/internal/core/notation"
)

// shrink makes a world smaller as long as it breaks the same law.
func shrink(t *testing.T, base string, w *world, b *broken) (*world, *broken) {
	end := time.Now().Add(15 * time.Second)
	for tries := 0; tries < 250; {
		smaller := false
		for _, next := range w.smaller() {
			if tries++; tries > 250 || time.Now().After(end) {
				break
			}
			if next.isWrong() {
				continue
			}
			if again := try(t, base, next); again != nil && again.law == b.law {
				w, b, smaller = next, again, true
				break
			}
		}
		if !smaller || time.Now().After(end) {
			break
		}
	}
	return w, b
}

// isWrong reports whether the rules have errors.
func (w *world) isWrong() bool {
	_, first := notation.Parse("/world/stilltide.yaml", []byte(w.firstText()))
	_, second := notation.Parse("/world/stilltide.yaml", []byte(w.text()))
	return first.Failed() || second.Failed()
}

// smaller lists the worlds with one part less.
func (w *world) smaller() []*world {
	var list []*world
	add := func(change func(*world)) {
		next := &world{seed: w.seed, files: slices.Clone(w.files), later: slices.Clone(w.later),
			first: slices.Clone(w.first)}
		for _, r := range w.rules {
			next.rules = append(next.rules, drawnRule{r.name, slices.Clone(r.keys), slices.Clone(r.steps)})
		}
		change(next)
		list = append(list, next)
	}
	if len(w.rules) > 1 {
		for i := range w.rules {
			add(func(n *world) { n.rules = slices.Delete(n.rules, i, i+1) })
		}
	}
	if len(w.files) > 1 {
		for i := range w.files {
			add(func(n *world) { n.files = slices.Delete(n.files, i, i+1) })
		}
	}
	for i := range w.first {
		if len(w.first) > 1 {
			add(func(n *world) { n.first = slices.Delete(n.first, i, i+1) })
		}
	}
	if w.first != nil {
		add(func(n *world) { n.first = nil })
	}
	for i := range w.later {
		add(func(n *world) { n.later = slices.Delete(n.later, i, i+1) })
	}
	for i, r := range w.rules {
		for k := range r.steps {
			add(func(n *world) { n.rules[i].steps = slices.Delete(n.rules[i].steps, k, k+1) })
		}
		for k := 1; k < len(r.keys); k++ {
			add(func(n *world) { n.rules[i].keys = slices.Delete(n.rules[i].keys, k, k+1) })
		}
	}
	return list
}
