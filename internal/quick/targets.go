package quick

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"stilltide/internal/core/pattern"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// Targets are the files that a quick run watches.
type Targets struct {
	exact   map[string]bool // files by name, there or not
	folders []string        // everything below
	globs   []glob
}

// glob is a pattern below the folder that it begins at.
type glob struct {
	root   string
	depth  int
	fits   *pattern.Pattern
	hidden bool // it names something that begins with a dot
}

// Find reads patterns and paths, relative to a folder. A name that is there
// is that file or folder; one with wildcards is a pattern; `.go` stands for
// all files of that ending, at any depth; another name is a file that is
// waited for.
func Find(args []string, folder string) (*Targets, error) {
	t := &Targets{exact: map[string]bool{}}
	for _, arg := range args {
		if err := t.add(arg, folder); err != nil {
			return nil, err
		}
	}
	if len(t.exact)+len(t.folders)+len(t.globs) == 0 {
		return nil, fmt.Errorf("there is nothing to watch")
	}
	return t, nil
}

func (t *Targets) add(arg, folder string) error {
	path := arg
	if !filepath.IsAbs(path) {
		path = filepath.Join(folder, arg)
	}
	path = filepath.Clean(path)
	info, err := os.Stat(path)
	switch {
	case arg == "":
		return fmt.Errorf("one of the patterns is empty")
	case err == nil && info.IsDir():
		t.folders = append(t.folders, path)
		return nil
	case err == nil:
		t.exact[path] = true
		return nil
	case strings.HasPrefix(arg, ".") && len(arg) > 1 && !strings.ContainsAny(arg, "/*?["):
		t.exact[path] = true // or a hidden file of this name, such as .env
		return t.addGlob(folder, arg, rule.AllLevels)
	case strings.ContainsAny(arg, "*?[{"):
		root, rest := cut(path)
		depth := strings.Count(rest, "/")
		if strings.Contains(rest, "**") {
			depth = rule.AllLevels
		}
		return t.addGlob(root, rest, depth)
	}
	t.exact[path] = true
	return nil
}

func (t *Targets) addGlob(root, text string, depth int) error {
	p, err := pattern.Compile(text, pattern.Options{})
	if err != nil {
		return fmt.Errorf("%s: %w", text, err)
	}
	dotted := strings.Contains(text, "/.") || strings.HasPrefix(text, ".") && strings.ContainsAny(text, "/*?[{")
	t.globs = append(t.globs, glob{root, depth, p, dotted})
	return nil
}

// cut splits a pattern before its first segment with a wildcard.
func cut(path string) (root, rest string) {
	at := strings.IndexAny(path, "*?[{")
	at = strings.LastIndexByte(path[:at], '/')
	return filepath.Clean(path[:at+1]), path[at+1:]
}

// Fit reports whether a path is one of the files.
func (t *Targets) Fit(path string) bool {
	if t.exact[path] {
		return true
	}
	if !plan.RealName(filepath.Base(path)) {
		return false
	}
	for _, folder := range t.folders {
		if rel, ok := below(path, folder); ok && !hidden(rel) {
			return true
		}
	}
	for _, g := range t.globs {
		if rel, ok := below(path, g.root); ok && (g.hidden || !hidden(rel)) && strings.Count(rel, "/") <= g.depth &&
			g.fits.Match(filepath.Base(path), rel) {
			return true
		}
	}
	return false
}

func below(path, folder string) (rel string, ok bool) {
	return strings.CutPrefix(path, strings.TrimSuffix(folder, "/")+"/")
}

// hidden reports whether the name, or a folder on the way to it, begins with a dot.
func hidden(rel string) bool { return strings.HasPrefix(rel, ".") || strings.Contains(rel, "/.") }

// Folders lists the folders to watch, with their depths.
func (t *Targets) Folders() map[string]int {
	depth := map[string]int{}
	for path := range t.exact {
		depth[filepath.Dir(path)] = max(depth[filepath.Dir(path)], 0)
	}
	for _, g := range t.globs {
		depth[g.root] = max(depth[g.root], g.depth)
	}
	for _, folder := range t.folders {
		depth[folder] = rule.AllLevels
	}
	return depth
}
