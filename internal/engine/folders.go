package engine

import (
	"errors"
	"os"
	"time"

	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/sift"
	"stilltide/internal/watchfs"
)

// folderState is what is known of a watched folder.
type folderState struct {
	swept, absent bool
	polled        string // why it is polled, "" if it is not
	trouble       string
	unread        string // why the last sweep has not seen all of it, "" if it has
}

func (e *Engine) wanted() map[string]int {
	folders := e.flow.Rules().Folders()
	for path := range folders {
		if e.folders[path] == nil {
			e.folders[path] = &folderState{}
			e.flow.LookThrough(path)
		}
	}
	e.flow.ApplyRules()
	e.siftBy()
	return folders
}

// sweep has all watched folders looked through.
func (e *Engine) sweep() {
	e.siftBy()
	e.events.Sweep()
}

// siftBy has the sweeps from now on tell only of files on which there is something to decide.
func (e *Engine) siftBy() {
	if e.flow.WantsAll() {
		e.sift.Use(nil)
		return
	}
	e.sift.Use(e.flow.Rules())
}

func (e *Engine) folderEvent(ev watchfs.Event) {
	f := e.folders[ev.Path]
	if f == nil {
		f = &folderState{swept: true} // one below a watched folder: it is looked through with that
		e.folders[ev.Path] = f
	}
	if ev.Kind != watchfs.Trouble {
		e.answers.Refresh(time.Second) // a file system may have come or gone with it
		if e.startsApart(ev.Path) {
			e.work.Go(e.runner.Apart)
		}
	}
	switch ev.Kind {
	case watchfs.Swept:
		f.swept = true
		e.flow.LookedThrough(ev.Path)
		if ev.Err != nil {
			f.unread = ev.Err.Error()
			break // what was not seen may still be there
		}
		f.unread = ""
		if !f.absent {
			e.leftAll(ev.Path)
		}
		e.findMissing(ev.Path)
		e.findLost(ev.Path)
		if e.sweptAll() {
			e.flow.FoundAll()
		}
	case watchfs.Absent:
		f.absent = true
		if errors.Is(ev.Err, watchfs.ErrSilent) {
			e.answers.Later(ev.Path, func(func()) { _, _ = os.Lstat(ev.Path) }) // so that it is known how long
		}
		if ev.Err != nil {
			f.trouble = ev.Err.Error()
		}
	case watchfs.Present:
		f.absent, f.trouble = false, ""
		e.goOn(e.beside)
		e.desk.Mounts.Note(e.ledger, ev.Path)
	case watchfs.Polled:
		f.polled = ev.Err.Error()
	case watchfs.Recovered:
		f.polled, f.trouble = "", ""
	case watchfs.Trouble:
		f.trouble = ev.Err.Error()
		e.flow.LookedThrough(ev.Path)
	}
	if _, unsure := e.answers.Unsure(ev.Path); unsure && errors.Is(ev.Err, watchfs.ErrSilent) {
		return // that is said of the whole file system
	}
	e.tell.Folder(ev, time.Now())
	if e.o.Folders != nil && ev.Kind != watchfs.Swept {
		e.o.Folders(ev)
	}
}

// findLeaving finds the rules that leave what is in their folders, where they
// have not watched before.
func (e *Engine) findLeaving() error {
	seen, err := e.ledger.Watched()
	if err != nil {
		return err
	}
	if e.o.Once {
		return nil // a sweep by hand takes what is there, and is no watching
	}
	for _, r := range e.flow.Rules().Rules() {
		for _, folder := range r.Folders {
			if r.Existing != rule.ExistingLeave || seen[[2]string{r.Name.S, folder}] {
				continue
			}
			e.flow.LeaveAlone(folder, r.Name.S)
		}
	}
	return nil
}

// leftAll ends the leaving of a folder when it has been looked through.
func (e *Engine) leftAll(folder string) {
	for _, name := range e.flow.Left(folder) {
		e.ledger.RecordWatched(name, folder)
	}
}

// findMissing tells the flow of the known files below a swept folder that are no longer there, unless the sweep has
// seen them all, and of the files of again_on in it. There may be many, so it looks beside the flow.
func (e *Engine) findMissing(folder string) {
	if e.folders[folder].absent {
		return
	}
	set := e.flow.Rules()
	e.beside(func() func() {
		var names, settings []string
		for _, r := range set.Watching(folder) {
			if !e.sift.SawAll(folder, r.Name.S) {
				names = append(names, r.Name.S)
			}
		}
		for _, r := range set.SettingsIn(folder) {
			settings = append(settings, job.SettingsOf(r.Name.S))
		}
		bring, gone := e.tellMissing(names, []string{folder}), sift.MissingBelow(e.ledger, settings, []string{folder})
		return func() {
			bring()
			for _, paths := range gone {
				e.flow.MissingSettings(paths, time.Now())
			}
		}
	})
}

// tellMissing looks for what rules remember below folders, and tells the flow of what is not there.
func (e *Engine) tellMissing(rules, folders []string) (bring func()) {
	missing := sift.MissingBelow(e.ledger, rules, folders)
	return func() {
		for rule, paths := range missing {
			e.flow.Missing(rule, paths, time.Now())
		}
	}
}

// folderWent has known files below folders that went looked for: where a folder is moved away, the
// system says nothing of what lies in it. Those that go meanwhile are looked at together.
func (e *Engine) folderWent(paths ...string) {
	if e.went = append(e.went, paths...); e.seeking || len(e.went) == 0 {
		return
	}
	went, names := e.went, e.flow.Rules().Names()
	e.went, e.seeking = nil, true
	e.beside(func() func() {
		bring := e.tellMissing(names, went)
		return func() { e.seeking = false; bring(); e.folderWent() }
	})
}

// sweptAll reports whether all wanted folders were looked through, or are not there.
func (e *Engine) sweptAll() bool {
	for _, f := range e.folders {
		if !f.swept {
			return false
		}
	}
	return true
}
