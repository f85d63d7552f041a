package verbs

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"

	"github.com/dustin/go-humanize"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/place"
	"stilltide/internal/watchfs"
	"stilltide/internal/work"
)

var replaceVerb = verb(rule.Verb{Name: "replace_with", InPlace: true, Files: rule.SuitsSingle},
	func() work.Act { return &replace{} })

type replace struct {
	With    rule.Path    `key:"replace_with" doc:"the path whose content takes the place of the file's, atomically"`
	Keep    keep         `key:"keep" default:"new" doc:"new, or smaller: whichever of the two is smaller; new if left out"`
	MinGain rule.Percent `key:"min_gain" default:"1%" doc:"by how much it must be smaller; 1% if left out"`

	source *fill.Template
	gain   float64 // percent
}

// keep says which content stays.
type keep string

const (
	keepNew     keep = "new"
	keepSmaller keep = "smaller"
)

// Words is part of rule.OneOf.
func (keep) Words() []string { return []string{string(keepNew), string(keepSmaller)} }

// defaultGain is by how much new content must be smaller (keep: smaller), in percent.
const defaultGain = 1

// Check is part of rule.Act.
func (r *replace) Check(c *notation.Checker) {
	r.source = c.Fill(r.With.Text, c.Each)
	if r.gain = defaultGain; c.Step.Written("min_gain") {
		r.gain = float64(r.MinGain)
	}
	if r.Keep != keepSmaller {
		c.ErrorAt("min_gain", "option", "min_gain goes with keep: smaller", "add keep: smaller, or remove it")
	}
}

// Says is part of plan.Act.
func (r *replace) Says(j *plan.Job, _ *rule.Step, _ string) (string, error) {
	path, err := r.path(j)
	text := "replace its content with " + plan.Display(path)
	if r.Keep == keepSmaller {
		text += ", if that is " + r.gainText() + "smaller"
	}
	return text, err
}

// path returns the path whose content replaces the file's.
func (r *replace) path(j *plan.Job) (string, error) {
	path, err := r.source.Fill(j.Lookup)
	if err == nil && !filepath.IsAbs(path) {
		path = filepath.Join(r.With.Base, path)
	}
	return path, err
}

// gains reports whether new content takes the place of the old, by their sizes in bytes.
func (r *replace) gains(old, next int64) bool {
	if r.Keep != keepSmaller {
		return true
	}
	return next < old && float64(old-next)*100 >= r.gain*float64(old)
}

// gainText says by how much it must be smaller, "" if any will do.
func (r *replace) gainText() string {
	if r.gain == 0 {
		return ""
	}
	return strconv.FormatFloat(r.gain, 'f', -1, 64) + "% "
}

// Do is part of work.Act.
func (r *replace) Do(_ context.Context, w *work.Work, s *rule.Step) error {
	return w.Each(s, func(u *job.Unit, j plan.Job) error { return replaceOne(w, r, u, j) })
}

// replaceOne puts new content in place of the file's.
func replaceOne(w *work.Work, r *replace, u *job.Unit, j plan.Job) error {
	source, err := r.path(&j)
	if err != nil {
		return err
	}
	next, err := watchfs.Stat(source)
	switch {
	case err != nil:
		return err
	case !next.Exists:
		return fmt.Errorf("replace_with: there is no %s", plan.Display(source))
	case !next.Regular:
		return fmt.Errorf("replace_with: %s is not a regular file", plan.Display(source))
	case !r.gains(u.Facts.Size, next.Size):
		w.Note(fmt.Sprintf("kept as it is: the new content is not %ssmaller (%s, %s)", r.gainText(),
			humanize.IBytes(uint64(next.Size)), humanize.IBytes(uint64(u.Facts.Size))))
		w.Tell("kept as it is: the new content is not %ssmaller", r.gainText())
		return nil
	}
	req := place.Request{To: plan.SpotWithin(j.Watch, u.At)}
	list := w.Placing(job.Put, source, u.Facts, &req, "")
	req.Source, req.Expect = source, u.Facts
	res, err := w.Placer.Replace(req)
	if err != nil {
		return err
	}
	w.Done(*list, res)
	was := u.Facts.Size
	w.Tell("its content would be replaced: %d bytes, then %d", was, res.Facts.Size)
	w.Note(fmt.Sprintf("%s → %s (%s)", humanize.IBytes(uint64(was)), humanize.IBytes(uint64(res.Facts.Size)),
		percent(was, res.Facts.Size)))
	u.Facts = res.Facts
	return nil
}

// percent says by how much a size has changed; less than one percent with a decimal.
func percent(was, is int64) string {
	by := float64(is-was) * 100 / float64(max(was, 1))
	if -1 < by && by < 1 && is != was {
		return fmt.Sprintf("%+.1f %%", by)
	}
	return fmt.Sprintf("%+d %%", (is-was)*100/max(was, 1))
}

// Foretell is part of work.Act.
func (r *replace) Foretell(w *work.Foretelling, _ *rule.Step) {
	path, err := r.path(&w.Job)
	there, ok := w.Scene.Look(path)
	switch inScratch := w.Scratch(path); {
	case err != nil:
		w.Wrong = err.Error()
		return
	case inScratch && w.Ran:
		w.Doubt, w.Self.Open, w.Self.Source = true, true, ""
	case !ok || inScratch:
		w.Wrong = "replace_with: there is no " + plan.Display(path)
		return
	case !there.Facts.Regular:
		w.Wrong = "replace_with: " + plan.Display(path) + " is not a regular file"
		return
	case !r.gains(w.Self.Facts.Size, there.Facts.Size):
		return
	default:
		w.Self.Source, w.Self.Text, w.Self.Open, w.Self.Facts.Size = there.Source, there.Text, there.Open,
			there.Facts.Size
	}
	w.Scene.Now[w.At] = w.Self
}
