package verbs

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"

	"stilltide/internal/archive"
	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/scene"
	"stilltide/internal/work"
)

var unpackVerb = verb(rule.Verb{Name: "unpack", Options: []string{"same_name"}, Puts: rule.PutsMany,
	Files: rule.SuitsFiles},
	func() work.Act { return &unpack{} })

type unpack struct {
	Folder   rule.Path   `key:"unpack" doc:"the folder into which a zip, tar, tar.gz or gz is unpacked, all or nothing"`
	MaxFiles int         `key:"max_files" default:"100000" doc:"an archive with more entries is refused; 100000 if left out"`
	MaxSize  rule.Size   `key:"max_size" default:"10GiB" doc:"one that unpacks to more bytes is refused; 10GiB if left out"`
	MaxRatio rule.Number `key:"max_ratio" default:"300" doc:"one that unpacks to more times its packed size, beyond the first 10 MiB, is refused; 300 if left out"`
}

// Check is part of rule.Act.
func (a *unpack) Check(c *notation.Checker) { c.Into(a.Folder) }

// Says is part of plan.Act.
func (a *unpack) Says(j *plan.Job, s *rule.Step, _ string) (string, error) {
	to, _, err := j.Lands(s)
	return "unpack to " + plan.Display(to.Folder()), err
}

// limits are the bounds of the step, with the defaults for what it does not say.
func (a *unpack) limits() archive.Limits {
	return archive.Limits{
		Files: cmp.Or(a.MaxFiles, 100_000),
		Size:  int64(cmp.Or(a.MaxSize, 10<<30)),
		Ratio: float64(cmp.Or(a.MaxRatio, 300)),
	}
}

// Do is part of work.Act.
func (a *unpack) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	return w.Each(s, func(u *job.Unit, j plan.Job) error {
		to, err := w.Spot(s, j, u.At)
		if err != nil {
			return err
		}
		req := place.Request{To: to}
		list := w.Placing(job.Put, u.At, u.Facts, &req, s.SameName)
		results, err := w.Placer.Unpack(req, a.limits())
		if err != nil {
			return err
		}
		unpacked(w, *list, results)
		return nil
	})
}

// unpacked reports what an archive held: what was made, and what was there already.
func unpacked(w *work.Work, list []*job.Placement, results []place.Result) {
	var made []place.Result
	for _, r := range results {
		if r.Same {
			w.Tell("%s has that content already", r.Target)
			continue
		}
		made = append(made, r)
		w.Tell("would be unpacked: %s", r.Target)
	}
	if len(made) == 0 {
		for _, p := range list {
			w.Drop(p)
		}
	} else {
		w.Done(list, made...)
	}
	note := fmt.Sprintf("%d unpacked", len(made))
	if there := len(results) - len(made); there > 0 {
		note += fmt.Sprintf(", %d there already", there)
	}
	w.Note(note)
	if len(results) > 0 {
		w.Job.Placed = results[0].Target
	}
}

// Foretell looks at what the archive holds.
func (a *unpack) Foretell(w *work.Foretelling, s *rule.Step) {
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
	err = archive.Entries(w.Self.Source, a.limits(), func(name string, content []byte, whole bool) {
		if w.Wrong != "" {
			return
		}
		spot := plan.Spot{Root: to.Root, Rel: filepath.Join(to.Rel, filepath.Dir(name)), Name: filepath.Base(name)}
		if spot.Rel == "." {
			spot.Rel = ""
		}
		t := scene.Thing{Facts: file.Facts{Exists: true, Regular: true, Size: int64(len(content)), Mod: file.At(w.Now)},
			Text: content, Open: !whole}
		first = cmp.Or(first, foretellEntry(w, t, spot, s.SameName))
	})
	if err != nil && w.Wrong == "" {
		w.Wrong = plan.Display(w.At) + " cannot be unpacked: " + err.Error()
	}
	w.Job.Placed = first
}

// foretellEntry foretells one entry of an archive, and returns where it would be.
func foretellEntry(w *work.Foretelling, t scene.Thing, to plan.Spot, same rule.SameName) string {
	l := w.Scene.Land("", t, to, same, nil)
	if w.Clash(l, to.Name); l.Skipped {
		l.Wrong = l.Path + " is there already with other content"
	}
	if w.Wrong = l.Wrong; w.Wrong != "" {
		return ""
	}
	w.Scene.Put(l, t, w.Job.Rule.Name.S)
	w.Arrives(l)
	return l.Path
}
