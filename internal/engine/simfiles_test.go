//go:build linux

package engine

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
)

// What users of the simulated world do with files and folders.

// inner is the file in which somebody writes: of a whole folder one that lies in it.
func inner(path string) string {
	if filepath.Ext(path) == ".whole" {
		return filepath.Join(path, "one")
	}
	return path
}

// unit is what the rules take: the folder of a file that lies in one.
func unit(path string) string {
	if folder := filepath.Dir(path); filepath.Ext(folder) == ".whole" {
		return folder
	}
	return path
}

// takeAway has the watched folder go, as a disk does, or come back, whatever is under way in there.
func (w *world) takeAway() {
	in, away := filepath.Join(w.dir, "in"), filepath.Join(w.dir, "away")
	switch {
	case w.absent:
		w.say("the folder is there again")
		made, _ := os.ReadDir(in) // where a file was put back meanwhile
		for _, e := range made {
			if err := os.Rename(filepath.Join(in, e.Name()), filepath.Join(away, e.Name())); err != nil {
				w.t.Fatal(err)
			}
		}
		_ = os.Remove(in)
		if err := os.Rename(away, in); err != nil {
			w.t.Fatal(err)
		}
		w.absent = false
		w.e.flow.IsThere(in)
		w.e.goOn(w.beside)
		w.sweep()
	default:
		w.say("the folder goes")
		if err := os.Rename(in, away); err != nil {
			w.t.Fatal(err)
		}
		w.absent, w.dirty, w.late = true, nil, nil
		w.e.flow.WentAbsent(in, false)
	}
}

// inputsOf lists the inputs of a job that lie where it took or left them.
func (w *world) inputsOf(j job.Job) (list []string) {
	paths := append(j.Files(), j.FileNow)
	for _, m := range j.Extra {
		paths = append(paths, m.FileNow)
	}
	for _, path := range paths {
		if w.absent && filepath.Dir(path) == filepath.Join(w.dir, "in") {
			path = filepath.Join(w.dir, "away", filepath.Base(path))
		}
		if content, err := os.ReadFile(inner(path)); err == nil {
			list = append(list, token(string(content)))
		}
	}
	return list
}

// kinds are the endings of the files that come, and endings how often each does in a world of all.
var (
	kinds = [][]string{{"a", "b"}, {"a", "b"}, {"work"}, {"move"}, {"stay"}, {"steps"}, {"hold"}, {"here"}, {"heap"},
		{"key"}, {"whole"}, {"told"}, {"once"}, {"named"}, {"both"}, {"sized"}}
	endings = []string{"work", "work", "move", "stay", "a", "b", "a", "b", "a", "b", "steps", "steps", "hold", "here",
		"heap", "heap", "key", "whole", "whole", "told", "told", "once", "named", "both", "both",
		"sized"}
)

func (w *world) arrive() {
	if w.absent {
		return
	}
	w.serial++
	name := fmt.Sprintf("f%d.%s", w.serial, w.kinds[w.r.IntN(len(w.kinds))])
	if ext := filepath.Ext(name); ext == ".a" || ext == ".b" {
		name = fmt.Sprintf("s%d%s", w.serial/4, ext)
	}
	path := filepath.Join(w.dir, "in", name)
	if _, err := os.Lstat(path); err == nil {
		return
	}
	if path = inner(path); path != unit(path) {
		w.makeWhole(unit(path))
	}
	w.writing[path] = w.r.IntN(3) == 0
	content := fmt.Sprintf("token-%d ", w.serial)
	if filepath.Ext(name) == ".work" && w.r.IntN(4) == 0 {
		content += poison
	}
	if w.writing[path] {
		content += "half"
	}
	if ext := filepath.Ext(name); ext == ".a" || ext == ".b" && w.r.IntN(2) == 0 {
		other := strings.TrimSuffix(path, ext) + map[string]string{".a": ".b", ".b": ".a"}[ext]
		w.reopen(other) // just before its group is complete, which is told first
		w.late, w.dirty = append(w.late, w.dirty...), nil
	}
	w.write(path, content)
	w.say("arrives: %s (being written: %v)", name, w.writing[path])
}

// makeWhole makes a folder with something in it.
func (w *world) makeWhole(folder string) {
	if err := os.MkdirAll(filepath.Join(folder, "deep"), 0o777); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "deep", "two"), []byte("goes along"), 0o666); err != nil {
		w.t.Fatal(err)
	}
}

// poison is in a file on which each attempt ends the watcher by force.
const poison = "poison "

func (w *world) write(path, content string) {
	if err := os.WriteFile(path, []byte(content), 0o666); err != nil {
		w.t.Fatal(err)
	}
	w.changed[path] = w.now
	delete(w.handled, unit(path))
	w.tellOf(path)
}

// tellOf has the system tell of a file, at once or in a moment.
func (w *world) tellOf(path string) {
	if w.r.IntN(3) == 0 {
		w.late = append(w.late, path)
		return
	}
	w.dirty = append(w.dirty, path)
}

// touchOne does something to a file that is still in the inbox, often to one that a job has.
func (w *world) touchOne(do func(path string)) {
	if path := w.heldByAJob(); path != "" && w.r.IntN(2) == 0 {
		do(inner(path))
		return
	}
	entries, _ := os.ReadDir(filepath.Join(w.dir, "in"))
	if len(entries) == 0 {
		return
	}
	name := entries[w.r.IntN(len(entries))].Name()
	if !strings.HasPrefix(name, plan.HiddenPrefix) {
		do(inner(filepath.Join(w.dir, "in", name)))
	}
}

// heldByAJob picks the file of a job that is not over, "" if there is none.
func (w *world) heldByAJob() string {
	jobs, _ := w.store.Jobs(job.Filter{}) // none while the disk is full
	jobs = slices.DeleteFunc(jobs, func(j job.Job) bool { return j.State.Final() })
	if len(jobs) == 0 {
		return ""
	}
	return jobs[w.r.IntN(len(jobs))].File
}

// grow ends a slow writer's work, or appends to a complete file.
func (w *world) grow(path string) {
	content, err := os.ReadFile(path)
	if err != nil {
		return
	}
	input := token(string(content))
	w.grown[input] = w.grown[input] || !w.writing[path]
	w.writing[path] = false
	w.say("complete: %s", filepath.Base(path))
	w.write(path, strings.TrimSuffix(string(content), "half")+"x")
}

// reopen has somebody begin to write to a complete file again.
func (w *world) reopen(path string) {
	content, err := os.ReadFile(path)
	if err != nil || w.writing[path] {
		return
	}
	w.grown[token(string(content))] = true
	w.writing[path] = true
	w.say("is written again: %s", filepath.Base(path))
	w.write(path, string(content)+"half")
}

// rename has somebody give a file another name of its kind.
func (w *world) rename(path string) {
	content, err := os.ReadFile(path)
	if err != nil {
		return
	}
	w.serial++
	old := unit(path)
	as := filepath.Join(w.dir, "in", fmt.Sprintf("%s%d%s", renamedPrefix, w.serial, filepath.Ext(old)))
	w.say("gets another name: %s, now %s", filepath.Base(old), filepath.Base(as))
	if err := os.Rename(old, as); err != nil {
		w.t.Fatal(err)
	}
	w.grown[token(string(content))] = true // a job may have placed it under its old name
	w.writing[inner(as)], w.changed[inner(as)] = w.writing[path], w.now
	delete(w.writing, path)
	delete(w.handled, old)
	w.gone[old] = true
	w.dirty = append(w.dirty, old)
	w.tellOf(as)
}

// renamedPrefix begins the names that files got later.
const renamedPrefix = "r"

// replace has an editor save a complete file: a new one takes its name.
func (w *world) replace(path string) {
	content, err := os.ReadFile(path)
	if err != nil || w.writing[path] {
		return
	}
	w.grown[token(string(content))] = true
	w.say("is saved anew: %s", filepath.Base(path))
	draft := filepath.Join(w.dir, "draft")
	w.write(draft, string(content)+"y")
	if err := os.Rename(draft, path); err != nil {
		w.t.Fatal(err)
	}
	w.dirty, w.late = slices.DeleteFunc(w.dirty, isDraft), slices.DeleteFunc(w.late, isDraft)
	w.changed[path] = w.now
	delete(w.handled, unit(path))
	w.tellOf(path)
}

// duplicate has somebody copy a complete file.
func (w *world) duplicate(path string) {
	content, err := os.ReadFile(path)
	if err != nil || w.writing[path] || path != unit(path) {
		return
	}
	w.serial++
	w.grown[token(string(content))] = true // it is in two places now
	as := filepath.Join(w.dir, "in", fmt.Sprintf("c%d%s", w.serial, filepath.Ext(path)))
	w.say("is copied: %s, to %s", filepath.Base(path), filepath.Base(as))
	w.write(as, string(content))
}

func isDraft(path string) bool { return filepath.Base(path) == "draft" }

func (w *world) vanish(path string) {
	content, err := os.ReadFile(path)
	if err != nil {
		return
	}
	w.removed[token(string(content))] = true
	delete(w.writing, path)
	path = unit(path)
	delete(w.handled, unit(path))
	w.gone[path] = true
	w.say("vanishes: %s", filepath.Base(path))
	if err := os.RemoveAll(path); err != nil {
		w.t.Fatal(err)
	}
	w.dirty = append(w.dirty, path)
}

func token(content string) string {
	t, _, _ := strings.Cut(content, " ")
	return t
}
