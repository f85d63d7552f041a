package advice

import (
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/rule"
)

// Loose is a file that another user can change, and by which he would run commands as the
// user of the watcher.
type Loose struct {
	Path  string // the file, or the folder that it lies in
	Who   string // who can change it: "the user ann", "every user of this machine"
	Rules bool   // it is a rules file, or the folder of one
}

// LooseFiles lists the rules files, and the scripts that they name by path, that another
// user can change: because they are his, because their mode lets him, or because he can
// put another file in their place.
func LooseFiles(f *rule.File) []Loose {
	var found []Loose
	look := func(path string, rules bool) {
		for _, p := range []string{path, filepath.Dir(path)} {
			if who := changeable(p); who != "" && !slices.ContainsFunc(found,
				func(l Loose) bool { return l.Path == p }) {
				found = append(found, Loose{p, who, rules})
			}
		}
	}
	for _, path := range append([]string{f.Path}, f.Included...) {
		look(path, true)
	}
	for _, r := range f.All() {
		for i := range r.Steps {
			if _, words := programOf(&r.Steps[i]); words != nil {
				if path := namedByPath(r.Steps[i].Base, words); path != "" {
					look(path, false)
				}
			}
		}
	}
	return found
}

// namedByPath is the path of a program that a command names by one, "" if it is looked
// for in PATH, or not known yet.
func namedByPath(base string, c *fill.Command) string {
	first := c.Words[0]
	path := first.String()
	if len(first.Refs()) > 0 || !strings.Contains(path, "/") {
		return ""
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(base, path)
	}
	return path
}

// looseProgram says who can change a program that is found in PATH, "" if nobody can.
func looseProgram(c *fill.Command) (path, who string) {
	first := c.Words[0]
	if len(first.Refs()) > 0 || strings.Contains(first.String(), "/") {
		return "", ""
	}
	path, err := exec.LookPath(first.String())
	if err != nil {
		return "", ""
	}
	return path, changeable(path)
}
