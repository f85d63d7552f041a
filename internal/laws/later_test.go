//go:build linux

package laws

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stilltide/internal/byhand"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/ledger"
	"stilltide/internal/look"
)

// change is what somebody does with the files of a world after a sweep has gone over it: the
// laws hold for the next sweep, too, that knows what the first has done.
type change struct {
	kind string
	n    int // which file, of those that are there
	text string
}

// changes draws what happens between two sweeps, in half of the worlds.
func (d drawing) changes() (list []change) {
	if d.chance(50) {
		return nil
	}
	for range 1 + d.r.IntN(6) {
		kind := d.one("touch", "touch", "rewrite", "copy", "copy", "remove", "rename", "away and back", "undo", "undo",
			"retry", "cancel")
		list = append(list, change{kind, d.r.IntN(100), d.one(drawnTexts...)})
	}
	return list
}

// edited draws the rules as they were before somebody edited them. What fails by those waits for its next attempt when
// they change.
func (d drawing) edited(now []drawnRule) []drawnRule {
	var before []drawnRule
	for i, r := range now {
		switch d.r.IntN(5) {
		case 0: // it had another name
			if d.chance(60) {
				now[i].keys = append(slices.Clone(r.keys), "old_name: old"+r.name)
			}
			r.name = "old" + r.name
			before = append(before, r)
		case 1: // it is new
		case 2: // it was a rule of its own
			before = append(before, d.rule(i))
		default:
			before = append(before, r)
		}
	}
	w := &world{rules: now, first: before}
	if len(before) == 0 || w.isWrong() {
		return nil
	}
	return before
}

// firstText is the rules file of the first sweep.
func (w *world) firstText() string {
	if w.first == nil {
		return w.text()
	}
	return textOf(w.first, "{times: 2, delay: 1h}")
}

func (c change) String() string { return fmt.Sprintf("%s file %d, %q", c.kind, c.n, c.text) }

// firstDay sweeps the world and changes it. It is false if the sweep has left anything undone, of
// which the second would be no sweep of its own.
func (w *world) firstDay(t *testing.T) (jobs []job.Job, whole bool, err error) {
	jobs, unsettled, err := sweep(w, w.firstText())
	if err != nil || unsettled > 0 {
		return nil, false, err
	}
	if w.first == nil && slices.ContainsFunc(jobs, func(j job.Job) bool { return !j.State.Final() }) {
		return nil, false, nil
	}
	for _, c := range w.later {
		if slices.Contains(byHand, c.kind) {
			err = errors.Join(err, c.doByHand(w, jobs))
		} else {
			c.make(t, w)
		}
	}
	return jobs, true, err
}

// byHand are the kinds of changes that are asked of the program.
var byHand = []string{"undo", "retry", "cancel"}

// doByHand does something with one of the first day's jobs. What is refused changes nothing, or says what it has left.
func (c change) doByHand(w *world, jobs []job.Job) error {
	if len(jobs) == 0 {
		return nil
	}
	f, err := w.parsed(w.text())
	if err != nil {
		return err
	}
	l, err := ledger.Open(f.StateFolder(), nil)
	if err == nil {
		err = l.UseNames(f.Renamed())
	}
	if err != nil {
		return err
	}
	set, id := look.NewSet(f), jobs[c.n%len(jobs)].ID
	switch c.kind {
	case "undo":
		byhand.Undo(l, set, id)
	case "retry":
		byhand.Retry(l, set, id)
	case "cancel":
		byhand.Cancel(l, id)
	}
	return l.Close()
}

// isRetried reports whether a job of the first day may have begun anew.
func (w *world) isRetried() bool {
	return slices.ContainsFunc(w.later, func(c change) bool { return c.kind == "retry" })
}

// make changes one of the files that are there.
func (c change) make(t *testing.T, w *world) {
	var files []string
	for path, e := range snapshot(t, w.dir) {
		if e.Kind == "file" && path != rule.FileName {
			files = append(files, filepath.Join(w.dir, path))
		}
	}
	if len(files) == 0 {
		return
	}
	slices.Sort(files)
	path := files[c.n%len(files)]
	old := time.Now().Add(-time.Duration(c.n+1) * time.Minute)
	beside := filepath.Join(filepath.Dir(path), "later-"+fmt.Sprint(c.n)+filepath.Ext(path))
	var err error
	switch c.kind {
	case "touch":
		err = os.Chtimes(path, old, old)
	case "rewrite":
		if err = os.Chmod(path, 0o644); err == nil {
			err = os.WriteFile(path, []byte(c.text), 0o644)
		}
	case "copy": // the same content under another name
		var text []byte
		if text, err = os.ReadFile(path); err == nil {
			err = os.WriteFile(beside, text, 0o644)
		}
	case "remove":
		err = os.Remove(path)
	case "rename":
		err = os.Rename(path, beside)
	case "away and back": // another file with the same content and the same times
		text, _ := os.ReadFile(path)
		info, statErr := os.Stat(path)
		if err = statErr; err == nil && !strings.HasSuffix(path, ".zip") {
			err = os.Remove(path)
			if err == nil {
				err = os.WriteFile(path, text, info.Mode().Perm())
			}
			if err == nil {
				err = os.Chtimes(path, info.ModTime(), info.ModTime())
			}
		}
	}
	if err != nil && !errors.Is(err, fs.ErrPermission) { // a stick has no permissions to change
		t.Fatal(err)
	}
}

// remembers: what goes of the history is no memory of the files that are there: a sweep after it does nothing. Only
// that rules have filled a folder, file by file, is part of the history.
func remembers(t *testing.T, r *run) string {
	if !r.atRest || r.w.seed%3 > 0 {
		return ""
	}
	r.forgotten = true
	last := int64(0)
	for _, j := range r.all {
		last = j.ID
	}
	var jobs []job.Job
	for range 2 { // the first of them removes it
		var err error
		jobs, _, err = sweep(r.w, r.w.text()+"keep_history: 1ms\n")
		if err != nil {
			return err.Error()
		}
		for _, j := range jobs {
			if j.ID > last && r.haveFilled(j.File) {
				return ""
			}
			if j.ID > last {
				return fmt.Sprintf("a sweep after the history was removed had %s take %q: %s, now in %q %s", j.Rule,
					r.rel(j.File), j.State, r.rel(j.FileNow), j.Reason)
			}
		}
	}
	for _, j := range jobs {
		if j.State.Final() {
			return fmt.Sprintf("job %d is in the history still", j.ID)
		}
	}
	if diff := r.after.differences(snapshot(t, r.w.dir), true); diff != "" {
		return "a sweep after the history was removed changed something: " + diff
	}
	return ""
}

// haveFilled reports whether jobs have left files in a folder.
func (r *run) haveFilled(folder string) bool {
	return slices.ContainsFunc(r.all, func(j job.Job) bool {
		_, below := plan.Below(j.FileNow, folder)
		return below && j.FileNow != folder
	})
}
