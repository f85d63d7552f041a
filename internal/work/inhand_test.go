package work

import (
	"testing"

	"github.com/stretchr/testify/require"

	"stilltide/internal/core/job"
)

// Of two jobs that are about to put a file in one place, the first has it, until the other one is there.
func TestAPlaceIsInOneHand(t *testing.T) {
	var h InHand
	move := func(id int64, state job.PlacementState) *job.Placement {
		return &job.Placement{Job: id, Kind: job.Moved, Source: "/in/a", Target: "/in/b", State: state}
	}
	require.NoError(t, h.Take(move(1, job.Intended)))
	require.NoError(t, h.Take(move(2, job.Intended)))
	require.True(t, h.HeldBesides(2, "/in/b"))
	require.False(t, h.HeldBesides(1, "/in/b"))
	h.Has(move(2, job.Done))
	require.True(t, h.HeldBesides(1, "/in/b"))
	h.Leave(2)
	require.False(t, h.HeldBesides(1, "/in/b"))
}
