package rule

import (
	"path/filepath"
	"slices"
)

// HasAgainOn reports whether files of again_on may lie in a folder.
func (r *Rule) HasAgainOn(folder string) bool {
	return slices.ContainsFunc(r.AgainOn, func(p Path) bool { return filepath.Dir(p.Absolute()) == folder })
}

// HandlesAgainOn reports whether the change of a file has everything handled again.
func (r *Rule) HandlesAgainOn(path string) bool {
	for _, p := range r.AgainOn {
		if ok, err := filepath.Match(p.Absolute(), path); ok && err == nil {
			return true
		}
	}
	return false
}
