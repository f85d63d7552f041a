package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"sync"
	"time"

	"stilltide/internal/core/rule"
	"stilltide/internal/engine"
	"stilltide/internal/watchfs"
)

// reloadOnChange reads the rules again when their file changes. Mistakes are
// told and change nothing. The returned function ends it.
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
	before := texts(f.Path)
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
				if now := texts(f.Path); !bytes.Equal(now, before) {
					before = now
					if src, err := os.ReadFile(f.Path); err == nil {
						a.reload(f, src, e)
					}
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

// texts joins the rules file and all it includes, to tell whether any changed.
func texts(path string) []byte {
	src, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	all := bytes.Clone(src)
	rule.ParseAll(path, src, func(glob string) ([]rule.Source, error) {
		sources, err := loadIncluded(glob)
		for _, s := range sources {
			all = append(append(all, s.Path...), s.Text...)
		}
		return sources, err
	})
	return all
}

// globFolders are the folders that include: looks in.
func globFolders(f *rule.File) []string {
	var paths []string
	for _, g := range f.Include {
		if filepath.IsAbs(g.S) {
			paths = append(paths, g.S)
		} else {
			paths = append(paths, filepath.Join(f.Base, g.S))
		}
	}
	return paths
}

func (a *app) reload(old *rule.File, src []byte, e *engine.Engine) {
	name := filepath.Base(old.Path)
	f, diags := rule.ParseAll(old.Path, src, loadIncluded)
	if diags.Failed() {
		n, _ := diags.Count()
		a.alarm("%s", name+" changed and has "+plural(n, "mistake")+"; the rules from before stay in use:")
		a.printDiagnostics(a.err, a.styleErr, diags)
		_ = e.Trouble(name + " changed and has " + plural(n, "mistake") + "; the rules from before stay in use; stilltide check shows them") // a watcher that ends tells nobody
		return
	}
	if f.StateFolder() != old.StateFolder() {
		a.warn("%s", "state: changed, which needs a restart; the rules from before stay in use")
		return
	}
	if f.Listen.S != old.Listen.S {
		a.warn("%s", "listen: changed, which needs a restart; all else is read again")
	}
	if err := e.Reload(f); err != nil {
		a.note("%v", err)
		return
	}
	a.note("%s was read again: %s", name, plural(len(f.All()), "rule"))
}
