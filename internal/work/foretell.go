package work

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
)

// Foretelling is one job under way in a scene.
type Foretelling struct {
	Scene  *Scene
	State  string // the state folder
	Now    time.Time
	Ours   func(path string, t Thing) bool // whether the rule placed what has a name
	Job    plan.Job
	At     string // where the job's file is, "" if nowhere
	Self   Thing
	Steps  []string
	Placed []string // what the steps would place, by path
	Notes  []string // clashes
	Wrong  string   // why it would fail
	ran    bool     // a command may have made something
	Doubt  bool     // it is assumed that a command made what a later step uses
	Open   bool     // from here on only a run can tell where the file is
	Thrown string   // "to the trash" or "deleted", if a step discards the file
}

// End puts the file where it belongs afterwards.
func (w *Foretelling) End(target *rule.Place, same rule.SameName) {
	if target == nil || w.At == "" || w.Job.Event == file.Removed || w.Open {
		return
	}
	w.Job.Facts = w.Self.Facts
	spot, err := w.Job.Destination(target)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.move(spot, same)
}

// move moves the job's file in the scene, and follows it.
func (w *Foretelling) move(to plan.Spot, same rule.SameName) landing {
	l := w.Scene.land(w.At, w.Self, to, same, nil)
	w.clash(l, filepath.Base(w.At))
	switch {
	case l.wrong != "":
		w.Wrong = l.wrong
	case l.here || l.skipped:
	default:
		w.Scene.Remove(w.At)
		w.Scene.put(l, w.Self, w.Job.Rule.Name.S)
		w.At, w.Job.At, w.Job.Placed = l.path, l.path, l.path
		w.arrives(l)
	}
	return l
}

// arrives notes a file that rules may take when the job is over.
func (w *Foretelling) arrives(l landing) {
	if !l.here && !l.same && !l.skipped && l.wrong == "" {
		w.Placed = append(w.Placed, l.path)
	}
}

// clash says what is at a place already.
func (w *Foretelling) clash(l landing, name string) {
	switch {
	case l.wrong != "":
	case l.maybe:
		w.note("%s is there already; only a run can tell whether with the same content", plan.Display(l.path))
	case l.same:
		w.note("its content is in %s already", plan.Display(l.path))
	case l.over:
		w.note("%s would be replaced", plan.Display(l.path))
	case l.skipped:
		w.note("%s is there already, so it is left out (same_name: skip)", plan.Display(l.path))
	case l.number > 1 && !l.here:
		w.note("that name is taken, so it becomes %s", plan.Display(filepath.Base(l.path)))
	}
}

func (w *Foretelling) note(format string, args ...any) {
	w.Notes = append(w.Notes, fmt.Sprintf(format, args...))
}

// Step foretells one step.
func (w *Foretelling) Step(s *rule.Step) {
	r := w.Job.Rule
	uncertain := s.Uncertain(r.Saved)
	if applies, err := w.Job.Applies(s); !uncertain && (err != nil || !applies) {
		if err != nil {
			w.Wrong = err.Error()
		}
		return
	}
	job := w.Job
	text, err := job.Foretell(s, w.State)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	if uncertain {
		text += ", if " + s.Where.S
	}
	w.Steps = append(w.Steps, text)
	switch {
	case uncertain && s.TakesInput():
		w.Open = true
	case uncertain || w.Open:
	default:
		w.act(s)
	}
}

// act does a step in the scene.
func (w *Foretelling) act(s *rule.Step) {
	switch {
	case w.At != "":
	case w.Thrown == "to the trash":
		w.Doubt = true // what is done with a file in the trash is not foretold
		return
	case len(s.From) == 0 && needsFile(s):
		w.Wrong = "an earlier step has discarded the file"
		return
	}
	switch s.Verb() {
	case "run", "script":
		w.ran = true
		if s.OutputTo != nil {
			w.make(s, Thing{Facts: file.Facts{Exists: true, Regular: true}, open: true})
		}
	case "write":
		text, err := w.Job.Text(s)
		if err != nil {
			w.Wrong = err.Error()
			return
		}
		w.make(s, Thing{Facts: file.Facts{Exists: true, Regular: true, Size: int64(len(text)), Mod: file.At(w.Now)}, text: []byte(text)})
	case "move", "copy", "discard":
		if len(s.From) > 0 {
			w.others(s)
			return
		}
		w.own(s)
	case "rename", "mirror":
		w.own(s)
	case "replace_with":
		w.replace(s)
	case "unpack":
		w.unpack(s)
	}
}

// unpack foretells what an archive holds.
func (w *Foretelling) unpack(s *rule.Step) {
	to, err := w.Job.Spot(s, w.Job.Path())
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	if w.Self.Source == "" {
		w.Doubt = true // only a run can tell what it holds
		return
	}
	first := ""
	err = place.Entries(w.Self.Source, limitsOf(s), func(name string, content []byte, whole bool) {
		if w.Wrong != "" {
			return
		}
		spot := plan.Spot{Root: to.Root, Rel: filepath.Join(to.Rel, filepath.Dir(name)), Name: filepath.Base(name)}
		if spot.Rel == "." {
			spot.Rel = ""
		}
		t := Thing{Facts: file.Facts{Exists: true, Regular: true, Size: int64(len(content)), Mod: file.At(w.Now)}, text: content, open: !whole}
		l := w.Scene.land("", t, spot, s.SameName, nil)
		if w.clash(l, spot.Name); l.skipped {
			l.wrong = l.path + " is there already with other content"
		}
		if w.Wrong = l.wrong; w.Wrong == "" {
			w.Scene.put(l, t, w.Job.Rule.Name.S)
			w.arrives(l)
			first = cmp.Or(first, l.path)
		}
	})
	if err != nil && w.Wrong == "" {
		w.Wrong = plan.Display(w.At) + " cannot be unpacked: " + err.Error()
	}
	w.Job.Placed = first
}

// needsFile reports whether a step can be done only while the job's file is there.
func needsFile(s *rule.Step) bool {
	return !slices.Contains([]string{"run", "script", "write", "mirror", "tell"}, s.Verb())
}

// replace foretells new content in the file's place.
func (w *Foretelling) replace(s *rule.Step) {
	path, err := w.Job.Replacement(s)
	there, ok := w.Scene.Look(path)
	switch inScratch := w.scratch(path); {
	case err != nil:
		w.Wrong = err.Error()
		return
	case inScratch && w.ran:
		w.Doubt, w.Self.open, w.Self.Source = true, true, ""
	case !ok || inScratch:
		w.Wrong = "replace_with: there is no " + plan.Display(path)
		return
	case !there.Facts.Regular:
		w.Wrong = "replace_with: " + plan.Display(path) + " is not a regular file"
		return
	case !s.Gains(w.Self.Facts.Size, there.Facts.Size):
		return
	default:
		w.Self.Source, w.Self.text, w.Self.open, w.Self.Facts.Size = there.Source, there.text, there.open, there.Facts.Size
	}
	w.Scene.Now[w.At] = w.Self
}

// scratch reports whether a path lies in the attempt's own folder: only a run fills that.
func (w *Foretelling) scratch(path string) bool {
	return strings.HasPrefix(path, w.Job.Scratch+string(filepath.Separator))
}

// make foretells a new file.
func (w *Foretelling) make(s *rule.Step, t Thing) {
	spot, err := w.Job.Spot(s, w.Job.Path())
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.land("", t, spot, s.SameName, nil)
}

func (w *Foretelling) land(source string, t Thing, to plan.Spot, same rule.SameName, ours func(string, Thing) bool) {
	if w.scratch(to.Path()) {
		w.Job.Placed = to.Path()
		return
	}
	l := w.Scene.land(source, t, to, same, ours)
	w.clash(l, to.Name)
	if w.Wrong = l.wrong; l.wrong == "" && !l.skipped {
		w.Scene.put(l, t, w.Job.Rule.Name.S)
		w.Job.Placed = l.path
		w.arrives(l)
	}
}

// own foretells a step on the job's own file.
func (w *Foretelling) own(s *rule.Step) {
	if s.Verb() == "discard" {
		w.Thrown = map[rule.Discard]string{rule.DiscardTrash: "to the trash", rule.DiscardDelete: "deleted"}[s.Discard]
		w.Scene.Remove(w.At)
		w.At = ""
		return
	}
	if s.Verb() == "mirror" && w.At == "" {
		return
	}
	spot, err := w.Job.Spot(s, w.Job.Path())
	if s.Verb() == "mirror" {
		spot, err = w.Job.Spot(s, w.Job.File)
	}
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	switch s.Verb() {
	case "move", "rename":
		if w.scratch(spot.Path()) {
			w.Open = true
			return
		}
		w.move(spot, s.SameName)
	case "mirror":
		w.land(w.At, w.Self, spot, s.SameName, w.Ours)
	default:
		w.land(w.At, w.Self, spot, s.SameName, nil)
	}
}

// others foretells a step on the files that from names.
func (w *Foretelling) others(s *rule.Step) {
	globs, err := w.Job.Sources(s)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	for _, glob := range globs {
		if w.scratch(glob) {
			w.fromScratch(s, glob)
			continue
		}
		paths := w.Scene.glob(glob)
		if len(paths) == 0 {
			w.Wrong = "from: there is no " + plan.Display(glob)
		}
		for _, path := range paths {
			if w.Wrong == "" {
				w.other(s, path)
			}
		}
	}
}

// fromScratch foretells what a command makes, as far as its name is spelled out.
func (w *Foretelling) fromScratch(s *rule.Step, path string) {
	if w.Doubt = true; !w.ran {
		w.Wrong = "from: there is no " + plan.Display(path) + ": no command before has made it"
		return
	}
	if strings.ContainsAny(filepath.Base(path), "*?[") || s.Verb() == "discard" {
		return
	}
	spot, err := w.Job.Spot(s, path)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.land("", Thing{Facts: file.Facts{Exists: true, Regular: true}, open: true}, spot, s.SameName, nil)
}

func (w *Foretelling) other(s *rule.Step, path string) {
	t, _ := w.Scene.Look(path)
	if s.Verb() == "discard" {
		w.Scene.Remove(path)
		return
	}
	spot, err := w.Job.Spot(s, path)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	l := w.Scene.land(path, t, spot, s.SameName, nil)
	if w.Wrong = l.wrong; l.wrong != "" || l.here || l.skipped {
		return
	}
	if s.Verb() == "move" {
		w.Scene.Remove(path)
		if path == w.At { // its own file, by another way
			w.At, w.Job.At = l.path, l.path
		}
	}
	w.Scene.put(l, t, w.Job.Rule.Name.S)
	w.Job.Placed = l.path
	w.arrives(l)
}
