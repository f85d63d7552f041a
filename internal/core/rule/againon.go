package rule

import (
	"path/filepath"
)

// HandlesAgainOn reports whether the change of a file has everything handled again.
func (r *Rule) HandlesAgainOn(path string) bool {
	for _, p := range r.AgainOn {
		if ok, err := filepath.Match(p.Absolute(), path); ok && err == nil {
			return true
		}
	}
	return false
}
