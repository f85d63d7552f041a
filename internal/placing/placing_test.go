package placing

import (
	"testing"
	"time"

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
