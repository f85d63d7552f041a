package look

import (
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// NewSet indexes the rules of a file. A folder that several rules name in different
// ways, through links, is one folder: it goes by the name that the first rule which
// watches it gives it. Otherwise a file would be offered twice, and one that a rule
// puts back where it watches would be taken for a new one. asked are further folders of which
// something is to be said.
func NewSet(f *rule.File, asked ...string) *plan.Set {
	s := spelling{ways: map[string]string{}, at: map[string]string{}, named: map[string]string{},
		holds: map[string][]spelled{}, answers: NewAnswers()}
	for _, r := range f.All() {
		for _, folder := range r.Folders {
			s.watch(folder)
		}
	}
	for _, r := range f.All() {
		for i, folder := range r.Folders {
			r.Folders[i] = s.note(folder)
			for k := range r.Globs {
				if r.Globs[k].Root == folder {
					r.Globs[k].Root = r.Folders[i]
				}
			}
		}
	}
	for _, r := range f.All() {
		for _, folder := range plan.Destinations(r) {
			s.note(folder)
		}
	}
	for _, r := range f.All() {
		r.Ways = s.ways
	}
	set := plan.NewSet(f)
	watched := set.WatchedFolders()
	set.SetApart(s.apart(watched, slices.Concat(watched, set.FixedPlaces(), asked)))
	return set
}

// apart finds the folders to which a link leads from the next watched folder above them.
func (s *spelling) apart(watched, folders []string) map[string]bool {
	found, is := map[string]bool{}, map[string]bool{}
	for _, folder := range watched {
		is[folder] = true
	}
	for _, folder := range folders {
		up := filepath.Dir(folder)
		for !is[up] && up != filepath.Dir(up) {
			up = filepath.Dir(up)
		}
		if rest, below := plan.Below(folder, up); is[up] && below && up != folder && s.real(folder) != s.real(up)+rest {
			found[folder] = true
		}
	}
	return found
}

// spelling knows the watched folders, by the name they go by and by where they are.
type spelling struct {
	at      map[string]string    // by folder: where it really is
	named   map[string]string    // by where a watched folder is: the name that the first rule gives it
	holds   map[string][]spelled // by a folder that holds watched ones: those, in the order of the rules
	ways    map[string]string
	answers *Answers
}

type spelled struct{ path, real string }

// real is where a folder really is.
func (s *spelling) real(folder string) string {
	real, known := s.at[folder]
	if !known {
		real = s.answers.Know(folder)
		s.at[folder] = real
	}
	return real
}

// watch notes a watched folder.
func (s *spelling) watch(folder string) {
	if _, known := s.at[folder]; known {
		return
	}
	w := spelled{folder, s.real(folder)}
	if _, named := s.named[w.real]; !named {
		s.named[w.real] = folder
	}
	for up := w.real; ; up = filepath.Dir(up) {
		s.holds[up] = append(s.holds[up], w)
		if up == filepath.Dir(up) {
			return
		}
	}
}

// note returns the name that a folder goes by, and keeps it if that is another.
func (s *spelling) note(folder string) string {
	to := s.of(folder)
	if to != folder {
		s.ways[folder] = to
	}
	return to
}

// of returns the name of a folder by the outermost watched folder that it is or lies in,
// or by one that it holds.
func (s *spelling) of(folder string) string {
	real, outermost := s.real(folder), ""
	for up := real; ; up = filepath.Dir(up) {
		if _, watched := s.named[up]; watched {
			outermost = up
		}
		if up == filepath.Dir(up) {
			break
		}
	}
	if outermost != "" {
		rest, _ := plan.Below(real, outermost)
		return s.named[outermost] + rest
	}
	for _, w := range s.holds[real] {
		if rest, _ := plan.Below(w.real, real); strings.HasSuffix(w.path, rest) {
			return strings.TrimSuffix(w.path, rest)
		}
	}
	return folder
}

// RealPath is a path without links, as far as it is there.
func RealPath(path string) string {
	rest := ""
	for at := path; ; at = filepath.Dir(at) {
		if real, err := filepath.EvalSymlinks(at); err == nil {
			return filepath.Join(real, rest)
		}
		if at == filepath.Dir(at) {
			return path
		}
		rest = filepath.Join(filepath.Base(at), rest)
	}
}
