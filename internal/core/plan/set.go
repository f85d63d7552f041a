// Package plan joins a rule and a file: whether its conditions are met, what
// would be done, and where everything would go.
//
// The engine asks it before it acts; preview, why, try and check ask the same
// functions, so what they say is what happens.
package plan

import (
	"maps"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/pattern"
	"stilltide/internal/core/rule"
)

// Set holds the rules of a file, found by the folders they watch.
type Set struct {
	File  *rule.File
	watch map[string][]*rule.Rule // by watched folder
	named map[string]*rule.Rule
	deep  int // the deepest depth of any rule
	state string

	needs   map[*rule.Rule]file.Needs
	own     map[*rule.Rule][]string // the fixed parts of each rule's processed and failed folders
	chained map[string]bool         // watched folders where a rule may place files
	places  map[string]bool         // fixed parts of all rules' destinations
	holding map[string][]string     // watched folders, by themselves and by each folder above them
	texts   map[string]bool         // the rules files themselves: no rule takes them
	apart   map[string]bool         // folders that a link leads to from the watched one above them

	settings        []*rule.Rule // those with again_on
	folded, markers bool         // whether any rule takes folders, or asks for markers
}

// NewSet indexes the rules. The file must be free of errors.
func NewSet(f *rule.File) *Set {
	s := &Set{File: f, watch: map[string][]*rule.Rule{}, named: map[string]*rule.Rule{},
		needs: map[*rule.Rule]file.Needs{}, own: map[*rule.Rule][]string{}, state: f.StateFolder()}
	for _, r := range f.All() {
		s.named[r.Name.S] = r
		s.needs[r] = needsOf(r)
		for _, p := range r.Places() {
			s.own[r] = append(s.own[r], r.Spelled(FixedFolder(p)))
		}
		if !r.Enabled {
			continue
		}
		for _, folder := range r.Folders {
			s.watch[folder] = append(s.watch[folder], r)
		}
		if len(r.AgainOn) > 0 {
			s.settings = append(s.settings, r)
		}
		s.deep = max(s.deep, levels(r))
		s.folded = s.folded || r.Folded()
		s.markers = s.markers || r.Ready.Marker.Set()
	}
	s.texts = map[string]bool{f.Path: true}
	for _, path := range f.Included {
		s.texts[path] = true
	}
	s.findChains()
	return s
}

// SetApart names the folders that a link leads to from a watched folder above them: rules that watch above such a
// folder do not reach what lies in it.
func (s *Set) SetApart(folders map[string]bool) { s.apart = folders }

// isApart reports whether a folder of a rule does not reach a path that lies below it.
func (s *Set) isApart(folder, path string) bool {
	for between := range s.apart {
		if between != folder && within(path, between) && within(between, folder) {
			return true
		}
	}
	return false
}

// Watching lists the rules that watch a folder, those that are disabled left out.
func (s *Set) Watching(folder string) []*rule.Rule { return s.watch[folder] }

// SettingsIn lists the rules that handle all again when files in a folder change.
func (s *Set) SettingsIn(folder string) (rules []*rule.Rule) {
	for _, r := range s.settings {
		if r.HasAgainOn(folder) {
			rules = append(rules, r)
		}
	}
	return rules
}

// WatchedFolders lists the folders that rules watch.
func (s *Set) WatchedFolders() []string { return slices.Collect(maps.Keys(s.watch)) }

// TakesFolders reports whether any rule takes whole folders.
func (s *Set) TakesFolders() bool { return s.folded }

// State is the state folder.
func (s *Set) State() string { return s.state }

// Chained reports whether a rule may place files in or below a watched folder.
func (s *Set) Chained(watch string) bool { return s.chained[watch] }

// Rule finds a rule by its name, nil if there is none.
func (s *Set) Rule(name string) *rule.Rule { return s.named[name] }

// Rules lists the rules in their order.
func (s *Set) Rules() []*rule.Rule { return s.File.All() }

// Names are those of the rules, in their order.
func (s *Set) Names() (names []string) {
	for _, r := range s.Rules() {
		names = append(names, r.Name.S)
	}
	return names
}

// AgainOn lists the rules that handle all again when a file changes.
func (s *Set) AgainOn(path string) (rules []*rule.Rule) {
	for _, r := range s.settings {
		if r.HandlesAgainOn(path) {
			rules = append(rules, r)
		}
	}
	return rules
}

// Folders lists the watched folders with the depth that the deepest rule there wants, those of
// again_on among them.
func (s *Set) Folders() map[string]int {
	depth := map[string]int{}
	for _, r := range s.settings {
		for _, p := range r.AgainOn {
			depth[filepath.Dir(p.Absolute())] = 0
		}
	}
	for folder, rules := range s.watch {
		for _, r := range rules {
			depth[folder] = max(depth[folder], levels(r))
		}
	}
	return depth
}

// WritingFolders lists the folders, each with its depth, of the rules that take files which a
// program still writes.
func (s *Set) WritingFolders() map[string]int {
	depth := map[string]int{}
	for folder, rules := range s.watch {
		for _, r := range rules {
			if r.Ready.Writers == rule.WritersIgnore {
				depth[folder] = max(depth[folder], levels(r))
			}
		}
	}
	return depth
}

// Candidate is a rule whose conditions on the name fit a path.
type Candidate struct {
	Rule     *rule.Rule
	Unit     string // what the job is about: the file itself, or the folder it lies in
	Watch    string // the watched folder it was found in
	Root     string // the same, or the fixed part of a glob of folders
	Rel      string // path of the unit below it, with forward slashes
	Captures map[string]string
}

// Candidates lists the rules of files whose name conditions fit a path, in their
// order. The path is absolute and clean. What lies inside a unit of a rule for
// folders is that rule's: ask Units first.
func (s *Set) Candidates(path string) []Candidate {
	if within(path, s.state) || s.texts[path] || s.marker(path) {
		return nil
	}
	var found []Candidate
	name := filepath.Base(path)
	s.above(path, func(r *rule.Rule, folder string, level int) {
		if r.Folded() {
			return
		}
		root := folder
		folder, words, ok := placeIn(r, folder, level, path)
		if !ok {
			return
		}
		rel := filepath.ToSlash(strings.TrimPrefix(path[len(folder):], string(filepath.Separator)))
		if captures, ok := s.nameFits(r, folder, path, name, rel); ok {
			found = append(found, Candidate{Rule: r, Unit: path, Watch: folder, Root: root, Rel: rel,
				Captures: join(words, captures)})
		}
	})
	inOrder(found)
	return found
}

// Units lists the rules for whose unit a path counts, in their order: the unit
// itself if it is a folder, or what lies inside. A folder that a rule watches, or
// in which one lies that a rule watches, is no unit: that rule would lose it.
func (s *Set) Units(path string, dir bool) []Candidate {
	if !s.folded || within(path, s.state) {
		return nil
	}
	var found []Candidate
	s.above(path, func(r *rule.Rule, folder string, level int) {
		if !r.Folded() {
			return
		}
		root := folder
		folder, words, ok := placeIn(r, folder, level, path)
		if !ok || filepath.Dir(path) == folder && !dir {
			return
		}
		rel := strings.TrimPrefix(path[len(folder):], string(filepath.Separator))
		name, _, _ := strings.Cut(filepath.ToSlash(rel), "/")
		unit := filepath.Join(folder, name)
		if s.holding[unit] != nil {
			return
		}
		if captures, ok := s.nameFits(r, folder, unit, name, name); ok {
			found = append(found, Candidate{Rule: r, Unit: unit, Watch: folder, Root: root, Rel: name,
				Captures: join(words, captures)})
		}
	})
	inOrder(found)
	return found
}

// above calls f for each rule that watches a folder above the path; level 0
// is the folder the path lies in.
func (s *Set) above(path string, f func(r *rule.Rule, folder string, level int)) {
	folder := above(path)
	for level := 0; ; level++ {
		for _, r := range s.watch[folder] {
			f(r, folder, level)
		}
		parent := above(folder)
		if level == s.deep || parent == folder || s.apart[folder] {
			return
		}
		folder = parent
	}
}

// above is filepath.Dir for a path that is clean.
func above(path string) string {
	if i := strings.LastIndexByte(path, filepath.Separator); i > len(filepath.VolumeName(path)) {
		return path[:i]
	}
	return filepath.Dir(path)
}

// marker reports whether the path is the companion of a rule's files. No rule takes one.
func (s *Set) marker(path string) bool {
	if !s.markers {
		return false
	}
	name, found := filepath.Base(path), false
	s.above(path, func(r *rule.Rule, folder string, level int) {
		if !found && r.Ready.IsMarker(name) {
			_, _, found = placeIn(r, folder, level, path)
		}
	})
	return found
}

func inOrder(found []Candidate) {
	if len(found) > 1 {
		sort.SliceStable(found, func(i, j int) bool { return found[i].Rule.Index < found[j].Rule.Index })
	}
}

// Root is the watched folder that a path lies in or below, the nearest if there are
// several; "" if there is none from which it is reached.
func (s *Set) Root(path string) string {
	for folder := above(path); ; {
		if s.watch[folder] != nil {
			return folder
		}
		up := above(folder)
		if up == folder || s.apart[folder] {
			return ""
		}
		folder = up
	}
}

// Watched reports whether any rule watches the folder that a path lies in.
func (s *Set) Watched(path string) bool {
	found := false
	s.above(path, func(r *rule.Rule, _ string, level int) { found = found || level <= levels(r) })
	return found
}

// FixedPlaces lists the folders where rules put files, as far as they are the same for all.
func (s *Set) FixedPlaces() []string { return slices.Sorted(maps.Keys(s.places)) }

// Placed reports whether a path lies where a rule puts files and no rule watches.
func (s *Set) Placed(path string) bool {
	for folder := filepath.Dir(path); s.watch[folder] == nil; folder = filepath.Dir(folder) {
		if s.places[folder] {
			return true
		}
		if folder == filepath.Dir(folder) {
			break
		}
	}
	return false
}

// placeIn returns the watched folder that a path lies in, for a folder of the
// rule that stands level folders above it. Below a glob it is the nearest
// folder that fits; words are what the glob captured.
func placeIn(r *rule.Rule, folder string, level int, path string) (watch string, words map[string]string, ok bool) {
	deepest := r.Levels()
	if r.Folded() {
		deepest = rule.AllLevels
	}
	g := r.Glob(folder)
	if g == nil {
		return folder, nil, level <= deepest
	}
	at := filepath.Dir(path)
	for up := 0; up <= deepest && len(at) > len(folder); up++ {
		rel := filepath.ToSlash(strings.TrimPrefix(at[len(folder):], string(filepath.Separator)))
		if words, ok := g.Pattern.CapturesPath(rel); ok {
			return at, words, true
		}
		at = filepath.Dir(at)
	}
	return "", nil, false
}

// join puts what a glob of folders captured beside what the pattern did.
func join(words, captures map[string]string) map[string]string {
	if len(words) == 0 {
		return captures
	}
	all := map[string]string{}
	for _, m := range []map[string]string{words, captures} {
		for k, v := range m {
			all[k] = v
		}
	}
	return all
}

// levels is how deep a rule's folders must be watched.
func levels(r *rule.Rule) int {
	if r.Folded() {
		return rule.AllLevels
	}
	deepest := 0
	for _, g := range r.Globs {
		deepest = max(deepest, g.Levels)
	}
	return min(deepest+r.Levels(), rule.AllLevels)
}

// nameFits tests what can be tested without looking at the file.
func (s *Set) nameFits(r *rule.Rule, watch, path, name, rel string) (map[string]string, bool) {
	captures, ok := r.Matcher.Match(name, rel)
	if !ok || !r.Hidden && hidden(rel) || unfinished(r, name) || s.ignores(name, rel) || s.ownPlace(r, watch,
		path) {
		return nil, false
	}
	return captures, true
}

// ignores reports whether the file's own ignore: holds the name.
func (s *Set) ignores(name, rel string) bool {
	return s.File.Ignore != nil && s.File.Ignore.Fits(name, rel)
}

// hidden reports whether the name, or a folder on the way to it, begins with a dot.
func hidden(rel string) bool {
	return strings.HasPrefix(rel, ".") || strings.Contains(rel, "/.")
}

// unfinished reports whether the built-in list holds the name: part-files,
// editors' swap files, office lock files. A pattern of the rule that spells
// such an ending out lifts it.
func unfinished(r *rule.Rule, name string) bool {
	never := neverList()
	if !never.Fits(name, name) {
		return false
	}
	for _, ending := range r.Matcher.Endings() {
		if strings.HasSuffix(name, ending) && never.Fits("x"+ending, "x"+ending) {
			return false
		}
	}
	return true
}

// ownPlace reports whether a path lies in the rule's own processed or failed
// folder. A destination that holds the watched folder itself does not count.
func (s *Set) ownPlace(r *rule.Rule, watch, path string) bool {
	for _, fixed := range s.own[r] {
		if !within(watch, fixed) && within(path, fixed) {
			return true
		}
	}
	return false
}

// FixedFolder is the part of a destination before its first placeholder.
func FixedFolder(p *rule.Place) string { return fixedPart(p.To, p.Folder) }

func fixedPart(p rule.Path, t *fill.Template) string {
	fixed := p.S
	if t != nil && len(t.Refs()) > 0 {
		fixed, _ = t.Cut("")
	}
	if filepath.IsAbs(fixed) {
		return filepath.Clean(fixed)
	}
	return filepath.Join(p.Base, fixed)
}

// within reports whether path is the folder or lies below it.
func within(path, folder string) bool {
	return strings.HasPrefix(path, folder) &&
		(len(path) == len(folder) || path[len(folder)] == filepath.Separator || strings.HasSuffix(folder,
			string(filepath.Separator)))
}

// NoteEnding is added to the name of a file in the failed folder to name its failure note.
const NoteEnding = ".failed.txt"

// HiddenPrefix begins the hidden names that the program itself makes.
const HiddenPrefix = ".stilltide-"

// ListIn has the lists of a batch's or group's files lie in a folder, under names that {scratch}/* does not mean.
func (j *Job) ListIn(folder string) {
	j.List, j.List0 = filepath.Join(folder, HiddenPrefix+"list"), filepath.Join(folder, HiddenPrefix+"list0")
}

// Hidden reports whether a name is one that the program itself has made, of a file on its way.
func Hidden(name string) bool { return strings.HasPrefix(name, HiddenPrefix) }

// RealName reports whether a name is that of a real file: not of the built-in
// list of part-files, swap files and lock files.
func RealName(name string) bool { return !neverList().Fits(name, name) }

// unfinishedNames are files that are not real yet, or never will be.
var unfinishedNames = []string{
	"*.tmp", "*.temp", // downloads and uploads, besides file.PartEndings
	"*.swp", "*.swo", "*.swx", "*~", "#*#", ".#*", "4913", ".goutputstream-*", "*.kate-swp", // editors
	"~$*", ".~lock.*", "*.lck", "*.lock", // office locks
	".nfs*", ".fuse_hidden*", ".DS_Store", "._*", "Thumbs.db", "desktop.ini", "*.trashinfo", // systems
	"*" + NoteEnding, HiddenPrefix + "*", // our own
}

var neverList = sync.OnceValue(func() *pattern.List {
	names := slices.Clone(unfinishedNames)
	for _, ending := range file.PartEndings {
		names = append(names, "*"+ending)
	}
	list, _, _ := pattern.CompileList(names, pattern.Options{})
	return list
})

// Below returns what follows a folder in a path that is the folder or lies in it.
func Below(path, folder string) (rest string, ok bool) {
	rest, ok = strings.CutPrefix(path, strings.TrimSuffix(folder, string(filepath.Separator)))
	return rest, ok && (rest == "" || rest[0] == filepath.Separator)
}
