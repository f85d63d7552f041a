package engine

import (
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/notation"
	"stilltide/internal/core/notice"
	"stilltide/internal/wire"
)

// A pool that cannot be used is said at once, and those who want to hear of trouble are told
// after a minute, once; meanwhile its rules are held, and no timer stands that has passed.
func TestAPoolThatIsAway(t *testing.T) {
	dir := t.TempDir()
	_, err := wire.MakeKey(filepath.Join(dir, "w.nk"))
	require.NoError(t, err)
	f, diags := notation.Parse(filepath.Join(dir, "stilltide.yaml"), []byte(`version: 1
fleet: {server: "nats://127.0.0.1:1", key_file: w.nk}
notify: {on: blocked, to: log}
rules:
  - {name: charts, watch: in, pool: heavy, run: "true", processed: done}
`))
	require.Empty(t, diags)
	var mu sync.Mutex
	var said []string
	var told []notice.Event
	e, err := Open(Options{Rules: f, Said: func(text string) { said = append(said, text) },
		Notice: func(ev notice.Event) {
			mu.Lock()
			defer mu.Unlock()
			told = append(told, ev)
		}})
	require.NoError(t, err)
	defer e.Close()
	e.hub.Start(f.Channels)
	count := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(told)
	}
	now := time.Now()
	e.usePools(now)
	require.Len(t, said, 1)
	require.Contains(t, said[0], "the engine at nats://127.0.0.1:1 is away")
	require.NotEmpty(t, e.flow.Away()["charts"])
	due, ok := e.pools.next()
	require.True(t, ok)
	require.Equal(t, now.Add(tellAwayAfter), due)
	e.usePools(due.Add(-time.Millisecond))
	require.Zero(t, count())
	e.usePools(due)
	e.usePools(due.Add(time.Hour))
	_, ok = e.pools.next()
	require.False(t, ok, "nothing is due any more")
	e.hub.Close()
	require.Equal(t, 1, count())
	require.Equal(t, notice.Blocked, told[0].Kind)
	require.Len(t, said, 1)
}
