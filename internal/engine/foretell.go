package engine

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

// foretelling is one job under way in a scene.
type foretelling struct {
	scene  *scene
	state  string // the state folder
	now    time.Time
	ours   func(path string, t thing) bool // whether the rule placed what has a name
	job    plan.Job
	at     string // where the job's file is, "" if nowhere
	self   thing
	steps  []string
	placed []string // what the steps would place, by path
	notes  []string // clashes
	wrong  string   // why it would fail
	ran    bool     // a command may have made something
	doubt  bool     // it is assumed that a command made what a later step uses
	open   bool     // from here on only a run can tell where the file is
	thrown string   // "to the trash" or "deleted", if a step discards the file
}

// end puts the file where it belongs afterwards.
func (w *foretelling) end(target *rule.Place, same rule.SameName) {
	if target == nil || w.at == "" || w.job.Event == file.Removed || w.open {
		return
	}
	w.job.Facts = w.self.facts
	spot, err := w.job.Destination(target)
	if err != nil {
		w.wrong = err.Error()
		return
	}
	w.move(spot, same)
}

// move moves the job's file in the scene, and follows it.
func (w *foretelling) move(to plan.Spot, same rule.SameName) landing {
	l := w.scene.land(w.at, w.self, to, same, nil)
	w.clash(l, filepath.Base(w.at))
	switch {
	case l.wrong != "":
		w.wrong = l.wrong
	case l.here || l.skipped:
	default:
		w.scene.remove(w.at)
		w.scene.put(l, w.self, w.job.Rule.Name.S)
		w.at, w.job.At, w.job.Placed = l.path, l.path, l.path
		w.arrives(l)
	}
	return l
}

// arrives notes a file that rules may take when the job is over.
func (w *foretelling) arrives(l landing) {
	if !l.here && !l.same && !l.skipped && l.wrong == "" {
		w.placed = append(w.placed, l.path)
	}
}

// clash says what is at a place already.
func (w *foretelling) clash(l landing, name string) {
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

func (w *foretelling) note(format string, args ...any) {
	w.notes = append(w.notes, fmt.Sprintf(format, args...))
}

// step foretells one step.
func (w *foretelling) step(s *rule.Step) {
	r := w.job.Rule
	uncertain := s.Uncertain(r.Saved)
	if applies, err := w.job.Applies(s); !uncertain && (err != nil || !applies) {
		if err != nil {
			w.wrong = err.Error()
		}
		return
	}
	job := w.job
	text, err := job.Foretell(s, w.state)
	if err != nil {
		w.wrong = err.Error()
		return
	}
	if uncertain {
		text += ", if " + s.Where.S
	}
	w.steps = append(w.steps, text)
	switch {
	case uncertain && s.TakesInput():
		w.open = true
	case uncertain || w.open:
	default:
		w.act(s)
	}
}

// act does a step in the scene.
func (w *foretelling) act(s *rule.Step) {
	switch {
	case w.at != "":
	case w.thrown == "to the trash":
		w.doubt = true // what is done with a file in the trash is not foretold
		return
	case len(s.From) == 0 && needsFile(s):
		w.wrong = "an earlier step has discarded the file"
		return
	}
	switch s.Verb() {
	case "run", "script":
		w.ran = true
		if s.OutputTo != nil {
			w.make(s, thing{facts: file.Facts{Exists: true, Regular: true}, open: true})
		}
	case "write":
		text, err := w.job.Text(s)
		if err != nil {
			w.wrong = err.Error()
			return
		}
		w.make(s, thing{facts: file.Facts{Exists: true, Regular: true, Size: int64(len(text)), Mod: file.At(w.now)}, text: []byte(text)})
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
func (w *foretelling) unpack(s *rule.Step) {
	to, err := w.job.Spot(s, w.job.Path())
	if err != nil {
		w.wrong = err.Error()
		return
	}
	if w.self.source == "" {
		w.doubt = true // only a run can tell what it holds
		return
	}
	first := ""
	err = place.Entries(w.self.source, limitsOf(s), func(name string, content []byte, whole bool) {
		if w.wrong != "" {
			return
		}
		spot := plan.Spot{Root: to.Root, Rel: filepath.Join(to.Rel, filepath.Dir(name)), Name: filepath.Base(name)}
		if spot.Rel == "." {
			spot.Rel = ""
		}
		t := thing{facts: file.Facts{Exists: true, Regular: true, Size: int64(len(content)), Mod: file.At(w.now)}, text: content, open: !whole}
		l := w.scene.land("", t, spot, s.SameName, nil)
		if w.clash(l, spot.Name); l.skipped {
			l.wrong = l.path + " is there already with other content"
		}
		if w.wrong = l.wrong; w.wrong == "" {
			w.scene.put(l, t, w.job.Rule.Name.S)
			w.arrives(l)
			first = cmp.Or(first, l.path)
		}
	})
	if err != nil && w.wrong == "" {
		w.wrong = plan.Display(w.at) + " cannot be unpacked: " + err.Error()
	}
	w.job.Placed = first
}

// needsFile reports whether a step can be done only while the job's file is there.
func needsFile(s *rule.Step) bool {
	return !slices.Contains([]string{"run", "script", "write", "mirror", "tell"}, s.Verb())
}

// replace foretells new content in the file's place.
func (w *foretelling) replace(s *rule.Step) {
	path, err := w.job.Replacement(s)
	there, ok := w.scene.look(path)
	switch inScratch := w.scratch(path); {
	case err != nil:
		w.wrong = err.Error()
		return
	case inScratch && w.ran:
		w.doubt, w.self.open, w.self.source = true, true, ""
	case !ok || inScratch:
		w.wrong = "replace_with: there is no " + plan.Display(path)
		return
	case !there.facts.Regular:
		w.wrong = "replace_with: " + plan.Display(path) + " is not a regular file"
		return
	case !s.Gains(w.self.facts.Size, there.facts.Size):
		return
	default:
		w.self.source, w.self.text, w.self.open, w.self.facts.Size = there.source, there.text, there.open, there.facts.Size
	}
	w.scene.now[w.at] = w.self
}

// scratch reports whether a path lies in the attempt's own folder: only a run fills that.
func (w *foretelling) scratch(path string) bool {
	return strings.HasPrefix(path, w.job.Scratch+string(filepath.Separator))
}

// make foretells a new file.
func (w *foretelling) make(s *rule.Step, t thing) {
	spot, err := w.job.Spot(s, w.job.Path())
	if err != nil {
		w.wrong = err.Error()
		return
	}
	w.land("", t, spot, s.SameName, nil)
}

func (w *foretelling) land(source string, t thing, to plan.Spot, same rule.SameName, ours func(string, thing) bool) {
	if w.scratch(to.Path()) {
		w.job.Placed = to.Path()
		return
	}
	l := w.scene.land(source, t, to, same, ours)
	w.clash(l, to.Name)
	if w.wrong = l.wrong; l.wrong == "" && !l.skipped {
		w.scene.put(l, t, w.job.Rule.Name.S)
		w.job.Placed = l.path
		w.arrives(l)
	}
}

// own foretells a step on the job's own file.
func (w *foretelling) own(s *rule.Step) {
	if s.Verb() == "discard" {
		w.thrown = map[rule.Discard]string{rule.DiscardTrash: "to the trash", rule.DiscardDelete: "deleted"}[s.Discard]
		w.scene.remove(w.at)
		w.at = ""
		return
	}
	if s.Verb() == "mirror" && w.at == "" {
		return
	}
	spot, err := w.job.Spot(s, w.job.Path())
	if s.Verb() == "mirror" {
		spot, err = w.job.Spot(s, w.job.File)
	}
	if err != nil {
		w.wrong = err.Error()
		return
	}
	switch s.Verb() {
	case "move", "rename":
		if w.scratch(spot.Path()) {
			w.open = true
			return
		}
		w.move(spot, s.SameName)
	case "mirror":
		w.land(w.at, w.self, spot, s.SameName, w.ours)
	default:
		w.land(w.at, w.self, spot, s.SameName, nil)
	}
}

// others foretells a step on the files that from names.
func (w *foretelling) others(s *rule.Step) {
	globs, err := w.job.Sources(s)
	if err != nil {
		w.wrong = err.Error()
		return
	}
	for _, glob := range globs {
		if w.scratch(glob) {
			w.fromScratch(s, glob)
			continue
		}
		paths := w.scene.glob(glob)
		if len(paths) == 0 {
			w.wrong = "from: there is no " + plan.Display(glob)
		}
		for _, path := range paths {
			if w.wrong == "" {
				w.other(s, path)
			}
		}
	}
}

// fromScratch foretells what a command makes, as far as its name is spelled out.
func (w *foretelling) fromScratch(s *rule.Step, path string) {
	if w.doubt = true; !w.ran {
		w.wrong = "from: there is no " + plan.Display(path) + ": no command before has made it"
		return
	}
	if strings.ContainsAny(filepath.Base(path), "*?[") || s.Verb() == "discard" {
		return
	}
	spot, err := w.job.Spot(s, path)
	if err != nil {
		w.wrong = err.Error()
		return
	}
	w.land("", thing{facts: file.Facts{Exists: true, Regular: true}, open: true}, spot, s.SameName, nil)
}

func (w *foretelling) other(s *rule.Step, path string) {
	t, _ := w.scene.look(path)
	if s.Verb() == "discard" {
		w.scene.remove(path)
		return
	}
	spot, err := w.job.Spot(s, path)
	if err != nil {
		w.wrong = err.Error()
		return
	}
	l := w.scene.land(path, t, spot, s.SameName, nil)
	if w.wrong = l.wrong; l.wrong != "" || l.here || l.skipped {
		return
	}
	if s.Verb() == "move" {
		w.scene.remove(path)
		if path == w.at { // its own file, by another way
			w.at, w.job.At = l.path, l.path
		}
	}
	w.scene.put(l, t, w.job.Rule.Name.S)
	w.job.Placed = l.path
	w.arrives(l)
}
