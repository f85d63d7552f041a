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
	w.Want(map[string]int{f.Base: 0})
	src, _ := os.ReadFile(f.Path)
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
					if ev.Path == f.Path && ev.Kind != watchfs.Removed {
						settled = time.After(200 * time.Millisecond) // an editor may write several times
					}
				}
			case <-settled:
				settled = nil
				now, err := os.ReadFile(f.Path)
				if err == nil && !bytes.Equal(now, src) {
					src = now
					a.reload(f, now, e)
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

func (a *app) reload(old *rule.File, src []byte, e *engine.Engine) {
	name := filepath.Base(old.Path)
	f, diags := rule.Parse(old.Path, src)
	if diags.Failed() {
		n, _ := diags.Count()
		a.note("%s", a.styleErr.bad(name+" changed and has "+plural(n, "mistake")+"; the rules from before stay in use:"))
		a.printDiagnostics(a.err, a.styleErr, diags)
		return
	}
	if f.StateFolder() != old.StateFolder() {
		a.note("%s", a.styleErr.warn("state: changed, which needs a restart; the rules from before stay in use"))
		return
	}
	if err := e.Reload(f); err != nil {
		a.note("%v", err)
		return
	}
	a.note("%s was read again: %s", name, plural(len(f.All()), "rule"))
}
