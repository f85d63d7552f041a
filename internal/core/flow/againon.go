package flow

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"stilltide/internal/core/file"
	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
	"stilltide/internal/core/take"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
)

// A rule may have all that it has handled be handled again when some file changes (again_on):
// settings, a template. What counts is the content; see take.Setting.

// setting is a file that may have changed, for one rule.
type setting struct{ rule, path string }

// anew is a file that is handled again, and for which rule.
type anew struct {
	setting
	lost *turn.Lost // its result, if it is for that
}

// again is what is to be handled again.
type again struct {
	due   map[setting]time.Time // files that may have changed: when they are looked at
	files []anew                // what is handled again
	pages []page                // what is read next of what is handled again
	pass  map[string]int        // by rule: how often it began to handle all again
	// files of jobs that had begun before: they are handled again when those end
	begun map[setting]bool
	// setting files that are being read, and whether something happened to them meanwhile
	reading map[setting]bool
	paging  bool                  // the next page is being read
	owed    map[setting]job.Known // for what all is being handled again, as it is remembered
	asked   map[string]bool       // rules that are blocked because many of their results are lost
	mass    map[string]bool       // rules of which a person says that many results may be made again
}

// page is where a rule's known files below a folder are read from; pass is for which time all is handled again.
type page struct {
	rule, folder, after string
	pass                int
}

// maxAgain bounds the files that are offered again at once.
const maxAgain = 500

// sayAgain is from how many files on it is said that they are handled again.
const sayAgain = 100

// settingChanged notes that a file may have changed on which rules handle all again.
func (f *Flow) settingChanged(path string, now time.Time) (is bool) {
	for _, r := range f.Set.AgainOn(path) {
		if f.again.due == nil {
			f.again.due = map[setting]time.Time{}
		}
		f.again.due[setting{r.Name.S, path}] = now.Add(r.Debounce.Duration)
		is = true
	}
	return is
}

// MissingSettings tells of files of again_on that are remembered, and that a look has not found.
func (f *Flow) MissingSettings(paths []string, now time.Time) {
	for _, path := range paths {
		f.settingChanged(path, now)
	}
}

// settings has the files looked at that are due, and offers what is to be handled again.
func (f *Flow) settings(now time.Time) {
	for s, due := range f.again.due {
		if due.After(now) {
			continue
		}
		delete(f.again.due, s)
		if f.Set.Rule(s.rule) != nil {
			f.readSetting(s)
		}
	}
	for f.Unsettled() < maxAgain {
		if len(f.again.files) == 0 {
			f.readPage()
			return
		}
		next := f.again.files[0]
		f.again.files = f.again.files[1:]
		if next.lost != nil && f.isHandled(next.rule, *next.lost) || next.lost == nil && f.isAtIt(next.setting) {
			continue
		}
		if f.forced == nil {
			f.forced = map[string]*turn.Chosen{}
		}
		f.forced[next.path] = &turn.Chosen{Rules: []string{next.rule}, Again: true}
		f.Offer(next.path, false, settle.Nudged, now)
	}
}

// readSetting finds out whether a setting file has another content than the rule remembers. The
// first time it is only remembered.
func (f *Flow) readSetting(s setting) {
	if _, under := f.again.reading[s]; under {
		f.again.reading[s] = true
		return
	}
	if f.again.reading == nil {
		f.again.reading = map[setting]bool{}
	}
	f.again.reading[s] = false
	_, under := f.again.owed[s]
	f.Read(s.path, func(from turn.Source) turn.Answer {
		now, handle := take.Setting(from, s.rule, s.path, under)
		return func(at time.Time) { f.settingRead(s, now, handle, at) }
	})
}

// settingRead brings what was read of a setting file; see take.Setting.
func (f *Flow) settingRead(s setting, now *job.Known, handle bool, at time.Time) {
	again, asked := f.again.reading[s]
	delete(f.again.reading, s)
	if again {
		f.settingChanged(s.path, at)
	}
	if !asked || now == nil {
		return
	}
	f.Store.Remember(*now)
	r, was := f.Set.Rule(s.rule), f.again.owed[s]
	if r != nil && (handle || was.File != "") {
		if f.again.owed == nil {
			f.again.owed = map[setting]job.Known{}
		}
		f.again.owed[s] = *now
	}
	if r != nil && handle {
		f.outdate(r, now.Facts, at)
		f.handleAll(r, s.path)
		f.settings(at)
	}
}

// settingsHandled notes that all is handled again, as far as it has jobs that the ledger knows. Until then a start
// would handle all again.
func (f *Flow) settingsHandled() {
	a := &f.again
	if len(a.owed) == 0 || len(a.files)+len(a.pages) > 0 || a.paging {
		return
	}
	for path := range f.forced {
		if f.settle.Has(path) || f.opening.files[path] != nil {
			return
		}
	}
	for _, k := range a.owed {
		f.Store.Remember(take.Finished(k))
	}
	clear(a.owed)
	clear(a.begun)
}

// outdate has the files be handled again whose jobs run, and may have begun with what has changed. In a single pass it
// changed when the file system says so, and else no later than it was noticed.
func (f *Flow) outdate(r *rule.Rule, changed file.Facts, noticed time.Time) {
	if f.Once {
		noticed = changed.Change.Time()
	}
	name := r.Name.S
	maps.DeleteFunc(f.again.begun, func(s setting, _ bool) bool { return s.rule == name })
	for _, j := range f.ByID {
		if j.Row.Rule != name || j.Row.State != job.Running || j.Row.Last == nil ||
			!j.Row.Last.Started.Before(noticed) {
			continue
		}
		j.Outdated = true
		for _, path := range j.Row.Files() {
			f.again.begun[setting{name, path}] = true
		}
	}
}

// isAtIt reports whether a job of the rule is to begin with the file, has begun since all is handled again, or has the
// file handled again when it ends.
func (f *Flow) isAtIt(s setting) bool {
	f.Window.Find(&f.Jobs, s.path)
	j := f.ByPath[s.path]
	return f.again.begun[s] || j != nil && j.Row.Rule == s.rule && j.Row.Event != file.Removed
}

// handleAll has all that a rule has handled, and that is still there, be handled again: once, also if it was at that.
func (f *Flow) handleAll(r *rule.Rule, why string) {
	a, name := &f.again, r.Name.S
	a.pass[name]++
	a.pages = slices.DeleteFunc(a.pages, func(p page) bool { return p.rule == name })
	a.files = slices.DeleteFunc(a.files, func(n anew) bool { return n.rule == name && n.lost == nil })
	for _, folder := range r.Folders {
		a.pages = append(a.pages, page{name, folder, "", a.pass[name]})
	}
	f.Read("", func(from turn.Source) turn.Answer {
		n := from.KnownCount(r.Name.S)
		return func(time.Time) {
			if n > sayAgain {
				f.Out.Said = append(f.Out.Said, fmt.Sprintf("%s handles %s again, because %s has changed",
					r.Name.S, plan.Plural(n, "file"), why))
			}
		}
	})
}

// pending reports whether something is left to be handled again.
func (a *again) pending() bool { return len(a.files)+len(a.pages)+len(a.reading) > 0 || a.paging }

// readPage has the next page of what is handled again be read.
func (f *Flow) readPage() {
	if len(f.again.pages) == 0 || f.again.paging {
		return
	}
	p := f.again.pages[0]
	f.again.pages = f.again.pages[1:]
	f.again.paging = true
	f.Read("", func(from turn.Source) turn.Answer {
		files, next, err := from.KnownFiles(p.rule, p.folder, p.after)
		if err == nil {
			files, err = take.HandledAmong(from, p.rule, files)
		}
		return func(now time.Time) {
			f.again.paging = false
			if err != nil || p.pass != f.again.pass[p.rule] {
				return // the ledger says itself what is wrong; or all of it is read once more
			}
			for _, path := range files {
				f.again.files = append(f.again.files, anew{setting: setting{p.rule, path}})
			}
			if next != "" {
				f.again.pages = append(f.again.pages, page{p.rule, p.folder, next, p.pass})
			}
			f.settings(now)
		}
	})
}

// Repair has the files handled again whose results are lost, of so many in all. When too many
// are, something happened to their folder: then a person decides. That holds until no longer so many
// are found to be lost: while they are made they are found again.
func (f *Flow) Repair(name string, inputs []turn.Lost, all int, now time.Time) {
	tooMany := take.TooMany(len(inputs), all)
	if !tooMany {
		delete(f.again.mass, name)
	}
	byHand := f.Chosen.Again && f.Chosen.HasRule(name) // all of it is made again anyway
	if len(inputs) == 0 || f.Set.Rule(name) == nil || f.InTrouble[name] != "" || byHand {
		return
	}
	if tooMany && !f.again.mass[name] && !f.isAccepted(name, now) {
		underway.Mark(&f.again.asked, name)
		f.Trouble(name, fmt.Sprintf("%s of its %s results are lost or changed, and nothing was done about it; "+
			"stilltide resume %s makes them again (without a watcher: stilltide sweep --again --rule %s)",
			plan.Number(len(inputs)), plan.Number(all), fill.QuoteWord(name), fill.QuoteWord(name)))
		return
	}
	for _, l := range inputs {
		f.again.files = append(f.again.files, anew{setting{name, l.Input}, &l})
	}
	f.settings(now)
}

// isHandled reports whether a job makes a result anew, or has done so since it was found to be lost.
func (f *Flow) isHandled(name string, l turn.Lost) bool {
	f.Window.Find(&f.Jobs, l.Input)
	if j := f.ByPath[l.Input]; j != nil {
		return j.Row.Rule == name
	}
	known, _, err := f.Store.Known(name, l.Input)
	return err == nil && known.Job != l.Job
}

// nextSetting is when a file is to be looked at.
func (f *Flow) nextSetting(now time.Time) (at time.Time, ok bool) {
	if len(f.again.files) > 0 && f.Unsettled() < maxAgain {
		return now, true
	}
	for _, due := range f.again.due {
		if !ok || due.Before(at) {
			at, ok = due, true
		}
	}
	return at, ok
}
