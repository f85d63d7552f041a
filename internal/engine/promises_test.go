//go:build linux

package engine

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/ledger"
)

// promises checks what must hold when all has come to its end.
func (w *world) promises() bool {
	if w.t.Failed() {
		return false
	}
	places, copies := map[string][]string{}, map[string]int{}
	leftover, note := "", ""
	err := filepath.WalkDir(w.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if strings.HasPrefix(d.Name(), plan.HiddenPrefix) {
			leftover = path
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
	if note != "" {
		return w.fail("a failure note lies where files are watched: %s", note)
	}
	for n := 1; n <= w.serial; n++ {
		at := places[fmt.Sprintf("token-%d", n)]
		gone := w.removed[fmt.Sprintf("token-%d", n)]
		if len(at) > 1 && !w.grown[fmt.Sprintf("token-%d", n)] || len(at) == 0 && !gone && w.arrived(n) {
			return w.fail("input %d is in %d places: %v", n, len(at), at)
		}
		if len(at) == 1 && strings.HasPrefix(at[0], "in/") && !strings.HasSuffix(at[0], ".stay") &&
			// somebody changed what could not be put back
			!(strings.HasSuffix(at[0], ".renamed") && w.grown[fmt.Sprintf("token-%d", n)]) &&
			!w.cancelled[fmt.Sprintf("token-%d", n)] {
			return w.fail("input %d was forgotten: it is still in %s", n, at[0])
		}
	}
	for what, n := range copies {
		if input := what[strings.Index(what, "token"):]; n > 1 && !w.grown[input] {
			return w.fail("%s was copied %d times", what, n)
		}
	}
	return w.jobsAreRight(copies)
}

// arrived reports whether a serial number became a file.
func (w *world) arrived(n int) bool {
	mark := fmt.Sprintf("arrives: f%d.", n)
	return slices.ContainsFunc(w.trace, func(line string) bool { return strings.Contains(line, mark) })
}

func (w *world) jobsAreRight(copies map[string]int) bool {
	jobs, err := w.store.Jobs(ledger.Filter{})
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
		if j.FileNow != "" && j.Rule != "stay" && j.State != job.Cancelled {
			// the user takes files away in there
			if _, err := os.Lstat(j.FileNow); err != nil && !(filepath.Dir(j.FileNow) == filepath.Dir(j.File) &&
				len(w.removed) > 0) {
				return w.fail("job %d says its input is in %s, where it is not", j.ID, j.FileNow)
			}
		}
		var n int
		if _, err := fmt.Sscanf(filepath.Base(j.File), "f%d.", &n); err == nil && j.FileNow == "" &&
			j.Rule != "stay" && (j.State == job.Processed || j.State == job.Failed) {
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
		if got := copies[folder+input]; got != want && !w.removed[input] && !w.grown[input] && !w.notUndone(j) {
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
