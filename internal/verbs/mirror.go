package verbs

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/naming"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

var mirrorVerb = verb(rule.Verb{Name: "mirror", Options: []string{"same_name", "from", "as"}, Puts: rule.PutsFile,
	SameRel: true,
	Removal: true, Apart: true, Files: rule.SuitsSingle},
	func() work.Act { return &mirror{} })

type mirror struct {
	Repair bool      `key:"repair" doc:"true: what is lost or changed by hand is made again at the next sweep"`
	Folder rule.Path `key:"mirror" doc:"the folder that is kept in step: the same path below it as below watch; a removed file's copy goes to the trash. With from: what an earlier step made of the file stands there, under the file's name or the one of as:"`
}

// Repairs is part of what the rule asks: see rule.Repairs.
func (m *mirror) Repairs() bool { return m.Repair }

// Check is part of rule.Act.
func (m *mirror) Check(c *notation.Checker) {
	c.Into(m.Folder)
	s := c.Step
	if len(s.From) > 1 || len(s.From) == 1 && strings.ContainsAny(s.From[0].S, "*?[") {
		c.ErrorAt("from", "from", "a mirror has one result for each file, so from: names one path",
			"make one file of them, or use a second mirror")
	}
	if len(s.From) == 0 {
		c.ErrorAt("as", "option", "a mirror without from: keeps the files' own names", "remove as:")
		return
	}
	if s.Name == nil {
		return
	}
	for _, ref := range s.Name.Refs() {
		if !slices.Contains(nameWords, ref.Word) && !slices.Contains(c.Rule.Captures(), ref.Word) {
			c.Error(s.As.Pos, "as", ref.Raw+" may be another thing when the file is gone, and its result is found by "+
				"this name", "use what its name says: {name}, {stem}, {ext}, or what match: captured")
		}
	}
}

// nameWords are the placeholders that a file's name alone decides.
var nameWords = []string{"name", "stem", "ext", "rel", "rel_folder", "rule"}

// Says is part of plan.Act.
func (m *mirror) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, err := j.Spot(s, j.File)
	if j.Event == file.Removed {
		return "to the trash: " + plan.Display(to.Path()), err
	}
	j.Placed = to.Path()
	return "mirror to " + plan.Display(to.Path()), err
}

// Do keeps the same path below another folder in step.
func (m *mirror) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	return w.Each(s, func(u *job.Unit, j plan.Job) error {
		to, err := w.Spot(s, j, u.Taken)
		if err != nil {
			return err
		}
		ours := func(target string, f file.Facts) bool { return w.Book.Ours(j.Rule.Name.S, target, f) }
		switch {
		case u.At == "":
			return unmirror(w, s, to, ours)
		case len(s.From) > 0 || m.Repair:
			if err := makeWay(w, to, u.Taken, ours); err != nil {
				return err
			}
		}
		if len(s.From) > 0 {
			return w.Others(s, func(path string, facts file.Facts) error {
				return copyTo(w, to, path, facts, s.SameName, ours)
			})
		}
		return copyTo(w, to, u.At, u.Facts, s.SameName, ours)
	})
}

// makeWay sees that what is made of a file can have its place: a result that was changed by
// hand is set aside, and one of another file that is still there is an error.
func makeWay(w *work.Work, to plan.Spot, input string, ours func(string, file.Facts) bool) error {
	name := w.Job.Rule.Name.S
	if other := w.Book.MadeFrom(name, to.Path()); other != "" && other != input && work.LookAt(other, false).Exists {
		return work.Hopeless{Text: oneResult(to, other)}
	} else if other == "" {
		return nil
	}
	there, err := watchfs.Stat(to.Path())
	if err != nil || !there.Exists || ours(to.Path(), there) {
		return err
	}
	return setAside(w, to, there)
}

func oneResult(to plan.Spot, other string) string {
	return fmt.Sprintf("%s is what was made of %s; two files cannot have one result", plan.Display(to.Path()),
		plan.Display(other))
}

// foretellWay foretells what makeWay does. It is false if that would fail.
func foretellWay(w *work.Foretelling, to plan.Spot) bool {
	other := w.From(to.Path())
	if other == "" {
		return true
	}
	if _, is := w.Scene.Look(other); is && other != w.Job.File {
		w.Wrong = oneResult(to, other)
		return false
	}
	if there, is := w.Scene.Look(to.Path()); is && !w.Ours(to.Path(), there) {
		w.Aside(to, "was changed by hand")
	}
	return true
}

// setAside moves what lies at a place beside it, under a number.
func setAside(w *work.Work, at plan.Spot, there file.Facts) error {
	if w.Trying() {
		return nil
	}
	aside := at
	for n := 2; work.LookAt(aside.Path(), false).Exists; n++ {
		aside.Name = naming.Numbered(at.Name, n)
	}
	req := place.Request{To: aside}
	list := w.Placing(job.Moved, at.Path(), there, &req, rule.SameNumber)
	res, err := w.Placer.Move(req)
	if err != nil {
		return err
	}
	w.Done(*list, res)
	w.Note("what somebody changed by hand is kept in " + res.Target)
	return nil
}

// unmirror discards the copy of a file that was removed, and the folders that this empties.
func unmirror(w *work.Work, s *rule.Step, to plan.Spot, ours func(string, file.Facts) bool) error {
	there, err := watchfs.Stat(to.Path())
	switch {
	case err != nil:
		return err
	case !there.Exists:
		w.Note("its copy was gone already")
		return nil
	case !ours(to.Path(), there):
		w.Note("its copy has been changed, so it stays in " + to.Path())
		return nil
	}
	var req place.Request
	list := w.Placing(job.Trashed, to.Path(), there, &req, "")
	if w.Trying() {
		w.Tell("would go to the trash: %s", to.Path())
		return nil
	}
	res, err := w.Placer.Trash(req)
	if err != nil {
		return err
	}
	w.Done(*list, res)
	w.Note("its copy is in the trash")
	if len(s.From) > 0 {
		w.Placer.RemoveEmpty(to)
	}
	return nil
}

// Foretell is part of work.Act.
func (m *mirror) Foretell(w *work.Foretelling, s *rule.Step) {
	if w.At == "" {
		return
	}
	to, err := w.Job.Spot(s, w.Job.File)
	if err != nil {
		w.Wrong = err.Error()
		return
	}
	if (len(s.From) > 0 || m.Repair) && !foretellWay(w, to) {
		return
	}
	if len(s.From) > 0 {
		landed := func(path string, t scene.Thing) { w.Land(path, t, to, s.SameName, w.Ours) }
		w.Others(s, landed, func(path string) {
			w.Land(path, scene.Thing{Facts: file.Facts{Exists: true, Regular: true}, Open: true}, to, s.SameName,
				w.Ours)
		})
		return
	}
	w.Land(w.At, w.Self, to, s.SameName, w.Ours)
}
