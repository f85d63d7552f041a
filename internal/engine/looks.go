package engine

import (
	"runtime"
	"sync"

	"stilltide/internal/core/file"
)

// seen is what a look at a path saw.
type seen struct {
	facts file.Facts
	err   error
}

const (
	lookTogether = 64  // from how many paths on it pays to look with several goroutines
	maxLooks     = 512 // so that a decision soon follows its look
	maxLookers   = 8
)

// lookAll looks at up to maxLooks paths, with several goroutines if they are
// many, so that a burst is not held up by the time that one look takes. What it
// gives is good until the next call.
func (f *flow) lookAll(paths []string) []seen {
	looks := f.looks[:len(paths)]
	share := len(paths)
	if share >= lookTogether {
		lookers := min(runtime.GOMAXPROCS(0), maxLookers)
		share = (share + lookers - 1) / lookers
	}
	var others sync.WaitGroup
	for from := share; from < len(paths); from += share {
		to := min(from+share, len(paths))
		others.Go(func() { f.lookInto(looks[from:to], paths[from:to]) })
	}
	f.lookInto(looks[:share], paths[:share])
	others.Wait()
	return looks
}

func (f *flow) lookInto(looks []seen, paths []string) {
	for i, path := range paths {
		looks[i].facts, looks[i].err = f.look(path)
	}
}
