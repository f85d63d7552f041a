package look

import (
	"path/filepath"
	"strings"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
)

// NewSet indexes the rules of a file. A folder that several rules name in different
// ways, through links, is one folder: it goes by the name that the first rule which
// watches it gives it. Otherwise a file would be offered twice, and one that a rule
// puts back where it watches would be taken for a new one.
func NewSet(f *rule.File) *plan.Set {
	s := spelling{ways: map[string]string{}, answers: NewAnswers()}
	for _, r := range f.All() {
		for _, folder := range r.Folders {
			s.watched = append(s.watched, spelled{folder, s.answers.Know(folder)})
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
	return plan.NewSet(f)
}

// spelling knows the watched folders, by the name they go by and by where they are.
type spelling struct {
	watched []spelled
	ways    map[string]string
	answers *Answers
}

type spelled struct{ path, real string }

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
	real, best, name := s.answers.Know(folder), "", folder
	for _, w := range s.watched {
		if rest, ok := plan.Below(real, w.real); ok && (best == "" || len(w.real) < len(best)) {
			best, name = w.real, w.path+rest
		}
	}
	if best != "" {
		return name
	}
	for _, w := range s.watched {
		if rest, ok := plan.Below(w.real, real); ok && strings.HasSuffix(w.path, rest) {
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
