package atwork

import (
	"bytes"
	"os"
	"path/filepath"
	"reflect"
	"sync"
	"time"

	"stilltide/internal/cli/console"
	"stilltide/internal/core/diag"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/watchfs"
)

// reloadOnChange reads the rules again when they differ from what was read, be
// it before the watch began. Errors are told and change nothing. The returned
// function ends it.
func (a *app) reloadOnChange(f *rule.File, e *engine.Engine) (stop func(), err error) {
	w, err := watchfs.New(watchfs.Options{})
	if err != nil {
		return nil, err
	}
	folders := map[string]int{f.Base: 0}
	for _, p := range append(f.Included, globFolders(f)...) {
		folders[filepath.Dir(p)] = 0
	}
	w.Want(folders)
	var done sync.WaitGroup
	end := make(chan struct{})
	done.Go(func() {
		var settled <-chan time.Time
		for {
			select {
			case <-end:
				return
			case batch := <-w.Events():
				for _, ev := range batch {
					if !ev.Dir && filepath.Ext(ev.Path) == filepath.Ext(f.Path) {
						settled = time.After(200 * time.Millisecond) // an editor may write several times
					}
				}
			case <-settled:
				settled = nil
				src, err := os.ReadFile(f.Path)
				if err != nil {
					continue // an editor is replacing it
				}
				if now, diags, texts := console.ParseRules(f.Path, src); !bytes.Equal(texts, a.Texts) {
					a.Texts = texts
					a.reload(f, now, diags, e)
				}
			}
		}
	})
	return func() {
		close(end)
		done.Wait()
		w.Close()
	}, nil
}

// globFolders are the folders that include: looks in.
func globFolders(f *rule.File) []string {
	var paths []string
	for _, g := range f.More {
		if filepath.IsAbs(g.S) {
			paths = append(paths, g.S)
		} else {
			paths = append(paths, filepath.Join(f.Base, g.S))
		}
	}
	return paths
}

func (a *app) reload(old, f *rule.File, diags diag.List, e *engine.Engine) {
	name := filepath.Base(old.Path)
	if diags.Failed() {
		n, _ := diags.Count()
		text := name + " changed and has " + plan.Plural(n, "error") + stayInUse
		a.Alarm("%s:", text)
		a.PrintDiagnostics(a.Err, a.StyleErr, diags)
		a.rejected(e, text+"; stilltide check shows them")
		return
	}
	if err := a.trusted(f); err != nil {
		a.Alarm("%v%s", err, stayInUse)
		a.rejected(e, err.Error()+stayInUse)
		return
	}
	if f.StateFolder() != old.StateFolder() {
		text := "state_folder: changed, which needs a restart" + stayInUse
		a.Warn("%s", text)
		a.rejected(e, text)
		return
	}
	if !reflect.DeepEqual(reach(old), reach(f)) {
		text := "fleet: changed, which needs a restart" + stayInUse
		a.Warn("%s", text)
		a.rejected(e, text)
		return
	}
	if name, was := takesOver(old, f); name != "" {
		text := "the rule " + was + " has the new name " + name + ", which needs a restart" + stayInUse
		a.Warn("%s", text)
		a.rejected(e, text)
		return
	}
	if f.Listen.S != old.Listen.S {
		a.Warn("%s", "listen: changed, which needs a restart; all else is read again")
	}
	a.WarnOfForgotten(f)
	if err := e.Reload(f); err != nil {
		a.Note("%v", err)
		return
	}
	a.Note("%s was read again: %s", name, plan.Plural(len(f.All()), "rule"))
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
