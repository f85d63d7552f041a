package console

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Absolute returns a path as it is from the root of the file system.
func Absolute(path string) string {
	path = AtHome(path)
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// AtHome puts the home folder in the place of a ~: a shell does not know it in quotes, or
// behind a =.
func AtHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		return rule.AtHome(path, home)
	}
	return path
}

// Short returns a path below base as a relative one: shorter to read, and as it
// stands in the rules.
func Short(base, path string) string {
	rel, below := strings.CutPrefix(path, base+string(filepath.Separator))
	if !below || !filepath.IsLocal(rel) {
		var err error
		if rel, err = filepath.Rel(base, path); err != nil || rel == ".." || strings.HasPrefix(rel,
			".."+string(filepath.Separator)) {
			return fromHome(path)
		}
	}
	if strings.HasPrefix(rel, "~") {
		return "." + string(filepath.Separator) + rel // no home folder
	}
	return rel
}

// fromHome returns a path below the home folder with a ~ in its place.
func fromHome(path string) string {
	if home, err := os.UserHomeDir(); err == nil && home != "/" && strings.HasPrefix(path, home+"/") {
		return "~" + path[len(home):]
	}
	return path
}

// Shown returns a path as it is best shown to a person in the current folder.
func (a *App) Shown(path string) string {
	if dir, err := os.Getwd(); err == nil {
		return Short(dir, path)
	}
	return path
}

// Watched reports whether a path lies in a folder that a rule watches, or such a folder in it.
func Watched(f *rule.File, path string) bool {
	for _, r := range f.All() {
		if slices.ContainsFunc(r.Folders, func(folder string) bool {
			_, in := plan.Below(path, folder)
			_, holds := plan.Below(folder, path)
			return in || holds || path == folder
		}) {
			return true
		}
	}
	return false
}
