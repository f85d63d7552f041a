package engine

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/plan"
	"stilltide/internal/sift"
	"stilltide/internal/telling"
	"stilltide/internal/watchfs"
)

// A rule with an order begins nothing until all of its folders were looked
// through, or cannot be; one without begins at once.
func TestAnOrderWaitsForAllThatIsThere(t *testing.T) {
	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, filepath.FromSlash(name)) }
	rules, diags := notation.Parse(path("stilltide.yaml"), []byte(`version: 1
rules:
  - {name: ordered, watch: [a, b], match: "*.csv", order: name, debounce: 0s, processed: done}
  - {name: plain, watch: [a, b], debounce: 0s, processed: done}`))
	require.Empty(t, diags)
	f := newFlow(plan.NewSet(rules), newStore(t), watchfs.Stat)
	e := &Engine{o: Options{Rules: rules}, flow: f, folders: map[string]*folderState{}, tell: telling.New(nil,
		f.Rules, ""),
		sift: sift.New(newStore(t), false)}
	require.Len(t, e.wanted(), 2)
	now := time.Now()
	found := func(name string) (begun []string) {
		now = now.Add(time.Millisecond)
		if name != "" {
			require.NoError(t, os.MkdirAll(filepath.Dir(path(name)), 0o777))
			require.NoError(t, os.WriteFile(path(name), nil, 0o666))
			bring(f, watchfs.Event{Kind: watchfs.Found, Path: path(name)}, now)
		}
		now = now.Add(time.Hour)
		f.Advance(now)
		for _, p := range f.Effects().Places {
			begun = append(begun, filepath.Base(p.Moves[0].Record.Source))
		}
		f.Took()
		return begun
	}
	require.Empty(t, found("b/2.csv"))
	require.Equal(t, []string{"note.txt"}, found("b/note.txt"))
	f.LookedThrough(path("b"))
	require.Empty(t, found("a/3.csv"))
	require.Empty(t, found("a/1.csv"))
	e.folderEvent(watchfs.Event{Kind: watchfs.Trouble, Path: path("a"), Dir: true, Err: os.ErrPermission})
	require.Equal(t, []string{"1.csv", "3.csv", "2.csv"}, found(""), "by path")
	require.Equal(t, []string{"0.csv"}, found("a/0.csv"), "nothing is waited for any more")
}
