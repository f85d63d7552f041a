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
	lookTogether = 64 // from how many paths on it pays to look with several goroutines
	mostLookers  = 8
)

// lookAll looks at many paths, with several goroutines, so that a burst is not
// held up by the time that one look takes.
func (f *flow) lookAll(paths []string) []seen {
	f.looks = append(f.looks[:0], make([]seen, len(paths))...)
	share := len(paths)
	if share >= lookTogether {
		lookers := min(runtime.GOMAXPROCS(0), mostLookers)
		share = (share + lookers - 1) / lookers
	}
	var others sync.WaitGroup
	for from := share; from < len(paths); from += share {
		to := min(from+share, len(paths))
		others.Go(func() { f.lookInto(f.looks[from:to], paths[from:to]) })
	}
	f.lookInto(f.looks[:min(share, len(paths))], paths[:min(share, len(paths))])
	others.Wait()
	return f.looks
}

func (f *flow) lookInto(looks []seen, paths []string) {
	for i, path := range paths {
		looks[i].facts, looks[i].err = f.look(path)
	}
}
