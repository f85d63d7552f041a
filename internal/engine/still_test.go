//go:build linux

package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A group whose file changed waits until that has settled, or is gone. Its other files may have
// changed meanwhile, of which nothing was told yet: they are looked at again, too, before it starts.
func TestAGroupThatWaitedIsLookedAtAsAWhole(t *testing.T) {
	for what, then := range map[string]func(path string) error{
		"the first file settles": func(string) error { return nil },
		"the first file goes":    os.Remove,
	} {
		r := newReader(t, `  - {name: set, watch: in, match: "<n>.{a,b}", debounce: 0s, group: {by: "{n}", need: ["*.a", "*.b"]}, run: x}
  - {name: work, watch: in, match: "*.w", debounce: 0s, run: x}
`)
		path := func(name string) string { return filepath.Join(r.dir, "in", name) }
		grow := func(name string) {
			require.NoError(t, os.WriteFile(path(name), []byte("longer than it was: "+name), 0o666))
		}
		r.drop("first.w", "1.a")
		r.drop("1.b")
		require.Equal(t, []string{"first.w"}, r.begun, what)
		grow("1.a") // nobody has told yet
		r.end()
		require.Empty(t, r.begun, "%s: it changed", what)
		require.NoError(t, then(path("1.a")), what)
		grow("1.b")
		r.pass(time.Second)
		require.Empty(t, r.begun, "%s: the other has changed", what)
		r.pass(time.Second)
		require.Len(t, r.begun, 1, what)
	}
}
