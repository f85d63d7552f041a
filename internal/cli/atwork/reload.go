package atwork

import (
	"bytes"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/watchfs"
)

// rereader reads the rules again when they differ from what was read, be it before the watch
// began. Errors are told and change nothing.
type rereader struct {
	a       *app
	e       *engine.Engine
	inUse   *rule.File
	watcher *watchfs.Watcher
	folders map[string]int  // where the rules files lie, and how far below
	endings map[string]bool // of their names
	more    bool            // the rules file names others
	gone    time.Time       // since when the rules file cannot be read; zero if it can
	said    bool            // that was said
}

const (
	// settledAfter is how long nothing must happen to the rules files: an editor may write several times.
	settledAfter = 200 * time.Millisecond
	// goneAfter is how long a rules file may be away before that is said: an editor may replace it.
	goneAfter = 2 * time.Second
)

// reloadOnChange starts a rereader. The returned function ends it.
func (a *app) reloadOnChange(f *rule.File, e *engine.Engine) (stop func(), err error) {
	w, err := watchfs.New(watchfs.Options{})
	if err != nil {
		return nil, err
	}
	r := &rereader{a: a, e: e, inUse: f, watcher: w}
	r.look(f)
	var done sync.WaitGroup
	end := make(chan struct{})
	done.Go(func() { r.run(end) })
	return func() {
		close(end)
		done.Wait()
		w.Close()
	}, nil
}

// look watches where the files of these rules lie, and those of the rules in use.
func (r *rereader) look(f *rule.File) {
	r.folders, r.endings, r.more = map[string]int{}, map[string]bool{}, false
	for _, one := range []*rule.File{r.inUse, f} {
		r.folders[one.Base] = max(r.folders[one.Base], 0)
		for _, path := range append([]string{one.Path}, one.Included...) {
			r.folders[filepath.Dir(path)] = max(r.folders[filepath.Dir(path)], 0)
			r.endings[filepath.Ext(path)] = true
		}
		for _, g := range one.More {
			r.more = true
			folder, below := globFolder(one.Base, g.S)
			r.folders[folder] = max(r.folders[folder], below)
			r.endings[filepath.Ext(g.S)] = true
		}
	}
	r.watcher.Want(r.folders)
}

// globFolder is the folder that a glob of more_rules looks in, and how many levels below it.
func globFolder(base, glob string) (folder string, below int) {
	if !filepath.IsAbs(glob) {
		glob = filepath.Join(base, glob)
	}
	for folder = filepath.Dir(glob); strings.ContainsAny(folder, "*?["); folder = filepath.Dir(folder) {
		below++
	}
	return folder, below
}

// concerns reports whether an event may have changed the rules.
func (r *rereader) concerns(ev watchfs.Event) bool {
	if _, own := r.folders[ev.Path]; own || ev.Dir {
		return own
	}
	return r.endings[filepath.Ext(ev.Path)]
}

func (r *rereader) run(end <-chan struct{}) {
	var settled <-chan time.Time
	for {
		select {
		case <-end:
			return
		case batch := <-r.watcher.Events():
			if slices.ContainsFunc(batch, r.concerns) {
				settled = time.After(settledAfter)
			}
		case now := <-settled:
			settled = nil
			if again := r.read(now); again > 0 {
				settled = time.After(again)
			}
		}
	}
}

// read reads the rules, and uses them if they have changed. again is when that is to be done
// anew, 0 if nothing need happen.
func (r *rereader) read(now time.Time) (again time.Duration) {
	src, err := os.ReadFile(r.inUse.Path)
	if err != nil {
		return r.missing(err, now)
	}
	if !r.more && !r.said && bytes.Equal(src, r.a.Texts) {
		r.gone = time.Time{}
		return 0
	}
	f, diags, texts := console.ParseRules(r.inUse.Path, src)
	changed := !bytes.Equal(texts, r.a.Texts) || r.said
	r.gone, r.said = time.Time{}, false
	if !changed {
		return 0
	}
	r.a.Texts = texts
	r.look(f)
	if r.a.reload(r.inUse, f, diags, r.e) {
		r.inUse = f
	}
	return 0
}

// missing says, once, that the rules file cannot be read, when that lasts.
func (r *rereader) missing(err error, now time.Time) (again time.Duration) {
	if r.gone.IsZero() {
		r.gone = now
	}
	if left := goneAfter - now.Sub(r.gone); left > 0 {
		return left
	}
	if !r.said {
		r.said = true
		text := filepath.Base(r.inUse.Path) + " cannot be read (" + console.Reason(err) + ")" + stayInUse
		r.a.Warn("%s", text)
		r.a.rejected(r.e, text)
	}
	return 0
}

// reload has the engine use changed rules. It is false if they cannot be used.
func (a *app) reload(old, f *rule.File, diags diag.List, e *engine.Engine) bool {
	name := filepath.Base(old.Path)
	if diags.Failed() {
		n, _ := diags.Count()
		text := name + " changed and has " + plan.Plural(n, "error") + stayInUse
		a.Alarm("%s:", text)
		a.PrintDiagnostics(a.Err, a.StyleErr, diags)
		a.rejected(e, text+"; stilltide check shows them")
		return false
	}
	if err := a.trusted(f); err != nil {
		a.Alarm("%v%s", err, stayInUse)
		a.rejected(e, err.Error()+stayInUse)
		return false
	}
	if f.StateFolder() != old.StateFolder() {
		text := "state_folder: changed, which needs a restart" + stayInUse
		a.Warn("%s", text)
		a.rejected(e, text)
		return false
	}
	if !reflect.DeepEqual(reach(old), reach(f)) {
		text := "fleet: changed, which needs a restart" + stayInUse
		a.Warn("%s", text)
		a.rejected(e, text)
		return false
	}
	if name, was := takesOver(old, f); name != "" {
		text := "the rule " + was + " has the new name " + name + ", which needs a restart" + stayInUse
		a.Warn("%s", text)
		a.rejected(e, text)
		return false
	}
	if f.Listen.S != old.Listen.S {
		a.Warn("%s", "listen: changed, which needs a restart; all else is read again")
	}
	a.WarnOfForgotten(f)
	if err := e.Reload(f); err != nil {
		a.Note("%v", err)
		return false
	}
	a.Note("%s was read again: %s", name, plan.Plural(len(f.All()), "rule"))
	return true
}

// takesOver finds a rule that has another name now, which a running watcher cannot give it: what
// it remembers, and its jobs, are under the old one.
func takesOver(old, f *rule.File) (name, was string) {
	renamed := f.Renamed()
	for _, r := range old.All() {
		if name := renamed[r.Name.S]; name != "" {
			return name, r.Name.S
		}
	}
	return "", ""
}

// reach is how rules reach other machines, nil if none wants any.
func reach(f *rule.File) *rule.Fleet {
	if f.Fleet == nil || len(f.Pools()) == 0 {
		return nil
	}
	way := *f.Fleet
	way.Pos = rule.Pos{}
	for _, at := range []*rule.Pos{&way.KeyFile.Pos, &way.CA.Pos, &way.Lease.Pos} {
		*at = rule.Pos{}
	}
	way.Server = nil
	for _, s := range f.Fleet.Servers() {
		way.Server = append(way.Server, rule.Text{S: s})
	}
	return &way
}

// stayInUse ends a sentence that says why changed rules cannot be used.
const stayInUse = "; the rules from before stay in use"

// rejected has the watcher tell why it does not use changed rules, if it does not end.
func (a *app) rejected(e *engine.Engine, why string) {
	_ = e.RulesRejected(why) // it fails for a watcher that ends, which tells nobody
}
