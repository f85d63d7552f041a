//go:build linux

package engine

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"
)

// promises checks what must hold when all has come to its end.
func (w *world) promises() bool {
	if w.t.Failed() {
		return false
	}
	places, copies, rests := map[string][]string{}, map[string]int{}, w.rests()
	leftover, note, halves := "", "", ""
	err := filepath.WalkDir(w.dir, func(path string, d fs.DirEntry, err error) error {
		if rests[path] {
			return fs.SkipDir
		}
		if err == nil && strings.HasPrefix(d.Name(), plan.HiddenPrefix) {
			leftover = path
		}
		if err == nil && filepath.Ext(path) == ".whole" {
			if _, err := os.Lstat(filepath.Join(path, "deep", "two")); err != nil {
				halves = path
			}
		}
		if err != nil || d.IsDir() {
			return err
		}
		if strings.HasPrefix(path, filepath.Join(w.dir, "in")+"/") && strings.HasSuffix(path, plan.NoteEnding) {
			note = path
		}
		if strings.HasPrefix(path, w.e.state) {
			return nil // what is kept for an undo
		}
		content, err := os.ReadFile(path)
		if rel := strings.TrimPrefix(path, w.dir+"/"); strings.HasPrefix(rel, "copies/") {
			folder := filepath.Dir(rel)
			copies[folder+token(string(content))]++
			return nil
		}
		if err == nil && !strings.HasSuffix(path, plan.NoteEnding) {
			places[token(string(content))] = append(places[token(string(content))],
				strings.TrimPrefix(path, w.dir+"/"))
		}
		return err
	})
	if err != nil {
		return w.fail("%v", err)
	}
	if leftover != "" {
		return w.fail("left over: %s", leftover)
	}
	if halves != "" {
		return w.fail("a folder has lost what was in it: %s", halves)
	}
	if note != "" {
		return w.fail("a failure note lies where files are watched: %s", note)
	}
	for n := 1; n <= w.serial; n++ {
		at := places[fmt.Sprintf("token-%d", n)]
		gone := w.removed[fmt.Sprintf("token-%d", n)]
		if len(at) > 1 && !w.grown[fmt.Sprintf("token-%d", n)] || len(at) == 0 && !gone && w.arrived(n) {
			return w.fail("input %d is in %d places: %v", n, len(at), at)
		}
		if len(at) == 1 && strings.HasPrefix(at[0], "in/") && stayer(at[0]) == "" &&
			// somebody changed what could not be put back
			!(strings.HasSuffix(at[0], ".renamed") && w.grown[fmt.Sprintf("token-%d", n)]) &&
			!w.cancelled[fmt.Sprintf("token-%d", n)] && !w.undone[fmt.Sprintf("token-%d", n)] {
			return w.fail("input %d was forgotten: it is still in %s", n, at[0])
		}
	}
	for what, n := range copies {
		if input := what[strings.Index(what, "token"):]; n > 1 && !w.grown[input] {
			return w.fail("%s was copied %d times", what, n)
		}
	}
	return w.removalsAreRight() && w.jobsAreRight(copies) && w.whatStaysIsKnown()
}

// stayer is the rule whose files stay where they are, for one of them.
func stayer(path string) string {
	return map[string]string{".stay": "stay", ".told": "tell", ".once": "once", ".named": "names"}[filepath.Ext(path)]
}

// leaves reports whether the files of a rule stay where they are.
func leaves(rule string) bool {
	return slices.Contains([]string{"stay", "tell", "once", "names", "first"}, rule)
}

// whatStaysIsKnown checks that no change of a file that stays was missed: its rule knows it as it is.
func (w *world) whatStaysIsKnown() bool {
	for name := range w.inbox() {
		path := filepath.Join(w.dir, "in", name)
		rule := stayer(name)
		if rule == "" {
			continue
		}
		now, err := w.look(nil, path)
		if err != nil {
			return w.fail("%v", err)
		}
		known, is, err := w.store.Known(rule, path)
		if err != nil || !is || !known.Facts.Same(now) {
			return w.fail("%s is not known to %s as it is: %v, %v", name, rule, is, err)
		}
	}
	return true
}

// turnIsRight checks that a file, as it is, is for the rule that begins to work on it, and that the rule which shares
// it was done with it before.
func (w *world) turnIsRight(a *turn.Attempt) {
	if a.Number > 1 || a.Plan.Event == file.Removed || w.wanted[a.Plan.ID] {
		return
	}
	now, err := w.look(nil, a.Plan.File)
	if err != nil {
		w.t.Fatal(err)
	}
	limit := int64(11)
	if w.rules.All()[0].Debounce.Duration == 100*time.Millisecond {
		limit = 9
	}
	known, is, err := w.store.Known("first", a.Plan.File)
	switch name := a.Plan.Rule.Name.S; {
	case err != nil || !now.Exists: // it goes in this moment, or the disk is full
	case name == "second" && (!is || !known.Facts.Same(now)):
		w.fail("%s is worked on by the second rule before the first one was done with it", a.Plan.File)
	case name == "small" && now.Size >= limit, name == "large" && now.Size < 9: // a reload leaves it its files
		w.fail("%s, of %d bytes, is worked on by %s", a.Plan.File, now.Size, name)
	}
}

// handled is who was done with a content for good, and how many crashes there had been.
type handled struct {
	job     int64
	crashes int
}

// isNew checks that a rule which takes no content twice does not do so.
func (w *world) isNew(a *turn.Attempt, res turn.AttemptEnd) {
	if !a.Content.Never || res.Same || !res.OK || w.store.full {
		return
	}
	before, is := w.content[res.Hash]
	if is && before.crashes == w.hadCrash && before.job != a.Plan.ID { // else it is retried by hand
		w.fail("job %d of %s has worked on content that was handled before", a.Plan.ID, a.Plan.File)
	}
	w.content[res.Hash] = handled{a.Plan.ID, w.hadCrash}
}

// removalsAreRight checks that a rule was told once of each file that it knew and that went away,
// and of no other.
func (w *world) removalsAreRight() bool {
	jobs, err := w.store.Jobs(job.Filter{})
	if err != nil {
		return w.fail("%v", err)
	}
	told, known := map[string]int{}, map[string]bool{}
	for _, j := range jobs {
		switch {
		case j.Event == file.Removed:
			told[j.File]++
		case j.Event == file.Renamed:
			told[j.OldFile]++
			known[j.File] = j.State == job.Processed || j.State == job.Failed
		case (j.Rule == "tell" || j.Rule == "names") && (j.State == job.Processed || j.State == job.Failed):
			known[j.File] = true
		}
	}
	for path, n := range told {
		if n > 1 || !w.gone[path] {
			return w.fail("%d times it was told that %s went away (it did: %v)", n, path, w.gone[path])
		}
	}
	for path, is := range known {
		if is && w.gone[path] && told[path] == 0 {
			return w.fail("it was not told that %s went away", path)
		}
	}
	return true
}

var staysIn = regexp.MustCompile(`could not be removed and stays? in (\S+):`)

// rests lists the folders of which something could not be removed when their copy was complete, as
// was said.
func (w *world) rests() map[string]bool {
	said := slices.Clone(w.trace)
	jobs, err := w.store.Jobs(job.Filter{})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, j := range jobs {
		said = append(said, j.Result)
	}
	rests := map[string]bool{}
	for _, m := range staysIn.FindAllStringSubmatch(strings.Join(said, "\n"), -1) {
		rests[m[1]] = true
	}
	return rests
}

// arrived reports whether a serial number became a file.
func (w *world) arrived(n int) bool {
	mark := fmt.Sprintf("arrives: f%d.", n)
	return slices.ContainsFunc(w.trace, func(line string) bool { return strings.Contains(line, mark) })
}

func (w *world) jobsAreRight(copies map[string]int) bool {
	jobs, err := w.store.Jobs(job.Filter{})
	if err == nil {
		err = w.store.NowIn(jobs)
	}
	if err != nil {
		return w.fail("%v", err)
	}
	for _, j := range jobs {
		if !j.State.Final() {
			return w.fail("job %d of %s is %s for ever: %s", j.ID, filepath.Base(j.File), j.State, j.Reason)
		}
		if w.off[j.ID] && j.State != job.Cancelled && j.State != job.Reverted {
			return w.fail("job %d is %s, and a person was told that it is cancelled", j.ID, j.State)
		}
		if j.State == job.Vanished && !w.gone[j.File] && w.isInput(j) {
			return w.fail("job %d is vanished, and %s was not taken away", j.ID, j.File)
		}
		if j.FileNow != "" && !leaves(j.Rule) && j.State != job.Cancelled {
			// the user takes files away in there
			if _, err := os.Lstat(j.FileNow); err != nil && !(filepath.Dir(j.FileNow) == filepath.Dir(j.File) &&
				len(w.gone) > 0) {
				return w.fail("job %d says its input is in %s, where it is not", j.ID, j.FileNow)
			}
		}
		var n int
		if _, err := fmt.Sscanf(filepath.Base(j.File), "f%d.", &n); err == nil && j.FileNow == "" &&
			!leaves(j.Rule) && (j.State == job.Processed || j.State == job.Failed) {
			if input := fmt.Sprintf("token-%d", n); !w.removed[input] && !w.grown[input] {
				return w.fail("job %d is %s and does not know where its input is", j.ID, j.State)
			}
		}
		if j.Rule == "steps" && !w.copiesAreRight(j, copies) {
			return false
		}
		if !w.intentionsAreOver(j) {
			return false
		}
		if r := w.rules.All()[0]; j.Rule == "work" && j.State == job.Failed && j.Attempts <= r.Retry.Times &&
			w.hadCrash == 0 {
			return w.fail("job %d failed after %d attempts", j.ID, j.Attempts)
		}
	}
	return true
}

// isInput reports whether a job's file came from a user.
func (w *world) isInput(j job.Job) bool { return filepath.Dir(j.File) == filepath.Join(w.dir, "in") }

// intentionsAreOver checks that it is known of each move at a job's end what
// became of it.
func (w *world) intentionsAreOver(j job.Job) bool {
	if j.State != job.Processed && j.State != job.Failed {
		return true
	}
	placements, err := w.store.Placements(j.ID)
	if err != nil {
		return w.fail("%v", err)
	}
	for _, p := range placements {
		if p.FinalState == j.State && p.State == job.Intended {
			return w.fail("job %d is %s, and its placement %d to %s is still intended", j.ID, j.State, p.ID,
				p.Target)
		}
	}
	return true
}

// copiesAreRight checks that a job's steps placed all or nothing.
func (w *world) copiesAreRight(j job.Job, copies map[string]int) bool {
	var n int
	if _, err := fmt.Sscanf(filepath.Base(j.File), "f%d.", &n); err != nil {
		return true
	}
	input := fmt.Sprintf("token-%d", n)
	want := 0
	if j.State == job.Processed {
		want = 1
	}
	for _, folder := range []string{"copies", "copies/again"} {
		got := copies[folder+input]
		if got != want && !w.removed[input] && !w.grown[input] && !w.notUndone(j) && !w.again[j.ID] &&
			(j.State == job.Reverted || !w.begun[j.ID]) {
			return w.fail("job %d is %s, and %s holds %d copies of its input", j.ID, j.State, folder, got)
		}
	}
	return true
}

// notUndone reports whether a fault may have left something of a job: it was
// said so, or a removal was refused while a crash's traces were taken back.
func (w *world) notUndone(j job.Job) bool {
	about := fmt.Sprintf("job %d", j.ID)
	return strings.Contains(j.Reason, "not undone") || slices.ContainsFunc(w.trace, func(line string) bool {
		return strings.Contains(line, "not undone") && strings.Contains(line, about) ||
			w.hadCrash > 0 && strings.Contains(line, "refused") && strings.Contains(line, "/copies")
	})
}
