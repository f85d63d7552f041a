package console

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/look"
)

// Absolute returns a path as it is from the root of the file system.
func Absolute(path string) string {
	path = AtHome(path)
	if abs, err := filepath.Abs(path); err == nil {
		return abs
	}
	return path
}

// At is the path under which the rules of a file know what a person names: links that lead to the
// folder of the rules file are no other place. A path that does not answer stays as it is.
func At(f *rule.File, path string) string {
	path = Absolute(path)
	if _, below := plan.Below(path, f.Base); below || path == f.Base {
		return path
	}
	machine := look.NewAsked()
	base, err := machine.Stat(f.Base)
	for dir := path; err == nil && dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		info, noInfo := machine.Stat(dir)
		if errors.As(noInfo, new(plan.NoAnswer)) {
			return path
		}
		if noInfo == nil && os.SameFile(info, base) {
			return f.Base + path[len(dir):]
		}
	}
	return path
}

// withoutLinks is a path whose folder no link leads to: the same rules file has one folder, however
// somebody came there, and what is remembered lies below it.
func withoutLinks(path string) string {
	if dir, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		return filepath.Join(dir, filepath.Base(path))
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

// Here is the current folder.
func Here() (string, error) {
	dir, err := os.Getwd()
	if err != nil {
		return "", Usage("the current folder is no longer there (%v); change to another one, and try again", err)
	}
	return dir, nil
}

// Shown returns a path as it is best shown to a person in the current folder.
func (a *App) Shown(path string) string {
	dir, err := os.Getwd()
	if err != nil {
		return path
	}
	if _, below := plan.Below(path, dir); !below {
		dir = filepath.Dir(withoutLinks(filepath.Join(dir, rule.FileName)))
	}
	return Short(dir, path)
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
