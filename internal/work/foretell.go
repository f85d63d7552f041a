package work

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/naming"
	"stilltide/internal/scene"
)

// What a foretold job has done with its file.
const (
	ToTheTrash = "to the trash"
	Deleted    = "deleted"
)

// Foretelling is one job under way in a scene.
type Foretelling struct {
	Scene  *scene.Scene
	State  string // the state folder
	Now    time.Time
	Ours   func(path string, t scene.Thing) bool // whether the rule placed what has a name
	From   func(path string) string              // the file from which the rule made what has a name, "" for none
	Job    plan.Job
	At     string // where the job's file is, "" if nowhere
	Self   scene.Thing
	Steps  []string
	Placed []string // what the steps would place, by path
	Notes  []string // clashes
	Wrong  string   // why it would fail
	Ran    bool     // a command may have made something
	Doubt  bool     // it is assumed that a command made what a later step uses
	Open   bool     // from here on only a run can tell where the file is
	Thrown string   // "to the trash" or "deleted", if a step discards the file
	Stays  bool     // its place has that name already (same_name: skip)
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
	w.Stays = w.Move(spot, same).Skipped
}

// Move moves the job's file in the scene, and follows it.
func (w *Foretelling) Move(to plan.Spot, same rule.SameName) scene.Landing {
	l := w.Scene.Land(w.At, w.Self, to, same, nil)
	w.Clash(l, to.Name)
	switch {
	case l.Wrong != "":
		w.Wrong = l.Wrong
	case l.Here || l.Skipped:
	default:
		w.Scene.Remove(w.At)
		w.Scene.Put(l, w.Self, w.Job.Rule.Name.S)
		w.At, w.Job.At, w.Job.Placed = l.Path, l.Path, l.Path
		w.Arrives(l)
	}
	return l
}

// Arrives notes a file that rules may take when the job is over.
func (w *Foretelling) Arrives(l scene.Landing) {
	if !l.Here && !l.Same && !l.Skipped && l.Wrong == "" {
		w.Placed = append(w.Placed, l.Path)
	}
}

// Clash says what is at a place already, for something that is to have a name there.
func (w *Foretelling) Clash(l scene.Landing, name string) {
	switch {
	case l.Wrong != "":
	case l.Maybe:
		w.note("%s is there already; only a run can tell whether with the same content",
			plan.Display(filepath.Join(filepath.Dir(l.Path), name)))
	case l.Same:
		w.note("its content is in %s already", plan.Display(l.Path))
	case l.Over:
		w.note("%s would be replaced", plan.Display(l.Path))
	case l.Skipped:
		w.note("%s is there already, so it is left out (same_name: skip)", plan.Display(l.Path))
	case l.Number > 1 && !l.Here:
		w.note("that name is taken, so it becomes %s", plan.Display(filepath.Base(l.Path)))
	}
}

// Aside foretells that what has a name is kept beside it, under a number.
func (w *Foretelling) Aside(at plan.Spot, why string) {
	there, is := w.Scene.Look(at.Path())
	aside := at
	for n := 2; is; n++ {
		aside.Name = naming.Numbered(at.Name, n)
		_, is = w.Scene.Look(aside.Path())
	}
	w.note("%s %s, and would be kept as %s", plan.Display(at.Path()), why, plan.Display(aside.Name))
	w.Scene.Remove(at.Path())
	w.Scene.Put(scene.Landing{Path: aside.Path()}, there, "")
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

// Scratch reports whether a path lies in the attempt's own folder: only a run fills that.
func (w *Foretelling) Scratch(path string) bool {
	return strings.HasPrefix(path, w.Job.Scratch+string(filepath.Separator))
}

// Make foretells a new file.
func (w *Foretelling) Make(s *rule.Step, t scene.Thing) {
	spot, err := w.Job.Spot(s, w.Job.Path())
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	w.Land("", t, spot, s.SameName, nil)
}

// Land foretells that a thing gets a place. ours tells whether what is there may be replaced in any
// case; nil for never.
func (w *Foretelling) Land(source string, t scene.Thing, to plan.Spot, same rule.SameName,
	ours func(string, scene.Thing) bool) {
	if w.Scratch(to.Path()) {
		w.Job.Placed = to.Path()
		return
	}
	l := w.Scene.Land(source, t, to, same, ours)
	w.Clash(l, to.Name)
	if w.Wrong = l.Wrong; l.Wrong == "" && !l.Skipped {
		w.Scene.Put(l, t, w.Job.Rule.Name.S)
		w.Job.Placed = l.Path
		w.Arrives(l)
	}
}
