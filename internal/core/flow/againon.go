package flow

import (
	"fmt"
	"time"

	"stilltide/internal/core/fill"
	"stilltide/internal/core/job"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/settle"
)

// A rule may have all that it has handled be handled again when some file changes (again_on):
// settings, a template. What counts is the content. The ledger remembers those files beside the
// ones that rules handle, under a name that no rule can have.

// settingOf is the name under which a rule's setting files are remembered.
func settingOf(r *rule.Rule) string { return "/again_on/" + r.Name.S }

// setting is a file that may have changed, for one rule.
type setting struct{ rule, path string }

// again is what is to be handled again.
type again struct {
	due   map[setting]time.Time // files that may have changed: when they are looked at
	files []setting             // what is handled again, and for which rule
	pages []page                // what is read next of what is handled again
	asked map[string]bool       // rules that are blocked because many of their results are lost
	mass  map[string]bool       // rules of which a person says that many results may be made again
}

// page is where a rule's known files below a folder are read from.
type page struct{ rule, folder, after string }

// maxAgain bounds the files that are offered again at once.
const maxAgain = 500

// sayAgain is from how many files on it is said that they are handled again.
const sayAgain = 100

// settingChanged notes that a file may have changed on which rules handle all again.
func (f *Flow) settingChanged(path string, now time.Time) (is bool) {
	for _, r := range f.set.AgainOn(path) {
		if f.again.due == nil {
			f.again.due = map[setting]time.Time{}
		}
		f.again.due[setting{r.Name.S, path}] = now.Add(r.Debounce.Duration)
		is = true
	}
	return is
}

// settings looks at the files that are due, and offers what is to be handled again.
func (f *Flow) settings(now time.Time) {
	for s, due := range f.again.due {
		if due.After(now) {
			continue
		}
		delete(f.again.due, s)
		if r := f.set.Rule(s.rule); r != nil && f.hasChanged(r, s.path) {
			f.handleAll(r, s.path)
		}
	}
	for f.again.pending() && f.settle.Len() < maxAgain {
		if len(f.again.files) == 0 {
			f.readPage()
			continue
		}
		next := f.again.files[0]
		f.again.files = f.again.files[1:]
		if f.forced == nil {
			f.forced = map[string]*Chosen{}
		}
		f.forced[next.path] = &Chosen{Rules: []string{next.rule}, Again: true}
		f.Offer(next.path, false, settle.Nudged, now)
	}
}

// hasChanged reports whether a setting file has another content than the rule remembers. The
// first time it is only remembered.
func (f *Flow) hasChanged(r *rule.Rule, path string) bool {
	facts, err := f.eyes.Look(path)
	if err != nil {
		return false // the next look says it
	}
	known, was, err := f.store.Known(settingOf(r), path)
	switch {
	case err != nil:
		return false
	case !facts.Exists && was:
		f.store.Forget(settingOf(r), path)
		return true
	case !facts.Exists || was && known.Facts.Size == facts.Size && known.Facts.Mod == facts.Mod:
		return false
	}
	hash, err := f.eyes.Hash(path, facts.Size)
	if err != nil {
		return false
	}
	f.store.Remember(job.Known{Rule: settingOf(r), File: path, Facts: facts, Hash: hash})
	return was && known.Hash != hash
}

// handleAll has all that a rule has handled, and that is still there, be handled again.
func (f *Flow) handleAll(r *rule.Rule, why string) {
	for _, folder := range r.Folders {
		f.again.pages = append(f.again.pages, page{r.Name.S, folder, ""})
	}
	if n := f.store.KnownCount(r.Name.S); n > sayAgain {
		f.out.Said = append(f.out.Said, fmt.Sprintf("%s handles %d files again, because %s has changed", r.Name.S, n,
			why))
	}
}

// pending reports whether something is left to be handled again.
func (a *again) pending() bool { return len(a.files)+len(a.pages) > 0 }

// readPage reads the next page of what is handled again.
func (f *Flow) readPage() {
	p := f.again.pages[0]
	f.again.pages = f.again.pages[1:]
	files, next, err := f.store.KnownFiles(p.rule, p.folder, p.after)
	if err != nil {
		return // the ledger says itself what is wrong
	}
	for _, path := range files {
		f.again.files = append(f.again.files, setting{p.rule, path})
	}
	if next != "" {
		f.again.pages = append(f.again.pages, page{p.rule, p.folder, next})
	}
}

// Repair has the files handled again whose results are lost, of so many in all. When too many
// are, something happened to their folder: then a person decides.
func (f *Flow) Repair(name string, inputs []string, all int, now time.Time) {
	byHand := f.chosen.Again && f.chosen.hasRule(name) // all of it is made again anyway
	if len(inputs) == 0 || f.set.Rule(name) == nil || f.troubles[name] != "" || byHand {
		return
	}
	if len(inputs) > massRemoval && 2*len(inputs) > all && !f.again.mass[name] {
		mark(&f.again.asked, name)
		f.trouble(name, fmt.Sprintf("%d of its %d results are lost or changed, and nothing was done about it; "+
			"stilltide resume %s makes them again (without a watcher: stilltide sweep --again --rule %s)",
			len(inputs), all, fill.QuoteWord(name), fill.QuoteWord(name)))
		return
	}
	delete(f.again.mass, name)
	for _, path := range inputs {
		f.again.files = append(f.again.files, setting{name, path})
	}
	f.settings(now)
}

// nextSetting is when a file is to be looked at.
func (f *Flow) nextSetting(now time.Time) (at time.Time, ok bool) {
	if f.again.pending() && f.settle.Len() < maxAgain {
		return now, true
	}
	for _, due := range f.again.due {
		if !ok || due.Before(at) {
			at, ok = due, true
		}
	}
	return at, ok
}
