package engine

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/file"
	"stilltide/internal/core/flow"
	"stilltide/internal/core/turn"
	"stilltide/internal/watchfs"
)

// However many paths there are, each is looked at once, what was seen stands at
// its place, and a look that fails takes nothing from the others.
func TestLooksTogether(t *testing.T) {
	for _, n := range []int{0, 1, lookTogether - 1, lookTogether, lookTogether + 1, flow.MaxLooks - 1, flow.MaxLooks} {
		var mu sync.Mutex
		asked := map[string]int{}
		f := eyes{look: func(_ *watchfs.Looker, path string) (file.Facts, error) {
			mu.Lock()
			defer mu.Unlock()
			asked[path]++
			if len(asked)%7 == 0 {
				return file.Facts{}, fmt.Errorf("%s cannot be read", path)
			}
			return file.Facts{Exists: true, Size: int64(len(path))}, nil
		}}
		for i := range f.looks {
			f.looks[i] = turn.Look{Facts: file.Facts{Size: -1}, Err: fmt.Errorf("of an earlier round")}
		}
		paths := make([]string, n)
		for i := range paths {
			paths[i] = fmt.Sprintf("/in/%0*d", 1+i, i)
		}
		looks := f.LookAll(paths)
		require.Len(t, looks, n)
		require.Len(t, asked, n)
		for i, path := range paths {
			require.Equal(t, 1, asked[path])
			if looks[i].Err != nil {
				require.EqualError(t, looks[i].Err, path+" cannot be read")
				require.Zero(t, looks[i].Facts)
				continue
			}
			require.Equal(t, int64(len(path)), looks[i].Facts.Size, "%d of %d", i, n)
		}
	}
}
