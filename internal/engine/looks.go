package engine

import (
	"runtime"
	"sync"

	"stilltide/internal/core/file"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/plan"
	"stilltide/internal/core/rule"
	"stilltide/internal/core/turn"
	"stilltide/internal/look"
	"stilltide/internal/watchfs"
)

// eyes look at files for the flow.
type eyes struct {
	look   func(by *watchfs.Looker, path string) (file.Facts, error)
	unsure func(path string) bool   // nil for never
	looks  [flow.MaxLooks]turn.Look // of LookAll
}

func (e *eyes) Look(path string) (file.Facts, error) {
	var by watchfs.Looker
	defer by.Close()
	return e.look(&by, path)
}

func (e *eyes) Stat(path string) (file.Facts, error) { return watchfs.Stat(path) }

func (e *eyes) Complete(set *plan.Set, r *rule.Rule, path string, facts *file.Facts) {
	look.Complete(set, r, path, facts)
}

func (e *eyes) Unsure(path string) bool { return e.unsure != nil && e.unsure(path) }

const (
	lookTogether = 64 // from how many paths on it pays to look with several goroutines
	maxLookers   = 8
)

// LookAll looks at up to MaxLooks paths, with several goroutines if they are
// many, so that a burst is not held up by the time that one look takes. What it
// gives is good until the next call.
func (e *eyes) LookAll(paths []string) []turn.Look {
	looks := e.looks[:len(paths)]
	share := len(paths)
	if share >= lookTogether {
		lookers := min(runtime.GOMAXPROCS(0), maxLookers)
		share = (share + lookers - 1) / lookers
	}
	var others sync.WaitGroup
	for from := share; from < len(paths); from += share {
		to := min(from+share, len(paths))
		others.Go(func() { e.lookInto(looks[from:to], paths[from:to]) })
	}
	e.lookInto(looks[:share], paths[:share])
	others.Wait()
	return looks
}

func (e *eyes) lookInto(looks []turn.Look, paths []string) {
	var by watchfs.Looker
	defer by.Close()
	for i, path := range paths {
		looks[i].Facts, looks[i].Err = e.look(&by, path)
	}
}
