package work

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"stilltide/internal/watchfs"
)

// Kept is the folder of what placements replaced. It is bounded: the oldest goes first, but for what
// a placement that is under way may still need.
type Kept struct {
	folder string

	mu     sync.Mutex
	most   int64           // bytes
	total  int64           // bytes that are there
	known  bool            // the total is: the folder was read
	needed map[string]bool // by path
}

// NewKept is the folder of a state folder, without a bound at first.
func NewKept(state string) *Kept {
	return &Kept{folder: filepath.Join(state, "kept"), most: math.MaxInt64, needed: map[string]bool{}}
}

// Bound says how many bytes are kept at most.
func (k *Kept) Bound(most int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.most = most
}

// Need notes paths where placements that begin may keep something.
func (k *Kept) Need(paths ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, path := range paths {
		k.needed[path] = true
	}
}

// Over notes that these placements are over, and makes room.
func (k *Kept) Over(paths ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	added := false
	for _, path := range paths {
		delete(k.needed, path)
		if info, err := os.Lstat(path); err == nil {
			added = true
			k.total += info.Size()
		}
	}
	if added {
		k.trim()
	}
}

// trim removes the oldest until a tenth of the bound is free, so that the folder is not read each time.
func (k *Kept) trim() {
	if k.known && k.total <= k.most {
		return
	}
	entries, err := os.ReadDir(k.folder)
	if err != nil {
		return
	}
	kept := map[string]fs.FileInfo{}
	k.total, k.known = 0, true
	for _, entry := range entries {
		if info, err := entry.Info(); err == nil {
			kept[entry.Name()] = info
			k.total += info.Size()
		}
	}
	if k.total <= k.most {
		return
	}
	for _, name := range oldestFirst(kept) {
		if k.total <= k.most-k.most/10 {
			return
		}
		path := filepath.Join(k.folder, name)
		if !k.needed[path] && os.Remove(path) == nil {
			k.total -= kept[name].Size()
		}
	}
}

// oldestFirst orders names by when they came here: a second name changes a file's change time.
func oldestFirst(kept map[string]fs.FileInfo) []string {
	since := func(name string) int64 { return int64(watchfs.Facts(kept[name]).Change) }
	return slices.SortedFunc(maps.Keys(kept), func(a, b string) int {
		return cmp.Or(cmp.Compare(since(a), since(b)), strings.Compare(a, b))
	})
}

// KeptPath is where a placement keeps what it replaces. Its number comes again when a
// ledger begins anew, so that alone is no name.
func KeptPath(state string, placement int64) string {
	return filepath.Join(state, "kept", fmt.Sprintf("%d-%08x", placement, rand.Uint64()))
}
