package job

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Pauses are what is paused, and until when; the zero time is until somebody says resume. A
// name is that of a rule, or a folder's whole path; "" is all rules.
type Pauses map[string]time.Time

// IsFolder reports whether the name of a pause is that of a folder: no rule's name has a slash.
func IsFolder(name string) bool { return strings.ContainsAny(name, `/\`) }

// Rule reports whether a rule is paused, by itself or with all, and until when.
func (p Pauses) Rule(name string) (until time.Time, is bool) {
	if until, is = p[name]; is {
		return until, is
	}
	until, is = p[""]
	return until, is
}

// Folder returns the paused folder in which a file lies.
func (p Pauses) Folder(path string) (folder string, is bool) {
	for name := range p {
		if IsFolder(name) && (path == name || strings.HasPrefix(path, strings.TrimSuffix(name, "/")+"/")) {
			return name, true
		}
	}
	return "", false
}

// Folders lists the paused folders.
func (p Pauses) Folders() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(p)), func(name string) bool { return !IsFolder(name) })
}

// Over lists what is paused no longer at a time.
func (p Pauses) Over(now time.Time) (names []string) {
	for name, until := range p {
		if !until.IsZero() && !until.After(now) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
