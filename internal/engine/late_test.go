package engine

import (
	"fmt"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
	"stilltide/internal/core/turn"
	"stilltide/internal/core/underway"
)

// While a disk is full only some placements are tried each second, however many wait; all of them
// go when it has room again.
func TestAFullDiskIsTriedBySome(t *testing.T) {
	const files = 300
	r := newReader(t, "  - {name: move, watch: in, debounce: 0s, processed: done}\n")
	queued, together := underway.MaxQueued, underway.MaxTogether
	underway.MaxQueued, underway.MaxTogether = 1000, 1000
	t.Cleanup(func() { underway.MaxQueued, underway.MaxTogether = queued, together })
	var waiting []*turn.Placing
	pass := func(long time.Duration) {
		r.now = r.now.Add(long)
		r.Advance(r.now)
		waiting = append(waiting, r.Effects().Places...)
		r.Took()
	}
	end := func(err error) (n int) {
		n = len(waiting)
		for _, p := range waiting {
			e := turn.PlacingEnd{ID: p.ID, Leads: p.Leads, Err: err}
			if err == nil {
				e.Moved = []turn.Moved{{Source: p.Moves[0].Record.Source, Target: p.Moves[0].Record.Target}}
			}
			r.PlacedEnd(e, r.now)
		}
		waiting = nil
		return n
	}
	var names []string
	for i := range files {
		names = append(names, fmt.Sprint("f", i))
	}
	r.dropQuietly(names...)
	pass(time.Second)
	require.Equal(t, files, end(syscall.ENOSPC), "each is tried once")
	for range 90 {
		for range 10 {
			pass(100 * time.Millisecond)
		}
		require.LessOrEqual(t, end(syscall.ENOSPC), 16)
		at, more := r.Wake(r.now)
		require.True(t, more)
		require.LessOrEqual(t, at.Sub(r.now), time.Second, "it is tried again soon")
	}
	placed := 0
	for i := range 70 {
		pass(time.Second)
		placed += end(nil)
		if i == 2 {
			require.Greater(t, placed, 50, "one that goes lets the others go")
		}
	}
	require.Equal(t, files, placed)
	tally, err := r.store.Tally()
	require.NoError(t, err)
	require.Equal(t, files, tally["move"][job.Processed])
}
