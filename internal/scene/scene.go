// Package scene is the file system as it would be: what preview and check foretell is done there
// instead of on the disk. A scene answers as the disk and what was foretold so far would together.
package scene

import (
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/content"
	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/held"
	"stilltide/internal/look"
	"stilltide/internal/naming"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
)

// Scene is a picture of the file system as it would be after what was foretold so far.
// It differs from the real one by what was placed and taken away.
type Scene struct {
	Now     map[string]Thing // by path
	changes []change         // since begin
	numbers *naming.Numbers
	answers *look.Answers // what lies where nothing is answered counts as not there
}

// change is what was known of a path before something was done there.
type change struct {
	path  string
	was   Thing
	known bool
}

// Thing is what is at a path of the scene.
type Thing struct {
	Gone   bool
	Facts  file.Facts
	Source string // the real file or folder whose content it has, "" if there is none
	Text   []byte // the content, if a step writes it
	Open   bool   // only a run can tell the content
	Rule   string // the rule that would have placed it
}

// New returns the scene of what is there now.
func New() *Scene {
	return &Scene{Now: map[string]Thing{}, numbers: &naming.Numbers{}, answers: look.NewAnswers()}
}

// Mark names what the scene is now, for TakeBack.
func (s *Scene) Mark() int { return len(s.changes) }

// TakeBack makes the scene what it was at a mark.
func (s *Scene) TakeBack(mark int) {
	since := s.changes[mark:]
	for _, c := range slices.Backward(since) {
		if c.known {
			s.Now[c.path] = c.was
		} else {
			delete(s.Now, c.path)
		}
	}
	if len(since) > 0 {
		s.numbers = &naming.Numbers{}
	}
	s.changes = s.changes[:mark]
}

// Keep ends all marks: what was done since is not taken back any more.
func (s *Scene) Keep() { s.changes = s.changes[:0] }

func (s *Scene) note(path string) {
	was, known := s.Now[path]
	s.changes = append(s.changes, change{path, was, known})
}

func (s *Scene) set(path string, t Thing) {
	s.note(path)
	s.Now[path] = t
}

// Look reports what is at a path; false if nothing is.
func (s *Scene) Look(path string) (Thing, bool) { return s.lookBy(watchfs.LookAny, path) }

// there is Look for those who need not know what lies in a folder.
func (s *Scene) there(path string) (Thing, bool) { return s.lookBy(watchfs.Stat, path) }

func (s *Scene) lookBy(look func(string) (file.Facts, error), path string) (Thing, bool) {
	if t, ok := s.Now[path]; ok {
		return t, !t.Gone
	}
	source := path
	for up := filepath.Dir(path); ; up = filepath.Dir(up) {
		if t, ok := s.Now[up]; ok {
			if t.Gone || !t.Facts.Dir || t.Source == "" {
				return Thing{}, false
			}
			source = t.Source + path[len(up):]
			break
		}
		if up == filepath.Dir(up) {
			break
		}
	}
	facts := s.real(look, source)
	if !facts.Exists {
		return Thing{}, false
	}
	return Thing{Facts: facts, Source: source}, true
}

// real looks at the real file.
func (s *Scene) real(look func(string) (file.Facts, error), path string) file.Facts {
	var found struct {
		facts file.Facts
		err   error
	}
	if s.answers.Any() {
		s.answers.Know(filepath.Dir(path))
	}
	if s.answers.Ask(path, 2*time.Second, func() { found.facts, found.err = look(path) }) != nil ||
		found.err != nil {
		return file.Facts{}
	}
	return found.facts
}

// Together reports whether two paths lie on the same file system; true if that is not known.
func (s *Scene) Together(a, b string) bool {
	one, known := s.device(a)
	other, both := s.device(b)
	return !known || !both || one == other
}

// KeepsTags reports whether the file system on which a path lies, or will, keeps tags; true if that is not known.
func (s *Scene) KeepsTags(path string) bool {
	folder, _, known := s.realFolder(path)
	var keeps bool
	if !known || s.answers.Ask(folder, look.ReachPatience, func() { keeps = content.KeepsTags(folder) }) != nil {
		return true
	}
	return keeps
}

// device is the number of the file system on which a path lies, or will.
func (s *Scene) device(path string) (dev uint64, known bool) {
	_, info, known := s.realFolder(path)
	if known {
		dev = watchfs.Facts(info).Dev
	}
	return dev, dev != 0 // 0 where the system has no numbers for them
}

// realFolder is the nearest real folder above a path.
func (s *Scene) realFolder(path string) (folder string, info os.FileInfo, known bool) {
	for up := filepath.Dir(path); ; up = filepath.Dir(up) {
		var found struct {
			info os.FileInfo
			err  error
		}
		if s.answers.Ask(up, look.ReachPatience, func() { found.info, found.err = os.Stat(up) }) != nil {
			return "", nil, false
		}
		if found.err == nil && found.info.IsDir() {
			return up, found.info, true
		}
		if up == filepath.Dir(up) {
			return "", nil, false
		}
	}
}

// Glob lists the paths of the scene that a pattern fits, by name.
func (s *Scene) Glob(pattern string) []string {
	found := map[string]bool{}
	paths, _ := filepath.Glob(pattern)
	for _, path := range paths {
		found[path] = true
	}
	for path := range s.Now {
		if ok, err := filepath.Match(pattern, path); err == nil && ok {
			found[path] = true
		}
	}
	return slices.DeleteFunc(slices.Sorted(maps.Keys(found)), func(path string) bool {
		_, there := s.there(path)
		return !there || plan.Hidden(filepath.Base(path))
	})
}

// same reports whether two files have the same content; sure is false if only a run can tell.
func (s *Scene) same(a, b Thing) (same, sure bool) {
	switch {
	case !a.Facts.Regular || !b.Facts.Regular:
		return false, true
	case a.Open || b.Open:
		return false, false
	case a.Facts.Size != b.Facts.Size:
		return false, true
	}
	is, err := a.payload().Same(b.payload())
	return is, err == nil
}

// Landing is where something would come to be placed, and how.
type Landing struct {
	Path    string
	Here    bool   // it is there already
	Same    bool   // its content is
	Over    bool   // it would replace what is there
	Skipped bool   // it would be left out (same_name: skip)
	Wrong   string // why it cannot be placed
	Maybe   bool   // only a run can tell whether the content is the same
	Number  int    // 1 if it gets the wanted name
}

// Land foretells a placement, as place.Placer would do it. ours tells whether what has
// the name may be replaced in any case.
func (s *Scene) Land(source string, t Thing, to plan.Spot, same rule.SameName,
	ours func(path string, t Thing) bool) Landing {
	if why := s.cannotEnter(source, t, to); why != "" {
		return Landing{Path: to.Path(), Wrong: why}
	}
	s.makeFolder(to.Folder())
	maybe := false
	wanted, path := t.payload(), filepath.Join(to.Folder(), to.Name)
	for n := range s.tries(path, wanted, ours != nil) {
		l := Landing{Path: filepath.Join(to.Folder(), naming.Numbered(to.Name, n)), Number: n, Maybe: maybe}
		there, taken := s.there(l.Path)
		if !taken {
			return l
		}
		if source != "" && place.SameEntry(l.Path, source) {
			l.Here = true
			return l
		}
		is, sure := s.same(t, there)
		maybe = maybe || !sure
		l.Maybe = maybe
		switch {
		case is:
			l.Same = true
			return l
		case there.Facts.Regular && (same == rule.SameReplace || ours != nil && ours(l.Path, there)):
			l.Over = true
			return l
		case same == rule.SameSkip:
			l.Skipped = true
			return l
		case same == rule.SameFail:
			l.Wrong = "that name is there already with other content (same_name: fail)"
			return l
		case same == rule.SameReplace:
			l.Wrong = "the file of that name is not a regular file, so it is not replaced"
			return l
		}
		if sure {
			s.numbers.Note(path, n, there.payload(), wanted)
		}
	}
	panic("no number is free for that name")
}

// tries returns the numbers to look at, as a place.Placer has them.
func (s *Scene) tries(path string, wanted *naming.Payload, all bool) iter.Seq[int] {
	known := s.numbers
	if all {
		known = nil
	}
	return known.Tries(path, wanted, func(n int) bool {
		_, taken := s.there(filepath.Join(filepath.Dir(path), naming.Numbered(filepath.Base(path), n)))
		return taken
	})
}

// payload returns the content of a thing, as far as it is known.
func (t Thing) payload() *naming.Payload {
	if !t.Facts.Regular || t.Open {
		return &naming.Payload{Size: -1}
	}
	return &naming.Payload{Path: t.Source, Size: t.Facts.Size, Text: t.Text}
}

// makeFolder notes a folder that is made for what is placed in it.
func (s *Scene) makeFolder(folder string) {
	for ; folder != filepath.Dir(folder); folder = filepath.Dir(folder) {
		if _, there := s.there(folder); there {
			return
		}
		s.set(folder, Thing{Facts: file.Facts{Exists: true, Dir: true}})
	}
}

// cannotEnter reports why nothing can be placed in a folder, "" if something can.
func (s *Scene) cannotEnter(source string, t Thing, to plan.Spot) string {
	for at := to.Folder(); at != filepath.Dir(at); at = filepath.Dir(at) {
		if t.Facts.Dir && source != "" && place.SameEntry(at, source) {
			return place.ErrInside.Error()
		}
		there, ok := s.there(at)
		if !ok {
			continue
		}
		if info, err := os.Stat(there.Source); !there.Facts.Dir && (there.Source == "" || err != nil ||
			!info.IsDir()) {
			return "the folder " + to.Folder() + " cannot be made: " + held.ErrInTheWay.Error()
		}
		if to.Rel != "" && len(at) > len(to.Root) && !there.Facts.Dir {
			return "a part of " + to.Folder() +
				" that came from a placeholder is a link, and such links are not followed"
		}
		if !t.Facts.Dir {
			break
		}
	}
	return ""
}

// Put notes a placement.
func (s *Scene) Put(l Landing, t Thing, by string) {
	if l.Here || l.Same || l.Skipped || l.Wrong != "" {
		return
	}
	t.Gone, t.Rule = false, by
	if inside := t.Facts.Says(); inside.Known.Kind { // what kind of file it is depends on its name
		inside.Known.Kind = false
		t.Facts.Inside = &inside
	}
	s.set(l.Path, t)
}

// Remove notes that nothing is at a path any more.
func (s *Scene) Remove(path string) {
	if t, _ := s.there(path); t.Facts.Dir {
		for below := range s.Now {
			if strings.HasPrefix(below, path+string(filepath.Separator)) {
				s.note(below)
				delete(s.Now, below)
			}
		}
	}
	s.set(path, Thing{Gone: true})
	s.numbers.Free(path)
}
