package placing

import (
	"fmt"
	"testing"
	"time"

	"stilltide/internal/core/plan"
	"stilltide/internal/core/turn"

	"github.com/stretchr/testify/require"
)

// Events wait while many moves do and those go on; not for long if they do not.
func TestWhenEventsWait(t *testing.T) {
	now := time.Now()
	q := placeQueue{kick: make(chan struct{}, 1)}
	held := func(after time.Duration) bool {
		until, is := q.holdsUp(MaxWaiting, now.Add(after))
		require.True(t, !is || until.Equal(q.taken.Add(Patience)))
		return is
	}
	q.add(make([]*turn.Placing, MaxWaiting+MaxPlaced))
	require.False(t, held(0), "nothing was taken yet, so nobody knows how quick they are")
	require.Len(t, q.take(MaxPlaced), MaxPlaced)
	q.taken = now
	require.True(t, held(0))
	require.True(t, held(Patience-1))
	require.False(t, held(Patience), "the batch takes long")
	q.take(1)
	q.taken = now
	require.False(t, held(0), "they have become few enough")
}

// What is renamed on a file system that may not answer goes abreast; copies to it go two at a time; and what goes to
// the same name goes one after the other.
func TestWhatGoesAbreast(t *testing.T) {
	for workers := range 2 * MaxWithin {
		way := &lane{workers: workers}
		require.Equal(t, workers < MaxCopies, way.wants(goes{unsure: true}))
		require.Equal(t, workers < MaxWithin, way.wants(goes{unsure: true, within: true}))
	}
	way := &lane{workers: 100}
	l := &lanes{open: map[string]*lane{"far": way}}
	for i := range 20 {
		for _, name := range []string{fmt.Sprint("copy", i), fmt.Sprint("within", i), "same"} {
			p := &turn.Placing{Moves: []turn.Move{{To: plan.Spot{Root: "/far", Name: name}}}}
			way.waiting = append(way.waiting, goes{Placing: p, unsure: true, within: name[0] != 'c'})
		}
	}
	taken := map[string]int{}
	for {
		p, some := l.next("far", way)
		if !some {
			break
		}
		taken[p.Moves[0].To.Name[:4]]++
	}
	require.Equal(t, map[string]int{"copy": MaxCopies, "with": 20, "same": 1}, taken)
	require.Len(t, way.waiting, 60-MaxCopies-20-1)
	way.copying--
	p, some := l.next("far", way)
	require.True(t, some)
	require.Equal(t, "copy2", p.Moves[0].To.Name, "one is over, and the next goes")
}
